// The Log room: marks by key, by word and by dragging; where the playhead is among the words.
import { $, $$, byId, inside, focused, num } from "/static/js/dom.js";
import { post } from "/static/js/base.js";
import { remembered } from "/static/js/remembered.js";
import { biteDesk } from "./logbite.js";
import { playing } from "./logplay.js";
import { markFields, pulling } from "./logfields.js";
import { judging, keep } from "./logjudging.js";
import { sweeping } from "./logsweep.js";
import { overviewOf } from "./logoverview.js";
import { goToAddress } from "./logmore.js";
import { alongTheRecording } from "./logmarks.js";
import { correcting } from "./logwords.js";
import { Loupe } from "/static/js/loupe.js";
import { waves } from "/static/js/peaks.js";
import { nearest } from "/static/js/snapping.js";
import { onKeys } from "/static/js/keys.js";
import { timecode, transport } from "/static/js/transport.js";

const log = byId("log"),
  total = Number(log.dataset.total),
  fps = Number(log.dataset.fps);
const form = byId("keep"),
  overview = byId("overview");
const base = `/p/${log.dataset.project}`,
  here = `${base}/recordings/${log.dataset.recording}`;
/** @type {any[]} */ const words = [];
const gather = () => {
  words.length = 0;
  for (const el of $$("#words .w")) words.push({ el, a: Number(el.dataset.a), b: Number(el.dataset.b) });
};
gather();
/** @type {{in: number|null, out: number|null, [which: string]: number|null}} */
let marks = { in: null, out: null };
let moved = "in"; // the edge last moved
/** @type {Record<string, string>} */ let shown = { in: "", out: "" }; // what the fields were given to show
let snapping = false;
const pc = (/** @type {number} */ f) => `${(100 * f) / total}%`;
const player = await transport(
  $("[data-player]"),
  `/p/${log.dataset.project}/recordings/${log.dataset.recording}/plan`,
);
const rate = player.plan.rate;

const loupes = ["in", "out"].map(
  (which) =>
    new Loupe(byId(`loupe-${which}`), {
      recording: num(log.dataset.recording),
      fps,
      rate,
      total,
      words,
      get: () => marks[which],
      set: (/** @type {any} */ f) => mark(which, f),
      go: (/** @type {number} */ f) => player.seek(f),
      near: (/** @type {any} */ f, /** @type {any} */ reach) => (snapping ? snapped(f, reach) : f),
    }),
);

// The word or pause edge within reach of a frame; the frame itself where there is none.
/** @param {number} f @param {number} reach */
function snapped(f, reach) {
  const near = words.slice(Math.max(0, find(f) - 4), find(f + reach)),
    pauses = along.known.pauses.filter(([a, b]) => b > f - reach && a < f + reach);
  return nearest(f, reach + 1, [
    ["word", near.flatMap(({ a, b }) => [a, b])],
    ["pause", pauses.flat()],
  ]).at;
}

/** @type {any[]} */ let lit = []; // words inside in and out
// How many words begin at or before a frame.
/** @param {number} frame */
function find(frame) {
  let lo = 0,
    hi = words.length;
  while (lo < hi) {
    const m = (lo + hi) >> 1;
    if (words[m].a <= frame) lo = m + 1;
    else hi = m;
  }
  return lo;
}

/** @param {string} which @param {number} frame */
function mark(which, frame) {
  frame = Math.max(0, Math.min(total, Math.round(frame)));
  marks[which] = frame;
  moved = which;
  show();
}

function show() {
  const { in: a, out: b } = marks;
  form.elements.start.value = a ?? "";
  form.elements.end.value = b ?? "";
  shown = { in: a === null ? "" : timecode(a, rate), out: b === null ? "" : timecode(b, rate) };
  for (const which of ["in", "out"])
    if (focused() !== byId(`${which}-tc`) || which === moved) byId(`${which}-tc`).value = shown[which];
  const turned = a !== null && b !== null && b <= a;
  byId("in-out").textContent = turned ? "Out is before In" : a !== null && b !== null ? timecode(b - a, rate) : "–";
  byId("in-out").classList.toggle("text-pencil", turned);
  byId("edge-in").hidden = a === null;
  byId("edge-out").hidden = b === null;
  if (a !== null) byId("edge-in").style.left = pc(a);
  if (b !== null) byId("edge-out").style.left = pc(b);
  byId("range").hidden = a === null || b === null || turned;
  if (a !== null && b !== null && !turned) {
    byId("range").style.left = pc(a);
    byId("range").style.width = pc(b - a);
  }
  for (const l of loupes) l.show(player.frame);
  const on = [];
  if (a !== null && b !== null)
    for (let i = Math.max(0, find(a) - 1); i < words.length && words[i].a < b; i++)
      if (a <= (words[i].a + words[i].b) / 2 && (words[i].a + words[i].b) / 2 < b) on.push(words[i].el);
  const now = new Set(on);
  for (const el of lit) if (!now.has(el)) el.classList.remove("is-on");
  for (const el of on) el.classList.add("is-on");
  lit = on;
}

/** @type {HTMLElement|null} */ let now = null;
player.addEventListener("time", () => {
  for (const l of loupes) if (l.get() === null) l.show(player.frame);
  byId("now").style.left = `${(100 * player.frame) / total}%`;
  const lo = find(player.frame);
  const w = words[lo - 1] && player.frame < words[lo - 1].b + fps / 2 ? words[lo - 1].el : null;
  if (w === now) return;
  now?.classList.remove("is-now");
  now = w;
  w?.classList.add("is-now");
  if (player.playing) w?.scrollIntoView({ block: "nearest" });
});

/** @param {{in: number|null, out: number|null}} now */
const set = (now) => {
  marks = now;
  show();
};
const bite = biteDesk({ form, range: () => marks, set, seek: (f) => player.seek(f) });
sweeping({ words, find, total, fps, player, set: (now) => bite.fresh(now.in, now.out) });
overviewOf({
  overview,
  total,
  fps,
  recording: log.dataset.recording,
  player,
  mark,
  edge: (which) => marks[which],
  redrawn: () => loupes.forEach((l) => l.draw()),
  grown: () => along.loadAlong(),
});
const choose = (/** @type {number} */ a, /** @type {number} */ b) => {
  bite.fresh(a, b);
  player.seek(a);
};
const along = alongTheRecording(here, total, { choose, open: (clip) => opened(clip), seek: (f) => player.seek(f) }),
  editWord = correcting(here);
along.keptMarks();
along.loadAlong();
let coming = 0;
const { boundary, endSlices, walk, judge, stand, standAt } = judging({
  base,
  here,
  player,
  rate,
  marks: () => marks,
  open: bite.open,
});
/** @param {HTMLElement} clip */
function opened(clip) {
  bite.open(clip);
  standAt(String(clip.dataset.clip));
}
document.body.addEventListener("htmx:afterSettle", (/** @type {CustomEvent} */ e) => {
  if (inside(e, "#clips")) {
    along.keptMarks();
    bite.refresh();
    stand();
  }
  if (!inside(e, "#words") || coming) return;
  coming = setTimeout(() => {
    // once for all the sentences that came
    coming = 0;
    gather();
    now?.classList.remove("is-now");
    lit = [];
    now = null;
    show();
  });
});
document.body.addEventListener("htmx:oobAfterSwap", () => {
  gather();
  along.keptMarks();
  lit = [];
  now = null;
  bite.refresh();
  show();
  stand();
});
document.body.addEventListener("htmx:afterRequest", (/** @type {CustomEvent} */ e) => {
  if (e.detail.elt === form && e.detail.successful && e.detail.xhr.status === 200) focused().blur();
  if (e.detail.successful && (e.detail.pathInfo?.requestPath || "").match(/words|hearing|to-story|undo/))
    along.loadAlong();
});
document.addEventListener("click", (e) => {
  const c = inside(e, "[data-goto]")?.closest("[data-clip]");
  if (c) opened(c);
  const go = inside(e, "#clips [data-go]");
  if (go) player.seek(Number(go.dataset.go));
});

const pull = pulling({ here, marks: () => marks, set });
const around = playing({ player, total, marks: () => marks, isRange: bite.isRange, moved: () => moved });
function snap() {
  snapping = !snapping;
  byId("snap").setAttribute("aria-pressed", snapping);
}
const turnBack = (/** @type {boolean} */ redo) =>
  post(`${base}/log/undo?rec=${log.dataset.recording}${redo ? "&redo=true" : ""}`, {
    target: "#report",
    swap: "none",
  });
const best = $("#log [data-best]");
function useBest() {
  if (!best) return;
  const [a, b] = best.dataset.best.split(",").map(Number);
  choose(a, b);
}
byId("snap").addEventListener("click", snap);
byId("pull").addEventListener("click", pull);
byId("use-best")?.addEventListener("click", useBest);

markFields({
  form,
  player,
  shown: () => shown,
  mark,
  unset: (which) => {
    marks[which] = null;
    show();
  },
});
onKeys({
  undo: () => turnBack(false),
  redo: () => turnBack(true),
  mark_in: () => mark("in", player.frame),
  mark_out: () => mark("out", player.frame),
  go_in: () => player.seek(marks.in ?? player.frame),
  go_out: () => player.seek(marks.out ?? player.frame),
  ...around,
  pull,
  snap,
  best: useBest,
  slice: boundary,
  end_slices: endSlices,
  marker: () => keep(`${here}/markers`, { frame: player.frame }),
  name_marker: () => ($("#clips [data-marker] input[value='']") ?? $$("#clips [data-marker] input").at(-1))?.focus(),
  next: () => walk(1, player.playing),
  last: () => walk(-1, player.playing),
  keep: () => judge("keep"),
  maybe: () => judge("maybe"),
  drop: () => judge("drop"),
  correct: () => {
    const w = words[Math.max(0, find(player.frame) - 1)];
    if (w) editWord(w.el);
  },
  search: () => byId("q").focus(),
  name: () => form.elements.name.focus(),
  keep_range: (e) => (inside(e, "button, a, select") ? false : form.requestSubmit()),
  save_new: (e) => (inside(e, "button, a, select") ? false : bite.saveNew()),
  close_bite: () => bite.fresh(null, null),
});
show();
waves(document);
goToAddress();
void remembered(
  `log ${log.dataset.recording}`,
  () => ({ frame: player.frame, marks, open: form.elements.of.value }),
  (stood) => {
    const clip = stood.open && $(`#clips [data-clip="${stood.open}"]`, document);
    if (clip) opened(clip);
    if (Math.max(stood.marks.in ?? 0, stood.marks.out ?? 0) <= total) set(stood.marks);
    player.seek(stood.frame);
    $("#words .w.is-now")?.scrollIntoView({ block: "center" });
  },
);
window.kovel.marks = () => marks;
