// The Story room: turns keys, clicks and drags into requests. The server holds the story.
import { $, $$, byId, inside, num } from "/static/js/dom.js";
import { say } from "/static/js/base.js";
import { waves } from "/static/js/peaks.js";
import { edges, onKeys, onOtherKeys } from "/static/js/keys.js";
import { playsSelection } from "/static/js/around.js";
import { remembered } from "/static/js/remembered.js";
import { transport } from "/static/js/transport.js";
import { Edits } from "/static/js/edits.js";
import { laneList } from "/static/js/lanelist.js";
import { markerList } from "/static/js/markerlist.js";
import { allEdits } from "/static/js/alledits.js";
import { Choice } from "./storychoice.js";
import { dragging } from "./storydrag.js";
import { coverThis } from "./storycovers.js";
import { copying, others } from "./storyothers.js";
import { laying } from "./storylay.js";
import { aroundThePage } from "./storymap.js";
import { Sender } from "./storysend.js";
import { Hand, shelf } from "./storyshelf.js";
import { seamDesk } from "./seamdesk.js";
import { choosing } from "./storypage.js";
import { selectionBar } from "./selectionbar.js";
import { seamsOf } from "./storyseams.js";

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
  choose = (/** @type {import("./storychoice.js").Chosen|null} */ what) => choice.choose(what);
const sender = new Sender(
  base,
  { sheet, scroll, zoom },
  { player, dress, busy: () => drag.under(), answered, standing },
);
const edit = (/** @type {string} */ command, /** @type {object} */ params) => sender.edit(command, params),
  undo = () => sender.step("undo"),
  redo = () => sender.step("redo");

// A range that was taken out is chosen no more.
/** @param {Record<string, any>} body */
function answered(body) {
  if (!["extract", "lift"].includes(body?.command)) return;
  const mine = body.a === choice.marks.a && body.b === choice.marks.b;
  choose(null);
  if (mine) choice.unmark();
}
// Once the plan is there, the playhead and what is chosen stand where the edit left them.
/** @param {any} body @param {string|null} at @param {string|null} made */
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
  else if (now?.kind === "several" && choice.clips().length)
    choice.chooseClips(now.ids); // those of them that are left
  else if (made && body?.command !== "split") {
    const ids = made.split(",").map(num);
    choice.chooseClips(["paste", "lay_several"].includes(body?.command) ? ids : ids.slice(0, 1));
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
const layIt = (/** @type {string} */ where, /** @type {object} */ body) =>
  sender.send(where, { ...body, story: sender.client.stands().story });
const coverAt = laying({ sheet, choice, hand, send: layIt });
/** @type {Record<string, () => unknown>} */ const acts = {
  undo,
  redo,
  add: () => edits.press("B"),
  insert: () => edits.press("N"),
  overwrite: () => edits.press("W"),
  cover: () => coverAt(player.frame),
  gap: () => coverAt(player.frame, { how: "gap" }),
  split: () => edits.press("S"),
  extract: () => edits.press("X"),
  lift: () => edits.press("Shift X"),
  all: () => document.dispatchEvent(new Event("all-edits")),
  lanes: laneList(base, (command, params) => edit(command, params)),
};
byId("tools").addEventListener("click", (/** @type {MouseEvent} */ e) => {
  const b = inside(e, "[data-do]");
  if (b) acts[b.dataset.do]();
});
room.addEventListener("click", (/** @type {MouseEvent} */ e) => {
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
/** @param {number} y */
function frameAt(y) {
  const f = Math.round((y - sheet().getBoundingClientRect().top) / px());
  return Math.max(0, Math.min(num(sheet().dataset.length), f));
}
const page = choosing(scroll, { player, choice, frameAt });
const drag = dragging(scroll, {
  project,
  sheet,
  px,
  frameAt,
  player,
  choice,
  hand,
  edit,
  coverAt,
  swept: () => page.swept(),
});
// ---- the playhead
/** @type {HTMLElement|null} */ let now = null; // the word that is said
function head(follow = false) {
  const h = byId("head");
  if (!h) return;
  const y = player.frame * px();
  h.style.top = `${y}px`;
  const out = y < scroll.scrollTop + 40 || y > scroll.scrollTop + scroll.clientHeight - 60;
  if (follow && out) scroll.scrollTop = y - scroll.clientHeight / 3;
}
const under = (/** @type {string} */ sel) => {
  const holds = (/** @type {HTMLElement} */ x) =>
    num(x.dataset.at) <= player.frame && player.frame < num(x.dataset.at) + num(x.dataset.length);
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
const { seamAt, seamStep, theSeam, loopSeam, rollSeam } = seamsOf({ player, choice, edits });
edges((key, by) => {
  const can = choice.laid() || choice.piece() || choice.what?.kind === "seam";
  return can ? edits.press(key, by) : say("Choose a piece (G) or a cover (V) first.", true);
});
const covering = coverThis({ base, player, choice, edit });
const { otherCamera, otherTelling } = others({ base, player, edit });
const { copied, copyRange } = copying({ base, choice });

// ---- keys
const seams = () => [...player.plan.pieces.map((/** @type {any[]} */ p) => p[1]), player.plan.length];
const go = (/** @type {number} */ frame) => {
  player.stop();
  player.seek(frame);
};
onKeys({
  seam_before: () => go(seams().findLast((j) => j < player.frame) ?? 0),
  seam_after: () => go(seams().find((j) => j > player.frame) ?? player.frame),
  undo,
  redo,
  choose_piece: () => {
    const p = choice
      .pieces()
      .find(
        (/** @type {{ at: number; length: any; }} */ x) => x.at <= player.frame && player.frame < x.at + x.length,
      );
    choose(p ? { kind: "piece", id: p.id } : null);
  },
  choose_cover: () => {
    const c = under(".laid");
    if (c) choose({ kind: "cover", id: num(c.dataset.cover) });
    else say("No cover lies at the playhead.", true);
  },
  add_piece: () => {
    const p = choice
      .every()
      .find((x) => x.kind === "piece" && x.at <= player.frame && player.frame < x.at + x.length);
    if (p) choice.toggle(p.id);
  },
  every: () => {
    const kind = choice.clips()[0]?.kind ?? "piece",
      alike = choice.every().filter((clip) => clip.kind === kind);
    choice.chooseClips(alike.map((clip) => clip.id));
    say(`${alike.length} clips selected.`);
  },
  covering,
  mark_in: () => choice.setMark("a", false),
  mark_out: () => choice.setMark("b", false),
  unmark_in: () => choice.setMark("a", true),
  unmark_out: () => choice.setMark("b", true),
  next_seam: () => seamStep(1),
  last_seam: () => seamStep(-1),
  next_jump: () => seamStep(1, "jump"),
  last_jump: () => seamStep(-1, "jump"),
  loop: loopSeam,
  other_camera: otherCamera,
  other_telling: otherTelling,
  copy: () => (String(getSelection()) ? false : copyRange()),
  all: acts.all,
  wide_waves: () => wideWaves(!scroll.classList.contains("wide-waves")),
  bar: () => toBar(),
  markers: markerList(
    base,
    (command, params) => edit(command, params),
    (frame) => go(frame),
  ),
  find: () => document.dispatchEvent(new Event("find")),
  roll_back: () => rollSeam(-1),
  roll_on: () => rollSeam(1),
  roll_five_back: () => rollSeam(-5),
  roll_five_on: () => rollSeam(5),
  nothing: () => {
    choose(null);
    hand.pick(null);
  },
  ...Object.fromEntries([1, 2, 3, 4, 5, 6].map((n) => [`tab_${n}`, () => tabs.nth(n)])),
});
onOtherKeys((chord) => edits.press(chord));

/** @param {boolean} on */
function wideWaves(on) {
  scroll.classList.toggle("wide-waves", on);
  waves(sheet());
}
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
  wide: (/** @type {any} */ command, /** @type {any} */ params) => sender.wide(command, params),
  acts,
  theSeam,
  seamStep,
  loopSeam,
  otherCamera,
  otherTelling,
  covering,
  copyRange,
  copied,
};
edits.story = here;
seamDesk(here);
const toBar = selectionBar({ base, choice, edits, edit });
allEdits(here, edits);
aroundThePage(here);
playsSelection(player, () => choice.span());
await remembered(
  `story ${sender.client.stands().story}`,
  () => ({
    frame: player.frame,
    zoom: zoom.value,
    top: scroll.scrollTop,
    tab: tabs.at(),
    wide: scroll.classList.contains("wide-waves"),
    ...choice.stands(),
  }),
  async (stood) => {
    if (stood.zoom !== zoom.value && $(`option[value="${stood.zoom}"]`, zoom)) {
      zoom.value = stood.zoom;
      await sender.again("");
    }
    player.seek(stood.frame);
    choice.stand(stood);
    tabs.show(stood.tab);
    if (stood.wide) wideWaves(true);
    scroll.scrollTop = stood.top;
    sender.fill();
  },
);
