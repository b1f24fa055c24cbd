// Every edit by its name: type some of it, a length where it needs one, Enter.
import { readTime, understand } from "./times.js";

export function allEdits(story) {
  const { $, num, player, edit, wide, range, pieces, piece, hand, say, theSeam } = story;
  const dialog = document.getElementById("all"), text = document.getElementById("all-text"), list = document.getElementById("all-list");
  const onPiece = (f) => (n) => { const p = piece() || pieces().find((x) => x.at <= player.frame && player.frame < x.at + x.length); return p ? f(p, n) : say("Choose a piece first (G).", true); };
  const onCover = (f) => (n) => (story.chosen()?.kind === "cover" ? f(story.chosen().id, n) : say("Choose a cover first (V).", true));
  const onSound = (f) => (n) => (story.chosen()?.kind === "sound" ? f(story.chosen().id, n) : say("Choose a sound first: click its line.", true));
  const onSeam = (f) => (n) => { const s = theSeam(); return s ? f(s[2], n) : say("There is no seam in the story yet.", true); };
  const onRange = (f) => () => { const r = range(); return r ? f(r[0], r[1]) : say("Choose words or pieces first, or mark in and out (I, O).", true); };
  const onHand = (f) => (n) => { const h = hand(); return h ? f(h, n) : say("Pick something up from the shelf first: Enter on it.", true); };
  // three points: the story's marks (or the playhead), and the range in hand
  const points = (how, take, back) => onHand((h) => {
    const m = story.marks(), at = m.a ?? (back ? undefined : player.frame), until = m.b ?? undefined, params = { how, source: h.source, take };
    if (back) Object.assign(params, { until: until ?? player.frame, end: h.start + h.length }, m.a !== null ? { at: m.a } : { start: h.start });
    else { if (at !== undefined) params.at = at; params.start = h.start; if (until !== undefined && m.a !== null) params.until = until; else params.end = h.start + h.length; }
    return edit("place", params);
  });
  const ids = () => story.chosen()?.ids || (piece() ? [piece().id] : story.chosen()?.kind === "sound" ? [story.chosen().id] : []);
  // what an edit takes besides its name: a length, a step either way, a film's length in minutes, a number, or text
  const length = "length", delta = "delta", minutes = "minutes", number = "number", text_ = "text";
  const ALL = [
    ["Insert", "N", points("insert", "both")], ["Insert only its picture", "", points("insert", "picture")], ["Insert only its sound", "", points("insert", "sound")],
    ["Overwrite", "W", points("overwrite", "both")], ["Overwrite only the picture", "", points("overwrite", "picture")], ["Overwrite only the sound", "", points("overwrite", "sound")],
    ["Back-timed insert: ends at the out mark or the playhead", "", points("insert", "both", true)], ["Back-timed overwrite", "", points("overwrite", "both", true)], ["Back-timed cover", "", points("cover", "both", true)],
    ["Add at the end", "B", () => story.acts.add()], ["Replace the piece with what is picked up", "", onPiece((p) => onHand((h) => edit("replace_piece", { piece: p.id, source: h.source, start: h.start }))())],
    ["Take out, close up", "X", onRange((a, b) => wide("extract", { a, b }))], ["Lift, leave a space", "Shift X", onRange((a, b) => wide("lift", { a, b }))],
    ["Take out only the picture", "", onRange((a, b) => edit("take_only", { a, b, what: "picture" }))], ["Take out only the sound", "", onRange((a, b) => edit("take_only", { a, b, what: "sound" }))],
    ["Length of what is chosen: LENGTH", "", (n) => { const c = story.chosen(), id = c?.id ?? piece()?.id; if (!n) return say("Type the length it is to have: length 4s.", true); return id && c?.kind !== "seam" ? edit("set_length", { item: id, length: n }) : say("Choose a piece, a cover or a sound first.", true); }, length],
    ["Gap on all lanes as long as what is picked up", "Shift N", () => story.acts.gap()], ["Gap on all lanes: LENGTH", "", (n) => edit("insert_space", { at: player.frame, length: n ?? Math.round(player.fps), all_lanes: true }), length],
    ...story.lanes().flatMap((lane) => [[`Goes along with inserts and takes: ${lane}`, "", () => edit("set_along", { lane, on: true })], [`Stays at inserts and takes: ${lane}`, "", () => edit("set_along", { lane, on: false })]]),
    ["Go to a time: TIMECODE", "F", async (t) => { if (!t) { $("[data-act=time]").click(); return; } const got = await readTime(t, "moment", { now: player.frame, start: num($("[data-player]").dataset.start) }); if (got.error) say(got.error, true); else player.seek(got.frame); }, text_],
    ["Close this space", "", onPiece((p) => edit("close_space", { piece: p.id }))], ["Close all spaces", "", () => edit("close_space", {})],
    ["Space: LENGTH", "", (n) => edit("insert_space", { at: player.frame, length: n ?? Math.round(player.fps) }), length], ["Spread: a space of LENGTH between all pieces", "", (n) => edit("spread", { every: n ?? Math.round(2 * player.fps) }), length],
    ["Black card: LENGTH (3 s)", "", (n) => edit("insert_card", { at: player.frame, length: n ?? Math.round(3 * player.fps) }), length], ["Title card: TEXT", "", (t) => edit("insert_card", { at: player.frame, length: Math.round(3 * player.fps), text: t || "Title" }), text_],
    ["Colour of the card: #RRGGBB", "", (t) => onPiece((p) => edit("set_card", { piece: p.id, colour: t || "#000000" }))(), text_],
    ["Text of the card: TEXT", "", (t) => onPiece((p) => edit("set_card", { piece: p.id, text: t || "" }))(), text_],
    ["Split", "S", () => edit("split", { at: player.frame })], ["Join through", "", onPiece((p) => edit("join_through", { piece: p.id }))], ["Put back what was taken out after the piece", "R", onPiece((p) => edit("open_again", { piece: p.id }))],
    ["Slip the piece: LENGTH", "", (n) => onPiece((p) => edit("slip", { piece: p.id, delta: n ?? 1 }))(), delta], ["Slide the piece: LENGTH", "", (n) => onPiece((p) => edit("slide", { piece: p.id, delta: n ?? 1 }))(), delta],
    ["Roll the seam: LENGTH", "Alt ← →", (n) => onSeam((p) => edit("roll", { piece: p, delta: n ?? 1 }))(), delta], ["Match the length of the piece before", "", onPiece((p) => edit("match_length", { piece: p.id }))],
    ["Extend to the playhead", "", onPiece((p) => edit("extend_to", { piece: p.id, at: player.frame }))], ["Top: cut away up to the playhead", "", () => wide("top", { at: player.frame })], ["Tail: cut away from the playhead on", "", () => wide("tail", { at: player.frame })],
    ["Swap with the next piece", "Y", onPiece((p) => { const r = pieces(), i = r.findIndex((x) => x.id === p.id); return r[i + 1] ? edit("swap", { first: p.id, second: r[i + 1].id }) : say("There is no piece after this one.", true); })],
    ["Group what is chosen", "", () => edit("set_group", { ids: ids(), on: true })], ["Ungroup", "", () => edit("set_group", { ids: ids(), on: false })],
    ["Dissolve: LENGTH", "D", (n) => onSeam((p) => edit("set_blend", { piece: p, blend: "dissolve", length: n ?? Math.round(player.fps * 0.48) }))(), length], ["Dip to black: LENGTH", "", (n) => onSeam((p) => edit("set_blend", { piece: p, blend: "dip", length: n ?? Math.round(player.fps) }))(), length],
    ["Hard cut", "Shift D", onSeam((p) => edit("set_blend", { piece: p, blend: "cut" }))], ["Fade up at the beginning: LENGTH", "", (n) => edit("set_blend", { piece: pieces()[0]?.id ?? 0, blend: "dip", length: n ?? Math.round(player.fps) }), length],
    ["Fade out at the end: LENGTH", "", (n) => edit("set_blend", { piece: null, blend: "dip", length: n ?? Math.round(2 * player.fps) }), length], ["No fade at the beginning", "", () => edit("set_blend", { piece: pieces()[0]?.id ?? 0, blend: "cut" })], ["No fade at the end", "", () => edit("set_blend", { piece: null, blend: "cut" })],
    ["J-cut: sound LENGTH earlier", "", (n) => onSeam((p) => edit("split_edit", { piece: p, frames: -Math.abs(n ?? 8) }))(), length], ["L-cut: sound LENGTH later", "", (n) => onSeam((p) => edit("split_edit", { piece: p, frames: Math.abs(n ?? 8) }))(), length], ["Sound and picture together", "", onSeam((p) => edit("split_edit", { piece: p, frames: 0 }))],
    ["Crossfade the sound: LENGTH", "", (n) => onSeam((p) => edit("crossfade", { piece: p, frames: n ?? 6 }))(), length],
    ["Punch in: PERCENT", "", (n) => { const all = story.chosen()?.ids; return all ? edit("set_value", { to: all, setting: "zoom", value: Math.round(n ?? 125) }) : onPiece((p) => edit("set_value", { to: p.id, setting: "zoom", value: Math.round(n ?? 125) }))(); }, number],
    ["Cover", "C", () => story.acts.cover()], ["Cover fitted to the marks: retimed", "", onHand((h) => { const r = range(); return r ? edit("lay_cover", { source: h.source, at: r[0], until: r[1], start: h.start, end: h.start + h.length, fit: true }) : say("Choose words or mark in and out first.", true); })],
    ["Fill the marked stretch with the shot", "", onHand((h) => { const r = range(); return r ? edit("fill_space", { at: r[0], until: r[1], source: h.source, start: h.start }) : say("Choose words, a space, or mark in and out first.", true); })],
    ["Slip the cover: LENGTH", "", (n) => onCover((c) => edit("slip_cover", { cover: c, delta: n ?? 1 }))(), delta], ["Replace the cover with what is picked up", "", onCover((c) => onHand((h) => edit("replace_cover", { cover: c, source: h.source, start: h.start }))())],
    ["Retime the cover: show LENGTH of the shot", "", (n) => onCover((c) => (n ? edit("retime_cover", { cover: c, span: n }) : say("Type how much of the shot is shown: retime 8s.", true)))(), length],
    ["Cover's own sound on", "", onCover((c) => edit("set_value", { to: c, setting: "natural", value: true }))], ["Cover's own sound off", "", onCover((c) => edit("set_value", { to: c, setting: "natural", value: false }))], ["Cover to the playhead", "M", onCover((c) => edit("move_cover", { cover: c, at: player.frame }))], ["Cover one lane up", "", onCover((c) => edit("move_cover", { cover: c, at: num($(`.laid[data-cover="${c}"]`)?.dataset.at), lane: num($(`.laid[data-cover="${c}"]`)?.getAttribute("aria-label").match(/lane (\d+)/)?.[1] || 1) + 1 }))],
    ["Another camera at the playhead", "H", story.otherCamera],
    ["Lay the sound", "C", () => story.acts.cover()], ["Sound to the playhead", "", onSound((s) => edit("move_sound", { sound: s, at: player.frame }))], ["Sound keeps to the story's clock", "", onSound((s) => edit("move_sound", { sound: s, at: num($(`[data-sound="${s}"]`)?.dataset.at), clock_bound: true }))], ["Sound keeps to its word", "", onSound((s) => edit("move_sound", { sound: s, at: num($(`[data-sound="${s}"]`)?.dataset.at), clock_bound: false }))],
    ["Level of the sound: DECIBELS", "", (n) => onSound((s) => edit("set_value", { to: s, setting: "level", value: n ?? -6 }))(), number], ["Fade the sound in: LENGTH", "", (n) => onSound((s) => edit("set_value", { to: s, setting: "fade_in", value: n ?? Math.round(player.fps) }))(), length], ["Fade the sound out: LENGTH", "", (n) => onSound((s) => edit("set_value", { to: s, setting: "fade_out", value: n ?? Math.round(2 * player.fps) }))(), length],
    ["Heading: TEXT", "", (t) => onPiece((p) => edit("set_heading", { piece: p.id, heading: t || "" }))(), text_],
    ["Target length of this section: MINUTES", "", (n) => onPiece((p) => { const h = $(`[data-heading="${p.id}"]`); return h ? edit("set_heading", { piece: p.id, heading: h.dataset.text, target: n ?? 0 }) : say("Give the piece a heading first.", true); })(), minutes],
    ["Target length of the story: MINUTES", "", (n) => edit("set_target", { length: n ?? 0 }), minutes],
    ...["dialogue", "music", "natural", "effect", "voice", "cover 1", "cover 2"].map((lane) => [`Mute ${lane}`, "", () => edit("set_muted", { lane, muted: true })]), ...["dialogue", "music", "natural", "effect", "voice", "cover 1", "cover 2"].map((lane) => [`Unmute ${lane}`, "", () => edit("set_muted", { lane, muted: false })]),
    ...["dialogue", "music", "natural", "effect", "voice"].flatMap((lane) => [[`Solo ${lane}`, "", () => edit("set_solo", { lane, solo: true })], [`Solo off ${lane}`, "", () => edit("set_solo", { lane, solo: false })]]),
    ["Lock the sounds", "", () => edit("set_lock", { lane: "sounds", locked: true })], ["Unlock the sounds", "", () => edit("set_lock", { lane: "sounds", locked: false })],
    ["Copy", "Ctrl C", story.copyRange], ["Paste", "Ctrl V", story.pasteHere], ["Next space", "", () => { const s = pieces().find((p) => p.source === null && p.at > player.frame); if (s) { player.seek(s.at); story.choose({ kind: "piece", id: s.id }); } else say("There is no space after this.", true); }],
    ["Undo", "Z", story.acts.undo], ["Redo", "Shift Z", story.acts.redo],
  ];
  const said = document.getElementById("all-said");
  let found = [], at = 0;
  // "dissolve 12": the name's words that fit, the rest is the value.
  function look() {
    const typed = text.value.trim(), all = typed.toLowerCase().split(/\s+/).filter(Boolean);
    const named = (name) => name.toLowerCase().replace(/[A-Z]{4,}/g, "").split(/[\s:,-]+/);
    const fit = (name, n) => all.slice(0, n).every((w) => named(name).some((x) => x.startsWith(w)));
    found = [];
    for (let n = all.length; n >= Math.min(1, all.length) && !found.length; n--) found = ALL.filter(([name, , , kind]) => (kind || n === all.length) && fit(name, n)).map((a) => [a, typed.split(/\s+/).slice(n).join(" ")]);
    tell("");
    if (!found.length && all.length) { // nothing is called so: what has a word that begins alike, or has it inside
      const near = (w) => (x) => x.length > 2 && (x.startsWith(w.slice(0, 3)) || x.includes(w) || w.includes(x));
      found = ALL.filter(([name]) => all.some((w) => named(name).some(near(w)))).slice(0, 8).map((a) => [a, ""]);
      tell(`No edit is called “${typed.slice(0, 40)}”.${found.length ? " These come near:" : ""}`);
    }
    at = 0;
    show();
    hint();
  }
  function tell(why) { said.textContent = why; said.hidden = !why; if (why) understand(text, "", ""); }
  function hint() {
    const [[, , , kind], value] = found[at] || [[], ""];
    understand(text, kind, value && [length, delta, minutes].includes(kind) ? value : "");
  }
  function show() {
    list.replaceChildren(...found.map(([[name, key], value], i) => {
      const li = document.createElement("li");
      li.id = `all-${i}`; li.role = "option";
      li.setAttribute("aria-selected", i === at);
      li.textContent = name;
      const k = document.createElement("span");
      k.className = "why";
      if (value) { k.textContent = value; k.classList.add("tc"); } else if (key) { const kb = document.createElement("kbd"); kb.textContent = key; k.append(kb); }
      li.append(k);
      li.addEventListener("click", () => run(i));
      return li;
    }));
    list.children[at]?.scrollIntoView({ block: "nearest" });
    text.setAttribute("aria-activedescendant", found.length ? `all-${at}` : "");
  }
  // What was typed after the name; undefined where nothing was, null (and it says why) where it cannot be read.
  async function valued(kind, value) {
    if (!value) return undefined;
    if (kind === text_) return value;
    if (kind === number) {
      const n = Number(value.replace(",", ".").replace(/(%|db|percent)$/i, "").trim());
      if (Number.isFinite(n)) return n;
      tell(`“${value.slice(0, 40)}” is not a number.`);
      return null;
    }
    const got = await readTime(value, kind);
    if (!got.error) return got.frame;
    tell(got.error);
    return null;
  }
  async function run(i) {
    const hit = found[i];
    if (!hit) return;
    const [[, , act, kind], value] = hit, v = await valued(kind, value);
    if (v === null) return; // field and text stay
    dialog.close();
    await act(v);
  }
  text.addEventListener("input", look);
  text.addEventListener("keydown", (e) => {
    if (e.key === "ArrowDown" || e.key === "ArrowUp") { e.preventDefault(); at = Math.max(0, Math.min(found.length - 1, at + (e.key === "ArrowDown" ? 1 : -1))); show(); hint(); }
    else if (e.key === "Enter") { e.preventDefault(); run(at); }
  });
  document.addEventListener("all-edits", () => { text.value = ""; dialog.showModal(); look(); text.focus(); });
}
