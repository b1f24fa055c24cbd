// The Story room: turns keys, clicks and drags into requests. The server holds the story.
import { $, $$, byId, inside, num, target } from "/static/js/dom.js";
import { say } from "/static/js/base.js";
import { waves } from "/static/js/peaks.js";
import { readTime } from "/static/js/times.js";
import { transport, typing } from "/static/js/transport.js";
import { Edits, chord } from "/static/js/edits.js";
import { laneList } from "/static/js/lanelist.js";
import { allEdits } from "/static/js/alledits.js";
import { Choice } from "./storychoice.js";
import { dragging } from "./storydrag.js";
import { coverThis } from "./storycovers.js";
import { aroundThePage } from "./storymap.js";
import { Sender } from "./storysend.js";
import { Hand, shelf } from "./storyshelf.js";
import { seamDesk } from "./seamdesk.js";

const room = byId("story"),
  project = `/p/${room.dataset.project}`,
  base = `${project}/story`,
  scroll = byId("scroll"),
  zoom = byId("zoom"),
  sheet = () => byId("page"),
  px = () => num(sheet().dataset.px);

const edits = new Edits({ base }),
  known = edits.load(); // beside the plan
const player = await transport($("[data-player]"), `${base}/plan`);
player.addEventListener("time", () => {
  if (!player.playing) localStorage.setItem(`kovel-head-${room.dataset.project}`, String(player.frame));
}); // for "at the playhead" in the Log
await known;

const choice = new Choice(sheet, player),
  hand = new Hand(),
  choose = (what) => choice.choose(what);
const sender = new Sender(
  base,
  { sheet, scroll, zoom },
  { player, dress, busy: () => drag.under(), answered, standing },
);
const edit = (command, params) => sender.edit(command, params),
  undo = () => sender.step("undo"),
  redo = () => sender.step("redo");

// A range that was taken out is chosen no more.
function answered(body) {
  if (!["extract", "lift"].includes(body?.command)) return;
  const mine = body.a === choice.marks.a && body.b === choice.marks.b;
  choose(null);
  if (mine) choice.unmark();
}
// Once the plan is there, the playhead and what is chosen stand where the edit left them.
async function standing(body, at, made) {
  const was = choice.what,
    before = player.frame;
  await sender.refresh();
  if (at && player.frame === before) player.seek(num(at));
  const now = choice.what;
  if (now !== was && now) return; // something else was chosen meanwhile
  if (made && body?.command === "set_heading") choose(null);
  else if (body?.to !== undefined && was)
    choose(was); // a setting moves nothing: what was chosen is chosen still
  else if (now?.kind === "seam")
    choose(now); // the seam desk stays with its seam
  else if (made && body?.command !== "split") {
    const id = num(made.split(",")[0]);
    if (player.plan.pieces.some((p) => p[0] === id)) choose({ kind: "piece", id });
    else choose({ kind: $(`[data-sound="${id}"]`) ? "sound" : "cover", id });
  }
}

// After each new page: waveforms, the tray, the choice, the playhead.
function dress() {
  const now = sheet().dataset;
  waves(sheet(), false);
  const tray = $("#shelf-loose");
  tray.replaceChildren($("#loose-now").content.cloneNode(true));
  $("#loose-count").textContent = $$(".shelf-item", tray).length || "";
  $("[data-do=undo]").disabled = now.undo === "0";
  $("[data-do=redo]").disabled = now.redo === "0";
  tabs.refresh();
  $("#total-length").classList.toggle("is-over", now.over === "1");
  $("[data-do=lanes]").textContent = now.said ? `Lanes: ${now.said}` : "Lanes";
  $("#total-length").textContent = now.total;
  const used = now.used.split(",");
  for (const u of $$("[data-use]")) u.textContent = used.includes(u.dataset.use) ? "used" : "not used yet";
  const jumps = num(now.jumps);
  $("#jump-count").textContent = jumps ? `${jumps} jump${jumps > 1 ? "s" : ""}` : "";
  choice.mark();
  head();
  choice.bracket();
  document.dispatchEvent(new Event("dressed"));
}

// ---- what can be done
// Lays what is in hand: over the chosen words, else at a frame, up to another.
async function coverAt(at, until) {
  const p = hand.picked?.dataset,
    chosen = choice.what;
  if (!p) return say("Pick a shot up first: Enter on it in the shelf.", true);
  if (p.kind === "loose") return edit("move_cover", { cover: num(p.cover), at });
  if (p.kind === "loose-sound") return edit("move_sound", { sound: num(p.cover), at });
  const most = num(p.length),
    source = num(p.source);
  if (p.kind === "sound") {
    const r = choice.range(),
      from = r && chosen ? r[0] : at,
      end = r ? Math.max(r[1], from + 1) : num(sheet().dataset.length),
      kind = p.soundKind;
    return edit("lay_sound", {
      source,
      at: from,
      until: Math.min(from + most, end),
      start: 0,
      kind,
      clock_bound: kind === "music",
    });
  }
  const swept = chosen?.kind === "words" ? chosen : null,
    one = swept && $$(".w.is-on", sheet()).length === 1; // a word that was clicked says where, not how long
  if (one && until === undefined) at = swept.a;
  const r = one ? null : swept;
  const each = r ? 0 : await typedLength($("#cover-length"));
  if (each === null) return null;
  if (hand.all.length > 1) {
    const ranges = hand.ranges().map(([s, a, n]) => [s, a, Math.min(n, each || n)]);
    return edit("lay_several", { at: r ? r.a : at, ranges });
  }
  if (until === undefined) until = r ? r.b : at + Math.min(most, each);
  if (r) at = r.a;
  if (until - at > most && p.kind === "shot") until = at + most;
  return edit("lay_cover", { source, at, until, start: num(p.from) });
}
// A typed length in frames; null where it cannot be read: it says so, field and text stay.
async function typedLength(field) {
  const got = await readTime(field.value, "length");
  if (!got.error) return got.frame;
  say(got.error, true);
  field.focus();
  field.select();
  return null;
}
const acts = {
  undo,
  redo,
  add: () => edits.press("B"),
  insert: () => edits.press("N"),
  overwrite: () => edits.press("W"),
  cover: () => coverAt(player.frame),
  split: () => edits.press("S"),
  extract: () => edits.press("X"),
  lift: () => edits.press("Shift X"),
  all: () => document.dispatchEvent(new Event("all-edits")),
  lanes: laneList(base, (command, params) => edit(command, params)),
};
byId("tools").addEventListener("click", (e) => {
  const b = inside(e, "[data-do]");
  if (b) acts[b.dataset.do]();
});
room.addEventListener("click", (e) => {
  const b = inside(e, "[data-lock]");
  if (b) edit("set_lock", { lane: b.dataset.lock, locked: b.getAttribute("aria-pressed") !== "true" });
});
const tabs = shelf(room, {
  base,
  hand,
  add: acts.add,
  go: (entry) => sender.step("go", { entry }),
  openAgain: (piece) => edit("open_again", { piece }),
  to: (frame, what) => {
    player.stop();
    player.seek(frame);
    if (["jump", "word", "step"].includes(what)) seamAt(frame);
  },
});

// ---- the page: where is a point in time
function frameAt(y) {
  const f = Math.round((y - sheet().getBoundingClientRect().top) / px());
  return Math.max(0, Math.min(num(sheet().dataset.length), f));
}
let from = null,
  swept = false; // a sweep over words ends in a click that must not choose anything else
scroll.addEventListener("pointerdown", (e) => {
  swept = false;
  from = inside(e, ".w");
  if (from) e.preventDefault();
});
scroll.addEventListener("pointermove", (e) => {
  if (!from || !e.buttons) return;
  const to = /** @type {any} */ (document.elementFromPoint(e.clientX, e.clientY))?.closest(".w");
  if (to && to !== from) swept = true;
  if (!swept || !to) return;
  const a = Math.min(num(from.dataset.f), num(to.dataset.f));
  choose({ kind: "words", a, b: Math.max(num(from.dataset.e), num(to.dataset.e)) });
});
document.addEventListener("pointerup", () =>
  setTimeout(() => {
    from = null;
  }),
);
const drag = dragging(scroll, {
  sheet,
  px,
  frameAt,
  player,
  choice,
  hand,
  edit,
  coverAt,
  swept: () => {
    swept = true;
  },
});
scroll.addEventListener("click", (e) => {
  if (swept || inside(e, "[data-lock]")) return;
  const chosen = choice.what,
    w = inside(e, ".w"),
    p = inside(e, ".piece"),
    c = inside(e, ".laid"),
    s = inside(e, ".seam"),
    l = inside(e, ".sound-line"),
    h = inside(e, ".section-head");
  if (c) {
    choose({ kind: "cover", id: num(c.dataset.cover) });
    player.seek(num(c.dataset.at));
  } else if (s) {
    player.seek(num(s.dataset.at));
    choose({ kind: "seam", id: num(s.dataset.right) });
  } else if (l) choose({ kind: "sound", id: num(l.dataset.sound) });
  else if (h) {
    player.seek(num(h.dataset.at));
    choose({ kind: "piece", id: num(h.dataset.heading) });
  } else if (w && from === w) {
    const a = num(w.dataset.f),
      b = num(w.dataset.e),
      on = e.shiftKey && chosen?.kind === "words";
    choose({ kind: "words", a: on ? Math.min(chosen.a, a) : a, b: on ? Math.max(chosen.b, b) : b });
    player.seek(a);
  } else if (!w && p && e.shiftKey && ["piece", "pieces"].includes(chosen?.kind)) {
    // from the piece chosen before to this one
    const rows = choice.pieces(),
      ids = chosen.ids || [chosen.id],
      at = [...ids, num(p.dataset.piece)].map((id) => rows.findIndex((x) => x.id === id));
    choose({ kind: "pieces", ids: rows.slice(Math.min(...at), Math.max(...at) + 1).map((x) => x.id) });
  } else if (!w) {
    if (p) choose({ kind: "piece", id: num(p.dataset.piece) });
    player.seek(frameAt(e.clientY));
  }
});

// ---- the playhead
let now = null; // the word that is said
function head(follow = false) {
  const h = byId("head");
  if (!h) return;
  const y = player.frame * px();
  h.style.top = `${y}px`;
  const out = y < scroll.scrollTop + 40 || y > scroll.scrollTop + scroll.clientHeight - 60;
  if (follow && out) scroll.scrollTop = y - scroll.clientHeight / 3;
}
const under = (sel) => {
  const holds = (x) => num(x.dataset.at) <= player.frame && player.frame < num(x.dataset.at) + num(x.dataset.length);
  return $$(sel, sheet()).findLast(holds);
};
player.addEventListener("time", () => {
  head(player.stands !== player.frame);
  const p = under(".piece"),
    w = p && $$(".w", p).findLast((x) => num(x.dataset.f) <= player.frame);
  if (w === now) return;
  now?.classList.remove("is-now");
  now = w;
  w?.classList.add("is-now");
});

// ---- seams and edges
function nudge(edge, e) {
  const delta = (e.altKey ? -1 : 1) * (e.shiftKey ? 5 : 1),
    chosen = choice.what;
  if (choice.cover()) return edit("trim_cover", { cover: chosen.id, edge, delta });
  if (chosen?.kind === "sound") return edit("trim_sound", { sound: chosen.id, edge, delta });
  if (chosen?.kind === "seam") {
    const rows = choice.pieces(),
      i = rows.findIndex((p) => p.id === chosen.id);
    if (i > 0) return edit("trim", { piece: edge === "in" ? rows[i].id : rows[i - 1].id, edge, delta });
  }
  if (choice.piece()) return edit("trim", { piece: chosen.id, edge, delta });
  return say("Choose a piece (G) or a cover (V) first.", true);
}
function seamAt(f) {
  const s = player.plan.seams.find((x) => x[0] === f);
  if (s) choose({ kind: "seam", id: s[2] });
}
function seamStep(by, kind) {
  const rows = player.plan.seams.filter((x) => !kind || x[1] === kind),
    to = by > 0 ? rows.find((x) => x[0] > player.frame) : rows.findLast((x) => x[0] < player.frame);
  if (!to) return say(`There is no ${kind ? "exposed jump" : "seam"} ${by > 0 ? "after" : "before"} this.`);
  player.stop();
  player.seek(to[0]);
  return choose({ kind: "seam", id: to[2] });
}
// The seam that is chosen, else the one nearest to the playhead.
function theSeam() {
  const { seams } = player.plan,
    chosen = choice.what?.kind === "seam" && seams.find((x) => x[2] === choice.what.id),
    far = (x) => Math.abs(x[0] - player.frame);
  return chosen || seams.reduce((a, x) => (!a || far(x) < far(a) ? x : a), null);
}
async function loopSeam() {
  const s = theSeam();
  if (!s) return say("There is no seam in the story yet.", true);
  const beside = Math.round(player.fps);
  player.stop();
  player.seek(Math.max(0, s[0] - beside));
  return player.play(1, Math.min(player.plan.length, s[0] + beside));
}
function rollSeam(delta) {
  const s = theSeam();
  if (!s) return say("There is no seam in the story yet.", true);
  choose({ kind: "seam", id: s[2] });
  return edit("roll", { piece: s[2], delta });
}
async function otherCamera() {
  const found = await (await fetch(`${base}/angles?at=${player.frame}`)).json();
  if (!found.length)
    return say("No other camera of a sync set shows this moment. Sync recordings under Footage.", true);
  return edit(found[0].command, found[0].params);
}
async function otherTelling() {
  const got = await (
    await fetch(`${base}/tellings?at=${player.frame}`, { headers: { Accept: "application/json" } })
  ).json();
  if (got.error) return say(got.error, true);
  if (!got.length) return say("This is told once only, as far as the Themes of the log know.", true);
  return edit(got[0].command, got[0].params);
}
const covering = coverThis({ base, player, choice, edit });
let copied = null;
try {
  copied = JSON.parse(sessionStorage.getItem("kovel-copied"));
} catch {
  // nothing copied
}
async function copyRange() {
  const r = choice.range();
  if (!r) return say("Choose words or pieces first, or mark in and out (I, O).", true);
  copied = await (await fetch(`${base}/copy?a=${r[0]}&b=${r[1]}`)).json();
  sessionStorage.setItem("kovel-copied", JSON.stringify(copied)); // goes with the editor into another story
  return say("Copied. Ctrl V pastes it at the playhead, here or in another story.");
}

// ---- keys
const seams = () => [...player.plan.pieces.map((p) => p[1]), player.plan.length];
const go = (frame) => {
  player.stop();
  player.seek(frame);
};
/** What a key does in this room beside the edits, by its letter. @type {Record<string, (e: KeyboardEvent) => any>} */
const KEYS = {
  arrowup: () => go(seams().findLast((j) => j < player.frame) ?? 0),
  arrowdown: () => go(seams().find((j) => j > player.frame) ?? player.frame),
  z: (e) => (e.shiftKey ? redo : undo)(),
  g: () => {
    const p = choice.pieces().find((x) => x.at <= player.frame && player.frame < x.at + x.length);
    choose(p ? { kind: "piece", id: p.id } : null);
  },
  v: (e) => {
    if (e.shiftKey) return covering();
    const c = under(".laid");
    if (c) choose({ kind: "cover", id: num(c.dataset.cover) });
    else say("No cover lies at the playhead.", true);
    return undefined;
  },
  i: (e) => choice.setMark("a", e.shiftKey),
  o: (e) => choice.setMark("b", e.shiftKey),
  t: (e) => seamStep(e.shiftKey ? -1 : 1),
  u: (e) => seamStep(e.shiftKey ? -1 : 1, "jump"),
  a: loopSeam,
  h: (e) => (e.shiftKey ? otherTelling : otherCamera)(),
  q: acts.all,
  "/": () => document.dispatchEvent(new Event("find")),
  escape: () => {
    choose(null);
    hand.pick(null);
  },
};
for (const n of [1, 2, 3, 4, 5, 6]) KEYS[n] = () => tabs.nth(n);
document.addEventListener("keydown", (e) => {
  if (typing(e) || $("dialog[open]")) {
    if (e.key === "Escape" && typing(e)) target(e).blur();
    return;
  }
  const k = e.key.toLowerCase(),
    edge = { BracketLeft: "in", BracketRight: "out" }[e.code],
    aside = { arrowleft: -1, arrowright: 1 }[k];
  if (e.ctrlKey || e.metaKey) {
    if (k === "z") KEYS.z(e);
    else if (k === "c" && !String(getSelection())) copyRange();
    else if (edits.ofKey(chord(e)).length) edits.press(chord(e));
    else return;
  } else if (edge) nudge(edge, e);
  else if (e.altKey && aside) rollSeam(aside * (e.shiftKey ? 5 : 1));
  else if (edits.ofKey(chord(e)).length) edits.press(chord(e));
  else if (!e.altKey && KEYS[k]) KEYS[k](e);
  else return;
  e.preventDefault();
});

zoom.addEventListener("change", async () => {
  const stood = player.frame;
  await sender.again("");
  scroll.scrollTop = Math.max(0, stood * px() - scroll.clientHeight / 3);
  sender.fill();
  zoom.blur();
});
document.body.addEventListener("prepared", () => {
  if (!player.playing) location.reload();
});
document.addEventListener("look", () => waves(sheet()));
dress();
if (location.hash.length > 1) player.seek(num(location.hash.slice(1)) || 0);
window.kovel.story = { edit, undo, redo, idle: () => sender.queue.end.then(() => sender.reloading) };
const here = {
  project,
  base,
  scroll,
  sheet,
  px,
  player,
  choice,
  hand,
  edit,
  wide: (command, params) => sender.wide(command, params),
  acts,
  theSeam,
  seamStep,
  loopSeam,
  otherCamera,
  otherTelling,
  covering,
  copyRange,
  copied: () => copied,
};
edits.story = here;
seamDesk(here);
allEdits(here, edits);
aroundThePage(here);
