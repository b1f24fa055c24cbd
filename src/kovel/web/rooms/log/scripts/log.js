// The Log room: marks by key, by word and by dragging; where the playhead is among the words.
import { $, $$, byId, inside, focused, target, num } from "/static/js/dom.js";
import { post, say } from "/static/js/base.js";
import { alongTheRecording } from "./logmarks.js";
import { correcting } from "./logwords.js";
import { Loupe } from "/static/js/loupe.js";
import { forget, wave, waves } from "/static/js/peaks.js";
import { readTime } from "/static/js/times.js";
import { timecode, transport, typing } from "/static/js/transport.js";

const log = byId("log"),
  total = Number(log.dataset.total),
  fps = Number(log.dataset.fps);
const form = byId("keep"),
  overview = byId("overview");
const base = `/p/${log.dataset.project}`,
  here = `${base}/recordings/${log.dataset.recording}`;
const words = [];
const gather = () => {
  words.length = 0;
  for (const el of $$("#words .w")) words.push({ el, a: Number(el.dataset.a), b: Number(el.dataset.b) });
};
gather();
let marks = { in: null, out: null };
let moved = "in"; // the edge last moved
let shown = { in: "", out: "" }; // what the fields were given to show
let snapping = false;
const pc = (f) => `${(100 * f) / total}%`;
const player = await transport(
  $("[data-player]"),
  `/p/${log.dataset.project}/recordings/${log.dataset.recording}/plan`,
);
const rate = player.plan.rate;

const loupes = ["in", "out"].map(
  (which) =>
    new Loupe(byId(`loupe-${which}`), {
      recording: log.dataset.recording,
      fps,
      rate,
      total,
      words,
      get: () => marks[which],
      set: (f) => mark(which, f),
      go: (f) => player.seek(f),
      near: (f, reach) => (snapping ? nearest(which, f, reach) : f),
    }),
);

// The word or pause edge within reach of a frame; the frame itself where there is none.
function nearest(which, f, reach) {
  let best = f,
    gap = reach + 1;
  const look = (x) => {
    if (Math.abs(x - f) < gap) {
      gap = Math.abs(x - f);
      best = x;
    }
  };
  for (let i = Math.max(0, find(f) - 4); i < words.length && words[i].a < f + reach; i++) {
    look(words[i].a);
    look(words[i].b);
  }
  for (const [a, b] of along.known.pauses)
    if (b > f - reach && a < f + reach) {
      look(a);
      look(b);
    }
  return best;
}

let lit = []; // words inside in and out
// How many words begin at or before a frame.
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

function mark(which, frame) {
  frame = Math.max(0, Math.min(total, Math.round(frame)));
  marks[which] = frame;
  moved = which;
  if (marks.in !== null && marks.out !== null && marks.in >= marks.out) marks[which === "in" ? "out" : "in"] = null;
  show();
}

function show() {
  const { in: a, out: b } = marks;
  form.elements.start.value = a ?? "";
  form.elements.end.value = b ?? "";
  shown = { in: a === null ? "" : timecode(a, rate), out: b === null ? "" : timecode(b, rate) };
  for (const which of ["in", "out"])
    if (focused() !== byId(`${which}-tc`) || which === moved) byId(`${which}-tc`).value = shown[which];
  byId("in-out").textContent = a !== null && b !== null ? timecode(b - a, rate) : "–";
  byId("edge-in").hidden = a === null;
  byId("edge-out").hidden = b === null;
  if (a !== null) byId("edge-in").style.left = pc(a);
  if (b !== null) byId("edge-out").style.left = pc(b);
  byId("range").hidden = a === null || b === null;
  if (a !== null && b !== null) {
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

let now = null;
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

// click a word to go there; drag over words to set in and out at the speech's edges, with a little air
const AIR = Math.round(fps * 0.08);
let from = null;
document.addEventListener("pointerdown", (e) => {
  from = inside(e, "#words .w");
  if (from) e.preventDefault();
});
document.addEventListener("pointermove", (e) => {
  if (!from || !e.buttons) return;
  const to = document.elementFromPoint(e.clientX, e.clientY)?.closest?.("#words .w");
  if (!to || to === from) return;
  const index = (el) => {
    let i = find(Number(el.dataset.a)) - 1;
    while (i > 0 && words[i].el !== el) i--;
    return i;
  };
  const [x, y] = [index(from), index(to)].sort((p, q) => p - q);
  marks = {
    in: Math.max(words[x - 1]?.b ?? 0, words[x].a - AIR, 0),
    out: Math.min(words[y + 1]?.a ?? total, words[y].b + AIR, total),
  };
  show();
});
document.addEventListener("click", (e) => {
  const w = inside(e, "#words .w");
  if (w && w === from) player.seek(Number(w.dataset.a));
});
document.addEventListener("pointerup", () =>
  setTimeout(() => {
    from = null;
  }),
);

// the whole recording: click or drag to go, drag the edges
const frameAt = (e) => {
  const r = overview.getBoundingClientRect();
  return ((e.clientX - r.left) / r.width) * total;
};
let held = null;
overview.addEventListener("pointerdown", (e) => {
  if (inside(e, ".kept, .marker, .used")) return;
  held = target(e).id === "edge-in" ? "in" : target(e).id === "edge-out" ? "out" : "head";
  overview.setPointerCapture(e.pointerId);
  if (held === "head") player.seek(frameAt(e));
});
overview.addEventListener("pointermove", (e) => {
  if (!held || !e.buttons) return;
  if (held === "head") player.seek(frameAt(e));
  else {
    mark(held, frameAt(e));
    player.seek(marks[held] ?? player.frame);
  }
});
overview.addEventListener("pointerup", () => {
  held = null;
});
const draw = () => wave($("canvas", overview), log.dataset.recording, 0, total / fps);
draw();
new ResizeObserver(draw).observe(overview);
const redrawn = () => {
  draw();
  loupes.forEach((l) => l.draw());
};
document.addEventListener("look", redrawn);
// There is more of its sound, or all of it.
document.body.addEventListener("grown", () => {
  for (const id of [log.dataset.recording, num(log.dataset.recording)]) forget(id);
  redrawn();
  along.loadAlong();
});

const choose = (a, b) => {
  marks = { in: a, out: b };
  show();
  player.seek(a);
};
const along = alongTheRecording(here, total, { choose, seek: (f) => player.seek(f) }),
  editWord = correcting(here);
along.keptMarks();
along.loadAlong();
let coming = 0,
  walking = null; // id of the subclip being walked through
document.body.addEventListener("htmx:afterSettle", (/** @type {any} */ e) => {
  if (inside(e, "#clips")) {
    along.keptMarks();
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
  show();
  stand();
});
document.body.addEventListener("htmx:afterRequest", (/** @type {any} */ e) => {
  if (e.detail.elt === form && e.detail.successful && e.detail.xhr.status === 200) {
    form.reset();
    marks = { in: null, out: null };
    show();
    focused().blur();
  }
  if (e.detail.successful && (e.detail.pathInfo?.requestPath || "").match(/words|hearing|to-story|undo/))
    along.loadAlong();
});
document.addEventListener("click", (e) => {
  const c = inside(e, "[data-goto]")?.closest("[data-clip]");
  if (c) {
    walking = c.dataset.clip;
    choose(Number(c.dataset.start), Number(c.dataset.end));
    stand();
  }
  const go = inside(e, "#clips [data-go]");
  if (go) player.seek(Number(go.dataset.go));
});

// ---- slices: cut while it plays, judge after
let slice = null;
const keep = (url, values) => post(url, { target: "#clips", swap: "outerHTML", values });
function boundary() {
  const f = player.frame;
  if (slice === null) {
    slice = f;
    say("Slicing: S at each boundary, Shift S to end.");
  } else if (f > slice) {
    keep(`${here}/subclips`, { start: slice, end: f, verdict: "open" });
    slice = f;
  }
  tellSlice();
}
function endSlices() {
  if (slice !== null && player.frame > slice) boundary();
  slice = null;
  tellSlice();
}
const tellSlice = () => {
  byId("slicing").textContent = slice === null ? "" : `Slicing from ${timecode(slice, rate)}`;
};
const rows = () => $$("#clips [data-clip]", document);
const stand = () => {
  for (const c of rows()) c.classList.toggle("is-here", c.dataset.clip === walking);
};
function walk(by, play = false) {
  const all = rows();
  if (!all.length) return;
  const i = all.findIndex((c) => c.dataset.clip === walking);
  const c = all[Math.max(0, Math.min(all.length - 1, i < 0 ? (by > 0 ? 0 : all.length - 1) : i + by))];
  walking = c.dataset.clip;
  stand();
  c.scrollIntoView({ block: "nearest" });
  choose(Number(c.dataset.start), Number(c.dataset.end));
  if (play) player.play(1, marks.out);
}
let judging = Promise.resolve(); // a verdict is for the subclip the one before led to, however fast they come
const judge = (verdict) => {
  judging = judging.then(() => judged(verdict));
};
async function judged(verdict) {
  if (!rows().some((c) => c.dataset.clip === walking)) {
    const open = rows().find((c) => !c.dataset.verdict);
    if (!open) {
      say("Choose a subclip first: ↓ and ↑.", true);
      return;
    }
    walking = open.dataset.clip;
  }
  const was = player.playing;
  await keep(`${base}/subclips/${walking}`, { verdict });
  const all = rows(),
    i = all.findIndex((c) => c.dataset.clip === walking);
  const next = [...all.slice(i + 1), ...all.slice(0, i)].find((c) => !c.dataset.verdict);
  if (next) {
    walking = next.dataset.clip;
    player.stop();
    choose(Number(next.dataset.start), Number(next.dataset.end));
    if (was) player.play(1, marks.out);
    next.scrollIntoView({ block: "nearest" });
  }
  stand();
}
async function pull() {
  if (marks.in === null && marks.out === null) {
    say("Set an in or an out point first.", true);
    return;
  }
  const q = new URLSearchParams();
  if (marks.in !== null) q.set("start", marks.in);
  if (marks.out !== null) q.set("end", marks.out);
  const got = await (await fetch(`${here}/pull?${q}`)).json();
  if (!got.found.some(Boolean)) {
    say("There is no pause within a second and a half of these marks.", true);
    return;
  }
  if (got.start !== null && got.end !== null && got.start >= got.end) {
    say("Both marks would land in one pause. They stay where they are.", true);
    return;
  }
  marks = { in: got.start, out: got.end };
  show();
  say("Pulled to the nearest pause.");
}
function around() {
  const f = marks[moved] ?? marks.in ?? marks.out ?? player.frame,
    s = Math.round(fps);
  player.stop();
  player.seek(Math.max(0, f - s));
  player.play(1, Math.min(total, f + s));
}
function snap() {
  snapping = !snapping;
  byId("snap").setAttribute("aria-pressed", snapping);
}
const turnBack = (redo) =>
  post(`${base}/log/undo?rec=${log.dataset.recording}${redo ? "&redo=true" : ""}`, {
    target: "#report",
    swap: "none",
  });
const best = $("#log [data-best]");
function useBest() {
  if (best) {
    const [a, b] = best.dataset.best.split(",").map(Number);
    choose(a, b);
  }
}
byId("snap").addEventListener("click", snap);
byId("pull").addEventListener("click", pull);
byId("around").addEventListener("click", around);
byId("use-best")?.addEventListener("click", useBest);

const playRange = () => {
  if (marks.in === null || marks.out === null) {
    say("Set an in and an out point first.", true);
    return;
  }
  player.stop();
  player.seek(marks.in);
  player.play(1, marks.out);
};
byId("play-range").addEventListener("click", playRange);
// A typed in or out is read when it is left, and before the range is kept: what is kept is what the fields show.
async function readMark(which, stay = true) {
  const field = byId(`${which}-tc`),
    text = field.value.trim();
  if (text === shown[which]) return true;
  if (!text) {
    marks[which] = null;
    show();
    return true;
  }
  const got = await readTime(text, "moment", { now: player.frame });
  if (field.value.trim() !== text) return true; // typed on meanwhile
  if (got.error) {
    say(`${which === "in" ? "In" : "Out"}: ${got.error}`, true);
    if (stay) {
      field.focus();
      field.select();
    }
    return false;
  }
  mark(which, got.frame);
  player.seek(got.frame);
  return true;
}
for (const which of ["in", "out"]) byId(`${which}-tc`).addEventListener("change", () => readMark(which, false));
document.body.addEventListener("htmx:afterRequest", (/** @type {any} */ e) => {
  if (e.detail.elt !== form || e.detail.xhr.status !== 202) return;
  const change = confirm(
    `“${form.elements.name.value.trim()}” is kept already. OK gives it this range; Cancel keeps both.`,
  );
  const again = document.createElement("input");
  Object.assign(again, { type: "hidden", name: "again", value: change ? "change" : "both" });
  form.append(again);
  form.requestSubmit();
  setTimeout(() => again.remove());
});
let read = false; // the fields were read for the submit that follows
document.addEventListener(
  "submit",
  async (e) => {
    if (e.target !== form || read) return;
    if (["in", "out"].every((w) => byId(`${w}-tc`).value.trim() === shown[w])) return;
    e.preventDefault();
    e.stopImmediatePropagation();
    const last = focused() === byId("in-tc") ? ["out", "in"] : ["in", "out"]; // what was typed last has the last word
    if (!(await readMark(last[0])) || !(await readMark(last[1]))) return;
    read = true;
    form.requestSubmit();
    read = false;
  },
  true,
);
document.addEventListener("keydown", (e) => {
  if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === "z" && !typing(e)) {
    e.preventDefault();
    turnBack(e.shiftKey);
    return;
  }
  if ($("dialog[open]") || e.ctrlKey || e.metaKey || e.altKey) return;
  if (typing(e)) {
    if (e.key === "Escape") target(e).blur();
    const name = form.elements.name;
    if (e.key === "Enter" && target(e).id === "out-tc" && !name.value.trim()) {
      e.preventDefault(); // the range is set; what has no name yet is not kept by it
      name.focus();
    }
    return;
  }
  const k = e.key.toLowerCase();
  if (k === "i") {
    if (e.shiftKey) player.seek(marks.in ?? player.frame);
    else mark("in", player.frame);
  } else if (k === "o") {
    if (e.shiftKey) player.seek(marks.out ?? player.frame);
    else mark("out", player.frame);
  } else if (k === "p") playRange();
  else if (k === "a") around();
  else if (k === "g") pull();
  else if (k === "w") snap();
  else if (k === "b") useBest();
  else if (k === "s") {
    if (e.shiftKey) endSlices();
    else boundary();
  } else if (k === "m") {
    if (e.shiftKey) {
      const all = $$("#clips [data-marker]");
      $("#clips [data-marker] input[value='']")?.focus() ?? all[all.length - 1]?.querySelector("input").focus();
    } else keep(`${here}/markers`, { frame: player.frame });
  } else if (k === "arrowdown" || k === "arrowup") walk(k === "arrowdown" ? 1 : -1, player.playing);
  else if (k === "1" || k === "2" || k === "3") judge(["keep", "maybe", "drop"][num(k) - 1]);
  else if (k === "e") {
    const w = words[Math.max(0, find(player.frame) - 1)];
    if (w) editWord(w.el);
  } else if (k === "/") byId("q").focus();
  else if (k === "n") form.elements.name.focus();
  else if (k === "enter" && !inside(e, "button, a, select")) form.requestSubmit();
  else return;
  e.preventDefault();
});
show();
waves(document);
const goTo = () => {
  const m = location.hash.match(/^#(\d+)(-play)?$/);
  if (!m) return;
  player.stop();
  player.seek(Number(m[1]));
  now?.scrollIntoView({ block: "center" });
  if (m[2]) player.play(1);
};
addEventListener("hashchange", goTo);
goTo();
window.kovel.marks = () => marks;
