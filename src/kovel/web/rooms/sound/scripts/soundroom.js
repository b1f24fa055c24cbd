// The Sound room: turns keys, clicks and drags on the strip into requests. The server holds the story.
import { $, $$, byId, focused, inside, num } from "/static/js/dom.js";
import { redraw, say } from "/static/js/base.js";
import { edges, onKeys, onOtherKeys, typing } from "/static/js/keys.js";
import { playsSelection } from "/static/js/around.js";
import { remembered } from "/static/js/remembered.js";
import { transport } from "/static/js/transport.js";
import { Edits } from "/static/js/edits.js";
import { laneList } from "/static/js/lanelist.js";
import { markerList } from "/static/js/markerlist.js";
import { allEdits } from "/static/js/alledits.js";
import { Strip } from "./strip.js";
import { dragging } from "./stripdrag.js";
import { dipping } from "./stripdips.js";
import { momentOf } from "./striplines.js";
import { Meter } from "./meters.js";
import { ofTheMix } from "./mixacts.js";
import { roomChoice, roomEdits, roomLends } from "/static/js/roomedits.js";
import { settingsPanel } from "/static/js/settingspanel.js";
import { walking } from "./stripwalk.js";
import { voiceTake } from "./voicetake.js";
import { BeforeAfter } from "./beforeafter.js";

const room = byId("soundroom"),
  project = `/p/${room.dataset.project}`,
  base = `${project}/sound`,
  story = `${project}/story`,
  zoom = byId("zoom"),
  panel = byId("panel");

const edits = new Edits({ base: story }),
  known = edits.load(),
  strip = new Strip(base);
const player = await transport($("[data-player]"), `${story}/plan`);
await Promise.all([known, strip.learn()]);
const meter = new Meter(byId("meter"), byId("meter-now"), JSON.parse(room.dataset.weighting));
let alone = false;

// ---- what is chosen
const block = (/** @type {number} */ id) => strip.data.blocks.find((/** @type {Block} */ b) => b.id === id);
/** @param {number|null} id */
function choose(id, more = false) {
  if (id === null) strip.chosen.clear();
  else if (more && strip.chosen.has(id)) strip.chosen.delete(id);
  else {
    if (!more) strip.chosen.clear();
    strip.chosen.add(id);
  }
  strip.moment = null;
  chosen();
}
/** @param {number[]} ids */
function chooseAll(ids) {
  strip.chosen = new Set(ids);
  strip.moment = null;
  chosen();
}
let asked = 0;
async function chosen() {
  const mine = ++asked;
  strip.draw();
  tellChosen();
  listenAlone();
  const what = new URLSearchParams({ items: [...strip.chosen].join(","), scope: scope() });
  const r = await fetch(`${base}/panel?${what}`);
  const html = await r.text();
  if (!r.ok || mine !== asked) return; // something else is chosen since
  redraw(panel, () => {
    panel.innerHTML = html;
  });
}
function tellChosen() {
  const rows = [...strip.chosen].map(block).filter(Boolean);
  byId("chosen-said").textContent =
    rows.length === 1 ? `${rows[0].name}: ${rows[0].tells}` : rows.length ? `${rows.length} clips selected` : "";
}
const first = () => block([...strip.chosen][0]);
const choice = roomChoice({
  first,
  choose,
  player,
  chosen: () => strip.chosen,
  marks: strip.marks,
  all: () => strip.data.blocks,
});

// ---- edits
/** What is chosen, as one text. */
const said = () => [...strip.chosen].join(" ");
async function anew() {
  await Promise.all([strip.learn(), player.reload()]);
  for (const id of [...strip.chosen]) if (!block(id)) strip.chosen.delete(id);
  listenAlone();
  await chosen();
  whole();
}
/** @param {Answer} got */
async function done(got, chosenThen = said()) {
  if (got.did) say([`${got.did}.`, ...(got.notes || [])].join(" "));
  if (strip.data && got.revision !== undefined) strip.data.revision = got.revision;
  const made = (got.made || []).length === 1 ? got.made[0] : null;
  await anew();
  if (made && block(made) && !strip.chosen.has(made) && said() === chosenThen) choose(made);
}
const { queue, send, later, asEdit, edit, wide, step } = roomEdits({
  story,
  said,
  anew,
  done,
  stands: () => strip.data,
  refused: () => {
    strip.drafts.clear();
    void chosen(); // what was typed is not what stands
  },
});

// ---- the whole
async function whole() {
  const l = strip.loud,
    s = Math.round(strip.data.length / strip.fps);
  byId("whole-length").textContent = `${Math.floor(s / 60)}:${String(s % 60).padStart(2, "0")}`;
  byId("loudness").textContent =
    l?.whole === null || !l ? "Silent." : `${l.whole} LUFS, range ${l.range ?? "–"} LU; ${l.target} is aimed at.`;
  for (const what of ["undo", "redo"]) $(`[data-do=${what}]`).disabled = !strip.data[what];
}
/** @type {Record<string, (more?: any) => unknown>} */
const acts = {
  ...ofTheMix({ base, strip, first, block, send }),
  undo: () => step("undo"),
  redo: () => step("redo"),
  alone: () => {
    if (!alone && !strip.chosen.size) return say("Choose what is to be heard alone first.", true);
    alone = !alone;
    listenAlone();
    return say(alone ? "Only what is chosen is heard. A: everything." : "Everything is heard.");
  },
  lanes: laneList(story, (command, params) => edit(command, params)),
  all: () => document.dispatchEvent(new Event("all-edits")),
  nearer: () => nearer(8),
  farther: () => nearer(-8),
  compare: () => comparing.press(),
  "clean-again": () => send(`${base}/recordings/${byId("panel-of").dataset.recording}/again`, {}),
  voice: () => take(),
};
function listenAlone() {
  $("[data-do=alone]").setAttribute("aria-pressed", String(alone));
  const only = alone ? said().replaceAll(" ", ",") : "";
  if (only === player.alone) return;
  player.alone = only;
  void player.reload();
}
byId("strip-heads").addEventListener("click", (/** @type {MouseEvent} */ e) => {
  const lane = inside(e, "[data-taller]");
  if (lane) strip.taller(lane.dataset.taller);
  const b = inside(e, "[data-switch]");
  if (!b) return;
  const on = b.getAttribute("aria-pressed") !== "true";
  edit(b.dataset.switch === "muted" ? "set_muted" : "set_solo", { lane: b.dataset.lane, [b.dataset.switch]: on });
});
room.addEventListener("click", (/** @type {MouseEvent} */ e) => {
  const b = inside(e, "[data-do]");
  if (b) acts[b.dataset.do]?.();
});
// ---- the panel
const scope = settingsPanel(panel, {
  chosenNow: () => strip.chosen,
  player,
  project,
  chosen,
  later,
  asEdit,
  send,
  first,
  listenAlone,
});
// While a clean-up is made the panel says how far it is; once it is there, it is what is heard.
setInterval(async () => {
  if (!byId("cleaning") || document.hidden || focused()?.closest("#panel input")) return;
  await chosen();
  if (!byId("cleaning")) await player.reload();
}, 1500);
const comparing = new BeforeAfter({
  project,
  player,
  stretch: (long) => {
    const b = first();
    if (!b?.heard) return null;
    /** @type {Record<string, any>} */ const wanted = {};
    for (const el of $$("[data-cleaning] [data-set]", panel)) {
      const typed = Number.isNaN(num(el.value)) ? el.value : num(el.value);
      wanted[el.dataset.set] = el.type === "checkbox" ? el.checked : typed;
    }
    const inside_ = b.at <= player.frame && player.frame < b.at + b.length ? player.frame - b.at : 0,
      a = momentOf(b, b.at + inside_) / strip.fps;
    const end = momentOf(b, b.at + b.length) / strip.fps,
      { a: m, b: n } = strip.marks;
    if (m !== null && n !== null && m >= b.at && n <= b.at + b.length)
      return {
        recording: b.source,
        a: momentOf(b, m) / strip.fps,
        b: momentOf(b, n) / strip.fps,
        wanted,
      };
    return { recording: b.source, a, b: Math.min(end, a + long), wanted };
  },
});

// ---- the strip
/** @param {number} by */
function nearer(by, frame = player.frame) {
  zoom.value = String(Math.max(0, Math.min(100, num(zoom.value) + by)));
  strip.zoom(num(zoom.value), frame);
}
zoom.addEventListener("input", () => strip.zoom(num(zoom.value)));
const seek = (/** @type {number} */ f) => {
  player.stop();
  player.seek(Math.max(0, Math.min(strip.data.length, Math.round(f))));
};
const tell = (/** @type {any} */ text) => (byId("chosen-said").textContent = text);
dipping(strip, { edit, tell });
dragging(strip, { choose, chooseAll, edit, seek, nearer, tell, player, project });
player.addEventListener("time", () => {
  strip.frame = player.frame;
  const x = strip.x(player.frame),
    w = strip.scroll.clientWidth;
  if (player.playing && (x < 0 || x > w - 20)) strip.scroll.scrollLeft += x - w / 8;
  strip.follow();
});
const tick = () => {
  requestAnimationFrame(tick);
  if (player.playing || comparing.on) {
    meter.listen(player.sound);
    meter.show(true);
  } else if (meter.taps && byId("meter-now").textContent !== "not playing") meter.show(false);
};
tick();
const take = voiceTake({ project, player, done });

// ---- keys
const { next, along, seams, mark } = walking({ strip, player, first, choose, seek });
onKeys({
  seam_before: () => seek(seams().findLast((j) => j < player.frame) ?? 0),
  seam_after: () => seek(seams().find((j) => j > player.frame) ?? player.frame),
  nearer: acts.nearer,
  farther: acts.farther,
  whole: () => nearer(-100),
  choose_piece: () => next((/** @type {Block} */ b) => b.kind === "piece"),
  choose_cover: () => next((/** @type {Block} */ b) => b.kind === "cover"),
  choose_sound: () => next((/** @type {Block} */ b) => b.kind === "sound"),
  next: () => along(1),
  last: () => along(-1),
  alone: acts.alone,
  compare: acts.compare,
  voice: acts.voice,
  mark_in: () => mark("a", false),
  mark_out: () => mark("b", false),
  unmark_in: () => mark("a", true),
  unmark_out: () => mark("b", true),
  all: acts.all,
  undo: acts.undo,
  redo: acts.redo,
  every: () => {
    const kind = first()?.kind ?? "piece";
    chooseAll(
      strip.data.blocks.filter((/** @type {Block} */ b) => b.kind === kind).map((/** @type {Block} */ b) => b.id),
    );
  },
  markers: markerList(
    story,
    (command, params) => edit(command, params),
    (frame) => seek(frame),
  ),
  nothing: () => (comparing.on ? comparing.press(true) : choose(null)),
});
edges((key, by) => edits.press(key, by));
onOtherKeys((chord) => edits.press(chord));
document.addEventListener(
  "keydown",
  (e) => {
    if (e.key === " " && comparing.on && !typing(e)) {
      e.preventDefault();
      e.stopPropagation();
      comparing.press(true);
    }
  },
  true,
);

const lends = roomLends({
  base: story,
  player,
  choice,
  edit,
  wide,
  acts,
  own: [
    { label: "Even out the voices, each speaker", act: () => acts.even() },
    { label: "Even out the voices, each piece for itself", act: () => acts.even("piece") },
    { label: "Duck music under speech", act: acts.duck },
    { label: "Fit music by bars, to the end or the out mark", act: acts.fit },
    { label: "Bites along the music, on bars", act: acts.spread },
    { label: "Room tone under spaces", act: acts.tone },
    { label: "Bring the whole to its loudness", act: acts.target },
    { label: "Measure the whole mix", act: acts.measure },
    { label: "Hear what is chosen alone", key: "A", act: acts.alone },
    { label: "Before and after of the clean-up", key: "C", act: acts.compare },
    { label: "Voice-over", key: "H", act: acts.voice },
  ],
});
edits.story = lends;
allEdits(lends, edits);
if (location.hash.length > 1) player.seek(num(location.hash.slice(1)) || 0);
const offered = $(`[data-do="${new URLSearchParams(location.search).get("do") ?? ""}"]`);
if (offered) {
  offered.focus();
  say(`${offered.title || offered.textContent}: press Enter to do it.`);
}
strip.frame = player.frame;
whole();
chosen();
playsSelection(player, () => choice.range());
await remembered(
  `sound ${strip.data.story}`,
  () => ({
    frame: player.frame,
    zoom: num(zoom.value),
    left: strip.scroll.scrollLeft,
    chosen: [...strip.chosen],
    marks: strip.marks,
  }),
  (stood) => {
    player.seek(stood.frame);
    zoom.value = String(stood.zoom);
    strip.zoom(stood.zoom);
    strip.scroll.scrollLeft = stood.left;
    Object.assign(strip.marks, stood.marks);
    for (const id of stood.chosen) if (block(id)) choose(id, true);
  },
);
window.kovel = {
  ...window.kovel,
  strip,
  sound: { edit, choose, idle: () => queue.end, drawn: () => $$("#panel [data-set]").length },
};
