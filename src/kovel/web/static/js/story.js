// The Story room: turns keys, clicks and drags into requests, and draws what comes back. The server holds the story.
import { redraw, say } from "./base.js";
import { waves } from "./peaks.js";
import { readTime } from "./times.js";
import { transport, typing } from "./transport.js";
import { Edits, chord } from "./edits.js";
import { allEdits } from "./storyall.js";
import { aroundThePage } from "./storymap.js";
import { seamDesk } from "./seamdesk.js";

const room = document.getElementById("story"), base = `/p/${room.dataset.project}/story`;
const scroll = document.getElementById("scroll"), zoom = document.getElementById("zoom");
const $ = (s, r = document) => r.querySelector(s), $$ = (s, r = document) => [...r.querySelectorAll(s)];
const num = (x) => Number(x);
const sheet = () => document.getElementById("page");
let picked = null; // the shelf item in hand, the last of those picked up
let all = []; // every shelf item picked up, in order
let chosen = null; // {kind: "piece"|"cover", id} or {kind: "words", a, b}
let busy = Promise.resolve(), waiting = 0; // edits go one after the other; the plan is fetched when none waits

const edits = new Edits({ base }), known = edits.load(); // beside the plan
const player = await transport($("[data-player]"), `${base}/plan`);
player.addEventListener("time", () => { if (!player.playing) localStorage.setItem(`kovel-head-${room.dataset.project}`, player.frame); }); // for "at the playhead" in the Log

const project = `/p/${room.dataset.project}`;
let marks = { a: null, b: null }; // in and out in the story
await known;

// ---- sending edits
function send(url, body, form = false) {
  waiting++;
  busy = busy.then(() => { waiting--; return go(url, body, form); }).catch((e) => { console.error(e); say("Kovel does not answer. Check that it still runs, then try again. Nothing acknowledged is lost.", true); });
  return busy;
}
let behind = false; // answers were taken without their page, because more edits waited
async function go(url, body, form) {
  const revision = num(sheet().dataset.revision), hurry = waiting > 0 && form;
  const began = performance.now();
  const r = await fetch(url, {
    method: "POST",
    headers: { "Content-Type": form ? "application/x-www-form-urlencoded" : "application/json", "X-Kovel": "1", "X-Zoom": zoom.value, "X-View": hurry ? "none" : view(0.6) },
    body: form ? new URLSearchParams({ revision, ...(body || {}) }) : JSON.stringify({ revision, story: num(sheet().dataset.story), ...body }),
  });
  const html = await r.text();
  if (r.status === 200 && hurry) { sheet().dataset.revision = r.headers.get("x-revision"); behind = true; return undefined; }
  if (behind && r.status !== 200 && r.status !== 409) put(await (await fetch(`${base}/page`, { headers: { "X-Zoom": zoom.value, "X-View": view() } })).text());
  behind = false;
  if (r.status === 202) return ask(html, { ...body, ask: false });
  if (r.status === 200 || r.status === 409) {
    put(html);
    if (r.status === 200) {
      void standing(body, r.headers.get("x-playhead"), r.headers.get("x-made"));
      if (["extract", "lift"].includes(body?.command)) { const mine = body.a === marks.a && body.b === marks.b; choose(null); if (mine) { marks = { a: null, b: null }; bracket(); } }
    } else await refresh();
  } else put(html);
  window.kovel.lastEditMs = performance.now() - began;
}
// Once the plan is there, the playhead and what is chosen stand where the edit left them. The next edit need not wait for it.
async function standing(body, at, made) {
  const was = chosen, head = player.frame;
  if (waiting) return; // the last of those that wait does this
  await refresh();
  if (at && player.frame === head) player.seek(num(at));
  if (chosen !== was && chosen) return; // something else was chosen meanwhile
  if (made && body?.command === "set_heading") choose(null);
  else if (body?.to !== undefined && was) choose(was); // a setting moves nothing: what was chosen is chosen still
  else if (chosen?.kind === "seam") choose(chosen); // the seam desk stays with its seam
  else if (made && body?.command !== "split") { const id = num(made.split(",")[0]); if (player.plan.pieces.some((p) => p[0] === id)) choose({ kind: "piece", id }); else if ($(`[data-sound="${id}"]`)) choose({ kind: "sound", id }); else choose({ kind: "cover", id }); }
}
// The plan as the story stands; of several that are asked for while one is under way, the last is fetched.
let reloading = Promise.resolve(), asked = false;
function refresh() {
  if (asked) return reloading;
  asked = true;
  reloading = reloading.then(() => { asked = false; return player.reload(); });
  return reloading;
}
const edit = (command, params, more) => send(`${base}/edit`, { command, ...params, ...more });
const wide = (command, params) => edit(command, params, { ask: true }); // asked about first if it costs something

// What an edit would dislodge, before it is done.
function ask(html, body) {
  const place = $("#ask-place");
  place.innerHTML = html;
  return new Promise((done) => {
    const end = (yes) => { place.replaceChildren(); document.removeEventListener("keydown", key, true); place.onclick = null; done(yes ? go(`${base}/edit`, body, false) : null); };
    const key = (e) => { if (e.key === "Enter" || e.key === "Escape") { e.preventDefault(); e.stopPropagation(); end(e.key === "Enter"); } };
    document.addEventListener("keydown", key, true);
    place.onclick = (e) => { const b = e.target.closest("[data-ask]"); if (b) end(b.dataset.ask === "yes"); };
    $("[data-ask=yes]", place).focus();
  });
}
const undo = () => send(`${base}/undo`, null, true);
const redo = () => send(`${base}/redo`, null, true);

// The story frames on the screen and so many screens around it; only these are asked for.
function view(around = 1.5) {
  const h = scroll.clientHeight, y = scroll.scrollTop;
  return `${Math.floor(Math.max(0, y - around * h) / px())}-${Math.ceil((y + (1 + around) * h) / px())}`;
}
let fetching = false;
async function fill() {
  const s = sheet(), y = scroll.scrollTop, h = scroll.clientHeight, a = num(s.dataset.from) * px(), b = num(s.dataset.to) * px(), end = num(s.dataset.length) * px();
  if (fetching || drag || ((a <= 0 || a <= y - h / 2) && (b >= end - 1 || b >= y + 1.5 * h))) return;
  fetching = true;
  try {
    const revision = s.dataset.revision, r = await fetch(`${base}/page`, { headers: { "X-Zoom": zoom.value, "X-View": view() } });
    const html = await r.text();
    if (r.ok && sheet().dataset.revision === revision) put(html);
  } catch { return; /* the next scroll asks again */ } finally { fetching = false; }
  requestAnimationFrame(fill);
}
scroll.addEventListener("scroll", fill, { passive: true });

// Fragments: the page, and beside it the report line.
function put(html) {
  const t = document.createElement("template");
  t.innerHTML = html;
  const page = t.content.querySelector("#page"), line = t.content.querySelector("#report");
  if (page) { exchange(sheet(), page); dress(); }
  if (line) { line.removeAttribute("hx-swap-oob"); document.getElementById("report").replaceWith(line); }
}

// What came the same as it stands is left as it is, with its waveform and the focus; the rest is exchanged.
function exchange(now, next) {
  for (const { name, value } of [...next.attributes]) now.setAttribute(name, value);
  const coming = [...next.children].map((el) => { el.came = el.outerHTML; return el; }), stays = new Map();
  const wanted = new Set(coming.map((el) => el.came));
  for (const el of [...now.children]) if (wanted.has(el.came) && !stays.has(el.came)) stays.set(el.came, el); else el.remove();
  let at = now.firstElementChild;
  for (const el of coming) {
    const here = stays.get(el.came);
    if (!here) now.insertBefore(el, at);
    else if (here === at) at = at.nextElementSibling;
    else now.insertBefore(here, at);
    stays.delete(el.came);
  }
}
for (const el of sheet().children) el.came = el.outerHTML;

// After each new page: waveforms, the tray, the choice, the playhead.
function dress() {
  waves(sheet(), false);
  const tray = $("#shelf-loose");
  tray.replaceChildren($("#loose-now").content.cloneNode(true));
  $("#loose-count").textContent = $$(".shelf-item", tray).length || "";
  $("[data-do=undo]").disabled = sheet().dataset.undo === "0";
  $("[data-do=redo]").disabled = sheet().dataset.redo === "0";
  if (!$("#shelf-history").hidden) history();
  if (!$("#shelf-checks").hidden) checks();
  $("#total-length").classList.toggle("is-over", sheet().dataset.over === "1");
  $("[data-do=lanes]").textContent = sheet().dataset.said ? `Lanes: ${sheet().dataset.said}` : "Lanes";
  $("#total-length").textContent = sheet().dataset.total;
  const used = sheet().dataset.used.split(",");
  for (const u of $$("[data-use]")) u.textContent = used.includes(u.dataset.use) ? "used" : "not used yet";
  const jumps = num(sheet().dataset.jumps);
  $("#jump-count").textContent = jumps ? `${jumps} jump${jumps > 1 ? "s" : ""}` : "";
  mark();
  head();
  bracket();
  document.dispatchEvent(new Event("dressed"));
}

// ---- choosing
function choose(what) { chosen = what; mark(); document.dispatchEvent(new CustomEvent("chosen", { detail: what })); }
function mark() {
  for (const el of $$(".is-chosen, .w.is-on", sheet())) el.classList.remove("is-chosen", "is-on");
  if (chosen?.kind === "piece") $(`[data-piece="${chosen.id}"]`)?.classList.add("is-chosen");
  if (chosen?.kind === "cover") $(`.laid[data-cover="${chosen.id}"]`)?.classList.add("is-chosen");
  if (chosen?.kind === "sound") $(`[data-sound="${chosen.id}"]`)?.classList.add("is-chosen");
  if (chosen?.kind === "seam") $(`.seam[data-right="${chosen.id}"]`)?.classList.add("is-chosen");
  if (chosen?.kind === "pieces") for (const id of chosen.ids) $(`[data-piece="${id}"]`)?.classList.add("is-chosen");
  if (chosen?.kind === "words") for (const w of $$(".w", sheet())) {
    const middle = (num(w.dataset.f) + num(w.dataset.e)) / 2; // neighbours may share a frame
    if (chosen.a <= middle && middle < chosen.b) w.classList.add("is-on");
  }
}
const piece = () => (chosen?.kind === "piece" && pieces().find((p) => p.id === chosen.id)) || null;
const cover = () => chosen?.kind === "cover" && $(`.laid[data-cover="${chosen.id}"]`);
// The range an edit is about: chosen words, a piece, else nothing.
function range() {
  if (chosen?.kind === "words") return [chosen.a, chosen.b];
  if (chosen?.kind === "pieces") { const all = pieces().filter((x) => chosen.ids.includes(x.id)); return all.length ? [all[0].at, all.at(-1).at + all.at(-1).length] : null; }
  const p = piece();
  if (p) return [p.at, p.at + p.length];
  return marks.a !== null && marks.b !== null ? [marks.a, marks.b] : null;
}
// In and out of the story, as a bracket in the margin.
function bracket() {
  $(".mark", sheet())?.remove();
  if (marks.a === null && marks.b === null) return;
  const el = document.createElement("div"), a = marks.a ?? marks.b, b = marks.b ?? marks.a;
  el.className = "mark"; el.style.top = `${a * px()}px`; el.style.height = `${Math.max(3, (b - a) * px())}px`;
  sheet().append(el);
}
function setMark(which, clear) {
  marks[which] = clear ? null : player.frame;
  if (marks.a !== null && marks.b !== null && marks.b <= marks.a) marks[which === "a" ? "b" : "a"] = null;
  bracket();
}
// Picks an item up, or puts it down; with `more` beside those in hand, in the order they were picked.
function pick(item, more = false) {
  if (!item) all = [];
  else if (all.includes(item)) all = all.filter((x) => more && x !== item);
  else all = more ? [...all.filter((x) => x.dataset.kind === item.dataset.kind), item] : [item];
  picked = all.at(-1) || null;
  for (const i of $$(".shelf-item")) {
    const n = all.indexOf(i) + 1;
    i.setAttribute("aria-pressed", n ? "true" : "false");
    if (n && all.length > 1) i.dataset.nth = n; else delete i.dataset.nth;
  }
}
const ranges = () => all.map((x) => [num(x.dataset.source), num(x.dataset.from), num(x.dataset.length)]);
const hand = () => picked && !picked.dataset.kind.startsWith("loose") && { source: num(picked.dataset.source), start: num(picked.dataset.from), length: num(picked.dataset.length) };

// ---- what can be done
async function coverAt(at, until) {
  const p = picked;
  if (p?.dataset.kind === "loose") return edit("move_cover", { cover: num(p.dataset.cover), at });
  if (p?.dataset.kind === "loose-sound") return edit("move_sound", { sound: num(p.dataset.cover), at });
  if (p?.dataset.kind === "sound") {
    const r = range(), from = r && chosen ? r[0] : at, music = p.dataset.soundKind === "music";
    return edit("lay_sound", { source: num(p.dataset.source), at: from, until: Math.min(from + num(p.dataset.length), r ? Math.max(r[1], from + 1) : num(sheet().dataset.length)), start: 0, kind: p.dataset.soundKind, clock_bound: music });
  }
  if (!p) return say("Pick a shot up first: Enter on it in the shelf.", true);
  const most = num(p.dataset.length), r = chosen?.kind === "words" ? chosen : null;
  const each = r ? 0 : await typedLength($("#cover-length"));
  if (each === null) return null;
  if (all.length > 1) return edit("lay_several", { at: r ? r.a : at, ranges: ranges().map(([s, a, n]) => [s, a, Math.min(n, each || n)]) });
  if (until === undefined) until = r ? r.b : at + Math.min(most, each);
  if (r) at = r.a;
  if (until - at > most && p.dataset.kind === "shot") until = at + most;
  return edit("lay_cover", { source: num(p.dataset.source), at, until, start: num(p.dataset.from) });
}
// A typed length in frames; null where it cannot be read: it says so, field and text stay.
async function typedLength(field, kind = "length") {
  const got = await readTime(field.value, kind);
  if (!got.error) return got.frame;
  say(got.error, true);
  field.focus(); field.select();
  return null;
}
const acts = {
  undo, redo,
  add: () => edits.press("B"), insert: () => edits.press("N"), overwrite: () => edits.press("W"),
  cover: () => coverAt(player.frame),
  split: () => edits.press("S"), extract: () => edits.press("X"), lift: () => edits.press("Shift X"),
  all: () => document.dispatchEvent(new Event("all-edits")),
  lanes: async () => { await laneList(); $("#lanes").showModal(); },
};
async function laneList() { const html = await (await fetch(`${base}/lanes`)).text(); redraw($("#lanes-here"), () => { $("#lanes-here").innerHTML = html; }); }
$("#lanes").addEventListener("change", async (e) => {
  const { switch: command, lane, what } = e.target.dataset;
  await edit(command, { lane, [what]: e.target.checked });
  await laneList();
});
function clear() { choose(null); marks = { a: null, b: null }; bracket(); }
document.getElementById("tools").addEventListener("click", (e) => { const b = e.target.closest("[data-do]"); if (b) acts[b.dataset.do](); });

room.addEventListener("click", (e) => {
  const b = e.target.closest("[data-lock]");
  if (b) edit("set_lock", { lane: b.dataset.lock, locked: b.getAttribute("aria-pressed") !== "true" });
});

// ---- shelf
const tabs = $$(".tab");
function tab(t) {
  for (const x of tabs) { const on = x === t; x.setAttribute("aria-selected", on); x.tabIndex = on ? 0 : -1; document.getElementById(x.getAttribute("aria-controls")).hidden = !on; }
  if (t.id === "tab-history") history();
  if (t.id === "tab-checks") checks();
}
tabs.forEach((t, i) => {
  t.addEventListener("click", () => tab(t));
  t.addEventListener("keydown", (e) => { const d = { ArrowRight: 1, ArrowLeft: -1 }[e.key]; if (d) { const n = tabs[(i + d + tabs.length) % tabs.length]; tab(n); n.focus(); e.preventDefault(); e.stopPropagation(); } });
});
async function checks() { $("#shelf-checks").innerHTML = await (await fetch(`${base}/checks`)).text(); }
room.addEventListener("click", (e) => {
  const g = e.target.closest("[data-goto]"), o = e.target.closest("[data-open-again]"), h = e.target.closest("[data-entry]");
  if (g) { player.stop(); player.seek(num(g.dataset.goto)); if (["jump", "word", "step"].includes(g.dataset.what)) seamAt(num(g.dataset.goto)); }
  else if (o) edit("open_again", { piece: num(o.dataset.openAgain) });
  else if (h) send(`${base}/go`, { entry: h.dataset.entry }, true);
});
async function history() { $("#shelf-history").innerHTML = await (await fetch(`${base}/history`)).text(); }
room.addEventListener("click", (e) => { const i = e.target.closest(".shelf-item"); if (i) pick(i, e.shiftKey); });
room.addEventListener("dblclick", (e) => { const i = e.target.closest(".shelf-item[data-kind=bite], .shelf-item[data-kind=shot]"); if (i) { pick(null); pick(i); acts.add(); } });

// ---- the page: where is a point in time
const px = () => num(sheet().dataset.px);
function frameAt(y) { return Math.max(0, Math.min(num(sheet().dataset.length), Math.round((y - sheet().getBoundingClientRect().top) / px()))); }
let from = null, swept = false; // a sweep over words ends in a click that must not choose anything else
scroll.addEventListener("pointerdown", (e) => { swept = false; from = e.target.closest(".w"); if (from) e.preventDefault(); });
scroll.addEventListener("pointermove", (e) => {
  if (!from || !e.buttons) return;
  const to = document.elementFromPoint(e.clientX, e.clientY)?.closest?.(".w");
  if (to && to !== from) swept = true;
  if (swept && to) choose({ kind: "words", a: Math.min(num(from.dataset.f), num(to.dataset.f)), b: Math.max(num(from.dataset.e), num(to.dataset.e)) });
});
document.addEventListener("pointerup", () => setTimeout(() => { from = null; }));
scroll.addEventListener("click", (e) => {
  if (swept || e.target.closest("[data-lock]")) return;
  const w = e.target.closest(".w"), c = e.target.closest(".laid"), s = e.target.closest(".seam"), p = e.target.closest(".piece");
  if (c) { choose({ kind: "cover", id: num(c.dataset.cover) }); player.seek(num(c.dataset.at)); }
  else if (s) { player.seek(num(s.dataset.at)); choose({ kind: "seam", id: num(s.dataset.right) }); }
  else if (e.target.closest(".sound-line")) { const x = e.target.closest(".sound-line"); choose({ kind: "sound", id: num(x.dataset.sound) }); }
  else if (e.target.closest(".section-head")) { player.seek(num(e.target.closest(".section-head").dataset.at)); choose({ kind: "piece", id: num(e.target.closest(".section-head").dataset.heading) }); }
  else if (w && from === w) {
    const f = num(w.dataset.f);
    if (e.shiftKey && chosen?.kind === "words") choose({ kind: "words", a: Math.min(chosen.a, f), b: Math.max(chosen.b, num(w.dataset.e)) });
    else choose({ kind: "words", a: f, b: num(w.dataset.e) });
    player.seek(f);
  } else if (!w && p && e.shiftKey && ["piece", "pieces"].includes(chosen?.kind)) { // from the piece chosen before to this one
    const rows = pieces(), ids = chosen.ids || [chosen.id], at = [...ids, num(p.dataset.piece)].map((id) => rows.findIndex((x) => x.id === id));
    choose({ kind: "pieces", ids: rows.slice(Math.min(...at), Math.max(...at) + 1).map((x) => x.id) });
  } else if (!w && p) { choose({ kind: "piece", id: num(p.dataset.piece) }); player.seek(frameAt(e.clientY)); }
  else if (!w) player.seek(frameAt(e.clientY));
});

// ---- dragging
let drag = null, line = null, end = null;
// A cover's ends are dragged by themselves: the button under them must not begin a drag of its own.
scroll.addEventListener("pointerdown", (e) => {
  const h = e.target.closest(".cover-end");
  if (!h) return;
  e.preventDefault();
  const c = h.closest(".laid");
  end = { id: num(c.dataset.cover), edge: h.dataset.edge, from: num(c.dataset.at) + (h.dataset.edge === "out" ? num(c.dataset.length) : 0), el: c };
  c.draggable = false; h.setPointerCapture(e.pointerId);
});
scroll.addEventListener("pointermove", (e) => {
  if (!end) return;
  end.to = snapped(frameAt(e.clientY), e.altKey);
  landingLine(end.to);
});
scroll.addEventListener("pointerup", () => {
  if (!end) return;
  const d = end;
  end = null; landed(); swept = true; // the click that follows chooses nothing
  d.el.draggable = true;
  if (d.to !== undefined && d.to !== d.from) edit("trim_cover", { cover: d.id, edge: d.edge, delta: d.to - d.from });
});
// To a cut, a mark, the playhead or a beat of the music within a few pixels; Alt lets go of it.
function snapped(f, free = false) {
  if (free) { caught = ""; return f; }
  let best = f, d = Math.max(2, 6 / px());
  caught = "";
  const near = (b, what) => { if (b !== null && Math.abs(b - f) < d) { d = Math.abs(b - f); best = b; caught = what; } };
  for (const b of joins()) near(b, "cut");
  near(marks.a, "in"); near(marks.b, "out"); near(player.frame, "playhead");
  const own = end?.id ?? drag?.id;
  for (const [id, a, b] of player.plan.covers || []) if (id !== own) { near(a, "cover"); near(b, "cover"); }
  for (const b of player.plan.beats || []) near(b, "beat");
  return best;
}
let caught = ""; // what a drag has snapped to
function landingLine(at) {
  if (!line) { line = document.createElement("div"); line.className = "landing"; sheet().append(line); }
  line.style.top = `${at * px()}px`;
  line.dataset.at = caught;
}
document.addEventListener("dragstart", (e) => {
  const i = e.target.closest?.(".shelf-item"), c = e.target.closest?.(".laid"), p = e.target.closest?.(".grip")?.closest(".piece");
  if (i) drag = { kind: i.dataset.kind, item: i }; else if (c) drag = { kind: "cover", id: num(c.dataset.cover), hold: frameAt(e.clientY) - num(c.dataset.at) };
  else if (e.target.closest?.(".sound-line")) { const x = e.target.closest(".sound-line"); drag = { kind: "laid-sound", id: num(x.dataset.sound), hold: frameAt(e.clientY) - num(x.dataset.at) }; }
  else if (p) drag = { kind: "piece", id: num(p.dataset.piece), ids: chosen?.kind === "pieces" && chosen.ids.includes(num(p.dataset.piece)) ? chosen.ids : null };
  if (drag) { e.dataTransfer.setData("text/plain", "kovel"); e.dataTransfer.effectAllowed = "copyMove"; }
});
// Where a drag would land: {at, word?} for covers, {before} for pieces, {at} for bites.
function landing(e) {
  const w = document.elementFromPoint(e.clientX, e.clientY)?.closest?.(".w");
  if (drag.kind === "bite" || drag.kind === "piece") {
    const t = frameAt(e.clientY), next = pieces().find((p) => t < p.at + p.length / 2);
    caught = "";
    return { at: next ? next.at : num(sheet().dataset.length), before: next ? next.id : null };
  }
  const to = snapped(Math.max(0, frameAt(e.clientY) - (drag.hold || 0)), e.altKey);
  if (!w || e.altKey || drag.kind === "laid-sound") return { at: to };
  caught = "";
  return { at: num(w.dataset.f), word: w }; // let go on a word, it is the word that counts
}
scroll.addEventListener("dragover", (e) => {
  if (!drag) return;
  e.preventDefault();
  const l = landing(e);
  for (const x of $$(".w.is-target")) x.classList.remove("is-target");
  l.word?.classList.add("is-target");
  landingLine(l.at);
});
function landed() { line?.remove(); line = null; for (const x of $$(".w.is-target")) x.classList.remove("is-target"); drag = null; }
document.addEventListener("dragend", landed);
scroll.addEventListener("drop", (e) => {
  if (!drag) return;
  e.preventDefault();
  const l = landing(e), d = drag;
  landed();
  if (d.kind === "piece") return d.ids ? edit("move_several", { pieces: d.ids, before: l.before }) : edit("move", { piece: d.id, before: l.before });
  if (d.kind === "laid-sound") return edit("move_sound", { sound: d.id, at: l.at });
  if (d.kind === "cover") return edit("move_cover", { cover: d.id, at: l.at });
  if (!all.includes(d.item)) { pick(null); pick(d.item); }
  if (d.kind === "bite" && all.length > 1) return edit("insert_several", { at: l.at, ranges: ranges() });
  if (d.kind === "bite") { const h = hand(); return l.before === null ? edit("add_at_end", h) : edit("insert", { at: l.at, ...h }); }
  choose(null);
  return coverAt(l.at);
});

// ---- the playhead
let now = null;
function head(follow = false) {
  const h = document.getElementById("head");
  if (!h) return;
  const y = player.frame * px();
  h.style.top = `${y}px`;
  if (follow && (y < scroll.scrollTop + 40 || y > scroll.scrollTop + scroll.clientHeight - 60)) scroll.scrollTop = y - scroll.clientHeight / 3;
}
player.addEventListener("time", () => {
  head(player.stands !== player.frame);
  const p = $$(".piece", sheet()).find((x) => num(x.dataset.at) <= player.frame && player.frame < num(x.dataset.at) + num(x.dataset.length));
  const w = p && $$(".w", p).findLast((x) => num(x.dataset.f) <= player.frame);
  if (w !== now) { now?.classList.remove("is-now"); now = w; w?.classList.add("is-now"); }
});

// ---- keys
const pieces = () => player.plan.pieces.map(([id, at, length, source]) => ({ id, at, length, source }));
const joins = () => [...player.plan.pieces.map((p) => p[1]), player.plan.length];
const under = (sel) => $$(sel, sheet()).filter((x) => num(x.dataset.at) <= player.frame && player.frame < num(x.dataset.at) + num(x.dataset.length)).pop();
function nudge(edge, e) {
  const by = (e.altKey ? -1 : 1) * (e.shiftKey ? 5 : 1);
  if (cover()) return edit("trim_cover", { cover: chosen.id, edge, delta: by });
  if (chosen?.kind === "sound") return edit("trim_sound", { sound: chosen.id, edge, delta: by });
  if (chosen?.kind === "seam") { const rows = pieces(), i = rows.findIndex((p) => p.id === chosen.id); if (i > 0) return edit("trim", { piece: edge === "in" ? rows[i].id : rows[i - 1].id, edge, delta: by }); }
  if (piece()) return edit("trim", { piece: chosen.id, edge, delta: by });
  return say("Choose a piece (G) or a cover (V) first.", true);
}
function seamAt(f) { const s = player.plan.seams.find((x) => x[0] === f); if (s) choose({ kind: "seam", id: s[2] }); }
function seamStep(by, kind) {
  const rows = player.plan.seams.filter((x) => !kind || x[1] === kind), here = player.frame;
  const to = by > 0 ? rows.find((x) => x[0] > here) : rows.findLast((x) => x[0] < here);
  if (!to) return say(kind ? `There is no exposed jump ${by > 0 ? "after" : "before"} this.` : `There is no seam ${by > 0 ? "after" : "before"} this.`);
  player.stop(); player.seek(to[0]); choose({ kind: "seam", id: to[2] });
}
// The seam that is chosen, else the one nearest to the playhead.
function theSeam() {
  const rows = player.plan.seams;
  return (chosen?.kind === "seam" && rows.find((x) => x[2] === chosen.id)) || rows.reduce((a, x) => (!a || Math.abs(x[0] - player.frame) < Math.abs(a[0] - player.frame) ? x : a), null);
}
async function loopSeam() {
  const s = theSeam();
  if (!s) return say("There is no seam in the story yet.", true);
  const around = Math.round(player.fps), stop = Math.min(player.plan.length, s[0] + around);
  player.stop(); player.seek(Math.max(0, s[0] - around));
  await player.play(1, stop);
}
async function otherCamera() {
  const found = await (await fetch(`${base}/angles?at=${player.frame}`)).json();
  if (!found.length) return say("No other camera of a sync set shows this moment. Sync recordings under Footage.", true);
  return edit(found[0].command, found[0].params);
}
let copied = null;
try { copied = JSON.parse(sessionStorage.getItem("kovel-copied")); } catch { /* nothing copied */ }
async function copyRange() {
  const r = range();
  if (!r) return say("Choose words or pieces first, or mark in and out (I, O).", true);
  copied = await (await fetch(`${base}/copy?a=${r[0]}&b=${r[1]}`)).json();
  sessionStorage.setItem("kovel-copied", JSON.stringify(copied)); // goes with the editor into another story
  return say("Copied. Ctrl V pastes it at the playhead, here or in another story.");
}
document.addEventListener("keydown", (e) => {
  if (typing(e) || document.querySelector("dialog[open]")) { if (e.key === "Escape" && typing(e)) e.target.blur(); return; }
  const k = e.key.toLowerCase(), code = e.code;
  if (e.ctrlKey || e.metaKey) {
    if (k === "z") (e.shiftKey ? redo : undo)();
    else if (k === "c" && !String(getSelection())) copyRange();
    else if (edits.ofKey(chord(e)).length) edits.press(chord(e));
    else return;
  } else if (code === "BracketLeft") nudge("in", e);
  else if (code === "BracketRight") nudge("out", e);
  else if (e.altKey && (k === "arrowleft" || k === "arrowright")) rollSeam((k === "arrowleft" ? -1 : 1) * (e.shiftKey ? 5 : 1));
  else if (edits.ofKey(chord(e)).length) edits.press(chord(e));
  else if (e.altKey) return;
  else if (k === "arrowup") { player.stop(); player.seek(joins().findLast((j) => j < player.frame) ?? 0); }
  else if (k === "arrowdown") { player.stop(); player.seek(joins().find((j) => j > player.frame) ?? player.frame); }
  else if (k === "z") (e.shiftKey ? redo : undo)();
  else if (k === "g") { const p = pieces().find((x) => x.at <= player.frame && player.frame < x.at + x.length); choose(p ? { kind: "piece", id: p.id } : null); }
  else if (k === "v") { const c = under(".laid"); if (c) choose({ kind: "cover", id: num(c.dataset.cover) }); else say("No cover lies at the playhead.", true); }
  else if (k === "i") setMark("a", e.shiftKey);
  else if (k === "o") setMark("b", e.shiftKey);
  else if (k === "t") seamStep(e.shiftKey ? -1 : 1);
  else if (k === "u") seamStep(e.shiftKey ? -1 : 1, "jump");
  else if (k === "a") loopSeam();
  else if (k === "h") otherCamera();
  else if (k === "q") acts.all();
  else if (e.key === "/") document.dispatchEvent(new Event("find"));
  else if (k === "escape") { choose(null); pick(null); }
  else if ("123456".includes(k) && k.length === 1) { tab(tabs[num(k) - 1]); $(".shelf-item", document.getElementById(tabs[num(k) - 1].getAttribute("aria-controls")))?.focus(); }
  else return;
  e.preventDefault();
});
function rollSeam(by) {
  const s = theSeam();
  if (!s) return say("There is no seam in the story yet.", true);
  choose({ kind: "seam", id: s[2] });
  return edit("roll", { piece: s[2], delta: by });
}

zoom.addEventListener("change", async () => {
  const y = player.frame;
  put(await (await fetch(`${base}/page`, { headers: { "X-Zoom": zoom.value, "X-View": "" } })).text());
  scroll.scrollTop = Math.max(0, y * px() - scroll.clientHeight / 3);
  fill();
  zoom.blur();
});

// Another window or the command line may edit the same story: the page follows.
setInterval(() => {
  if (document.hidden) return;
  busy = busy.then(async () => {
    const r = await fetch(`${base}/revision?seen=${sheet().dataset.revision}&story=${sheet().dataset.story}`, { headers: { "X-Zoom": zoom.value, "X-View": view() } }).catch(() => null);
    if (r?.status === 200) { put(await r.text()); await refresh(); }
  }).catch(() => {}); // it asks again; the edit that waits goes on
}, 3000);

document.body.addEventListener("prepared", () => { if (!player.playing) location.reload(); });
document.addEventListener("look", () => waves(sheet()));
dress();
if (location.hash.length > 1) player.seek(num(location.hash.slice(1)) || 0);
window.kovel.story = { edit, undo, redo, idle: () => busy.then(() => reloading) };
const here = edits.story = { $, $$, num, project, base, room, scroll, sheet, px, player, edit, wide, choose, say, acts, range, piece, pieces, cover, hand, readTime, theSeam, seamStep, loopSeam, otherCamera, copyRange, copied: () => copied, ranges, clear, nudge, picked: () => picked, chosen: () => chosen, marks: () => marks, coverAt };
seamDesk(here);
allEdits(here, edits);
aroundThePage(here);
