// The Picture room: turns keys, clicks and drags into requests. The server holds the story and makes strip and panels.
import { $, byId, inside, num } from "/static/js/dom.js";
import { redraw, say } from "/static/js/base.js";
import { onKeys } from "/static/js/keys.js";
import { playsSelection } from "/static/js/around.js";
import { remembered } from "/static/js/remembered.js";
import { transport } from "/static/js/transport.js";
import { Edits } from "/static/js/edits.js";
import { allEdits } from "/static/js/alledits.js";
import { laneList } from "/static/js/lanelist.js";
import { markerList } from "/static/js/markerlist.js";
import { roomChoice, roomEdits, roomLends } from "/static/js/roomedits.js";
import { settingsPanel } from "/static/js/settingspanel.js";
import { levels, safe } from "./overpicture.js";
import { filmStrip } from "./filmstrip.js";
import { dialogs } from "./picturedialogs.js";
import { frameDrag } from "./framedrag.js";
import { frameSelect, touches } from "/static/js/frameselect.js";
import { walking } from "./picturewalk.js";
import { paceLine } from "./paceline.js";

const room = byId("pictureroom"),
  project = `/p/${room.dataset.project}`,
  base = `${project}/picture`,
  story = `${project}/story`,
  place = byId("film"),
  panel = byId("panel"),
  zoom = byId("zoom");

const edits = new Edits({ base: story }),
  known = edits.load(),
  player = await transport($("[data-player]"), `${story}/plan`);
await known;

// ---- the strip
/** @type {Set<number>} */ const chosen = new Set();
const strip = filmStrip({ base, place, zoom, player, chosen }),
  { film, shots, shot, about, px, mark } = strip,
  drawFilm = strip.draw;

// ---- what is chosen
let asked = 0;
/** @param {number|null} id */
function choose(id, more = false) {
  if (id === null) chosen.clear();
  else if (more && chosen.has(id)) chosen.delete(id);
  else {
    if (!more) chosen.clear();
    chosen.add(id);
  }
  mark();
  void showPanel();
}
async function showPanel() {
  const mine = ++asked;
  const what = new URLSearchParams({ items: [...chosen].join(","), scope: scope() });
  const r = await fetch(`${base}/panel?${what}`),
    html = await r.text();
  if (!r.ok || mine !== asked) return;
  redraw(panel, () => {
    panel.innerHTML = html;
  });
  pace.drawn();
  void showLevels();
}
const showLevels = levels({ base, player, chosen, head: strip.head });
const one = () => (chosen.size === 1 && shot([...chosen][0]) ? about(shot([...chosen][0])) : null);
const first = () => (chosen.size && shot([...chosen][0]) ? about(shot([...chosen][0])) : null);
const said = () => [...chosen].join(" ");

// ---- edits
async function anew() {
  await player.reload();
  await drawFilm();
  await showPanel();
}
/** @param {Answer} got @param {string} chosenThen */
async function done(got, chosenThen) {
  if (got.did) say([`${got.did}.`, ...(got.notes || [])].join(" "));
  if (film() && got.revision !== undefined) film().dataset.revision = got.revision;
  await anew();
  const made = (got.made || []).length === 1 ? got.made[0] : null;
  if (made && shot(made) && !chosen.has(made) && said() === chosenThen) choose(made);
}
const { queue, send, later, asEdit, edit, wide, step } = roomEdits({
  story,
  said,
  anew,
  done,
  stands: () => ({ revision: num(film().dataset.revision), story: num(film().dataset.story) }),
  refused: () => void anew(), // what was typed or dragged is not what stands
});
const scope = settingsPanel(panel, {
  chosenNow: () => chosen,
  player,
  project,
  chosen: showPanel,
  later,
  asEdit,
  send,
  first,
  listenAlone: () => {},
});
const choice = roomChoice({
  first,
  choose,
  player,
  chosen: () => chosen,
  marks: { a: null, b: null },
  all: () => shots().map(about),
});
const tell = (/** @type {any} */ text) => (byId("chosen-said").textContent = text);
const pace = paceLine(panel, { edit, tell, player, say });
const frame = frameDrag(player, { one, edit, tell });

// ---- what the room does
/**
 * Sets several settings at the scope that is picked, in one step.
 * @param {{ [s: string]: any; } | ArrayLike<any>} settings @param {any} did
 */
async function setRows(settings, did) {
  const where = scope();
  if (where === "recording") {
    for (const [setting, value] of Object.entries(settings))
      await send(`${project}/recordings/${byId("panel-of").dataset.recording}/settings`, { setting, value });
    return;
  }
  const to = where === "items" ? [...chosen] : [where];
  const rows = to.flatMap((x) => Object.entries(settings).map(([n, v]) => [x, n, v]));
  await edit("set_several", { rows, did });
}
const need = () => chosen.size || say("Choose a piece or a cover first (G, V).", true) || false;
const toggle = (/** @type {string} */ name, /** @type {boolean} */ on) =>
  $(`[data-do=${name}]`).setAttribute("aria-pressed", String(on));
/** @type {Record<string, () => unknown>} */ const acts = {
  undo: () => step("undo"),
  redo: () => step("redo"),
  push: () => need() && edit("push", { items: [...chosen], last: 112 }),
  steps: () => need() && edit("stepped_zoom", { items: [...chosen], values: "150 140 125" }),
  poses: () => send(`${base}/poses`, { revision: null, ask: true }),
  punch: () => send(`${base}/punch`, { zoom: 125, revision: null, ask: true }),
  faces: () => need() && send(`${base}/faces`, { items: [...chosen], revision: null }),
  split: () => need() && edit("split_screen", { items: [...chosen] }),
  before: () => {
    player.plainly = !player.plainly;
    player.shown = null;
    toggle("before", player.plainly);
    say(player.plainly ? "As it was filmed, without looks. C: as it is." : "With its look.");
  },
  halves: () => {
    player.halves = !player.halves;
    player.shown = null;
    toggle("halves", player.halves);
  },
  edges: () => {
    const el = byId("over");
    el.hidden = !el.hidden;
    toggle("edges", !el.hidden);
    safe(player.canvas);
  },
  match: () => {
    const id = byId("panel-of")?.dataset.recording;
    if (!need() || !id) return;
    const names = new Map(shots().map((s) => [num(s.dataset.id), s.dataset.tells.split(":")[0]]));
    byId("match-mine").textContent = names.get([...chosen][0]) || "it";
    byId("match-dialog").showModal();
  },
  white: () => {
    const on = player.canvas.dataset.pick !== "1";
    if (on && !need()) return;
    if (on) player.canvas.dataset.pick = "1";
    else delete player.canvas.dataset.pick;
    toggle("white", on);
    say(on ? "Click something in the picture that was grey or white in truth. Esc: never mind." : "Nothing picked.");
  },
  upright: () => byId("upright-dialog").showModal(),
  "save-look": () => need() && byId("save-dialog").showModal(),
  "drop-look": () => {
    const name = byId("saved").value;
    return name ? send(`${base}/looks/away`, { name }) : say("Pick a saved look in the list first.", true);
  },
  ramp: pace.ramp,
  unramp: pace.unramp,
  land: pace.land,
  "title-style": () => edit("title_style", { title: [...chosen][0] }),
  title: () => byId("title-dialog").showModal(),
  lanes: laneList(story, (command, params) => edit(command, params)),
  all: () => document.dispatchEvent(new Event("all-edits")),
  nearer: () => nearer(8),
  farther: () => nearer(-8),
};
room.addEventListener("click", (/** @type {MouseEvent} */ e) => {
  const b = inside(e, "[data-do]");
  if (b) acts[b.dataset.do]?.();
});
/** @param {number} by */
function nearer(by) {
  zoom.value = String(Math.max(0, Math.min(100, num(zoom.value) + by)));
  void drawFilm();
}
zoom.addEventListener("change", () => void drawFilm());
addEventListener("resize", () => {
  safe(player.canvas);
  void drawFilm();
});

dialogs({ base, panel, player, acts, first, edit, send, setRows });

// ---- choosing
place.addEventListener("click", (/** @type {MouseEvent} */ e) => {
  const el = inside(e, ".film-shot");
  const r = film().getBoundingClientRect();
  player.stop();
  if (!el) return void player.seek((e.clientX - r.left) / px());
  const b = about(el),
    at = e.detail ? (e.clientX - r.left) / px() : b.at;
  const more = e.shiftKey || e.ctrlKey || e.metaKey;
  if (!more) player.seek(Math.max(b.at, Math.min(b.at + b.length - 1, at)));
  return choose(b.id, more);
});
frameSelect(place, {
  begins: (e) => !inside(e, ".film-shot") && Boolean(inside(e, ".film-row")),
  clips: (rect) => shots().map((el) => [num(el.dataset.id), touches(rect, el.getBoundingClientRect())]),
  select: (ids, more) => {
    if (!more) chosen.clear();
    for (const id of ids) chosen.add(id);
    mark();
    void showPanel();
  },
});
const { next, along, alike, copy, paste } = walking({
  base,
  place,
  player,
  strip,
  first,
  choose,
  showPanel,
  need,
  edit,
});

// ---- keys
const seams = () => [0, ...player.plan.seams.map((/** @type {any[]} */ s) => s[0]), player.plan.length];
const seek = (/** @type {number} */ f) => {
  player.stop();
  player.seek(f);
};
onKeys({
  seam_before: () => seek(seams().findLast((j) => j < player.frame) ?? 0),
  seam_after: () => seek(seams().find((j) => j > player.frame) ?? player.frame),
  nearer: acts.nearer,
  farther: acts.farther,
  whole: () => nearer(-100),
  choose_piece: () => next("piece"),
  choose_cover: () => next("cover"),
  next: () => along(1),
  last: () => along(-1),
  alike,
  zoom_in: () => frame.zoom(1),
  zoom_far_in: () => frame.zoom(10),
  zoom_out: () => frame.zoom(-1),
  zoom_far_out: () => frame.zoom(-10),
  ...Object.fromEntries(
    [
      ["left", -1, 0],
      ["right", 1, 0],
      ["up", 0, -1],
      ["down", 0, 1],
    ].flatMap(([way, x, y]) => [
      [`move_${way}`, () => frame.nudge(num(x) / 100, num(y) / 100)],
      [`move_far_${way}`, () => frame.nudge(num(x) / 10, num(y) / 10)],
    ]),
  ),
  push_here: () => frame.push(),
  before: acts.before,
  halves: acts.halves,
  white: acts.white,
  edges: acts.edges,
  title: acts.title,
  faces: acts.faces,
  copy,
  paste,
  marker: () => edit("add_marker", { at: player.frame }),
  markers: markerList(
    story,
    (command, params) => edit(command, params),
    (frame) => seek(frame),
  ),
  every: () => {
    const kind = first()?.kind ?? "piece";
    for (const el of shots()) if (about(el).kind === kind) chosen.add(about(el).id);
    mark();
    void showPanel();
  },
  all: acts.all,
  undo: acts.undo,
  redo: acts.redo,
  nothing: () => (player.canvas.dataset.pick ? acts.white() : choose(null)),
});

const lends = roomLends({
  base: story,
  player,
  choice,
  edit,
  wide,
  acts,
  own: [
    { label: "Match this recording's colours to another one", act: acts.match },
    { label: "White by something grey that is picked", key: "W", act: acts.white },
    { label: "A version in another shape", act: acts.upright },
    { label: "As filmed, without looks", key: "C", act: acts.before },
    { label: "Before and after side by side", key: "H", act: acts.halves },
    { label: "Sit it on the speaker’s face", key: "S", act: acts.faces },
    { label: "Title, lower third, credits…", key: "N", act: acts.title },
    { label: "Safe areas", key: "E", act: acts.edges },
    { label: "Save this look under a name", act: acts["save-look"] },
    { label: "Save the look as a .cube table", act: acts["table-out"] },
    { label: "Choose all of the same recording", key: "A", act: alike },
  ],
});
edits.story = lends;
allEdits(lends, edits);
if (location.hash.length > 1) player.seek(num(location.hash.slice(1)) || 0);
await drawFilm();
place.scrollLeft = 0;
playsSelection(player, () => choice.range());
await remembered(
  `picture ${film().dataset.story}`,
  () => ({ frame: player.frame, zoom: zoom.value, left: place.scrollLeft, chosen: [...chosen] }),
  async (stood) => {
    player.seek(stood.frame);
    if (stood.zoom !== zoom.value) {
      zoom.value = stood.zoom;
      await drawFilm();
    }
    place.scrollLeft = stood.left;
    for (const id of stood.chosen) if (shot(id)) chosen.add(id);
    mark();
  },
);
await showPanel();
const offered = $(`[data-do="${new URLSearchParams(location.search).get("do") || "-"}"]`);
if (offered) {
  offered.focus();
  say(`${offered.title || offered.textContent}: press Enter to do it.`);
}
window.kovel = { ...window.kovel, picture: { edit, choose, chosen, frame, idle: () => queue.end } };
