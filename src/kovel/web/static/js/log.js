// The Log room: marks by key, by word and by dragging; where the playhead is among the words.
import { say } from "./base.js";
import { Loupe } from "./loupe.js";
import { wave } from "./peaks.js";
import { timecode, transport, typing } from "./transport.js";

const log = document.getElementById("log"), total = Number(log.dataset.total), fps = Number(log.dataset.fps);
const form = document.getElementById("keep"), overview = document.getElementById("overview");
const $ = (id) => document.getElementById(id);
const words = [...document.querySelectorAll("#words .w")].map((el) => ({ el, a: Number(el.dataset.a), b: Number(el.dataset.b) }));
let marks = { in: null, out: null };
const player = await transport(document.querySelector("[data-player]"), `/p/${log.dataset.project}/recordings/${log.dataset.recording}/plan`);
const rate = player.plan.rate;

const loupes = ["in", "out"].map((which) => new Loupe($(`loupe-${which}`), {
  recording: log.dataset.recording, fps, rate, total, words, get: () => marks[which], set: (f) => mark(which, f), go: (f) => player.seek(f),
}));

function mark(which, frame) {
  frame = Math.max(0, Math.min(total, Math.round(frame)));
  marks[which] = frame;
  if (marks.in !== null && marks.out !== null && marks.in >= marks.out) marks[which === "in" ? "out" : "in"] = null;
  show();
}

function show() {
  const { in: a, out: b } = marks;
  form.elements.start.value = a ?? ""; form.elements.end.value = b ?? "";
  $("in-tc").value = a === null ? "" : timecode(a, rate); $("out-tc").value = b === null ? "" : timecode(b, rate);
  $("in-out").textContent = a !== null && b !== null ? timecode(b - a, rate) : "–";
  const pc = (f) => `${(100 * f) / total}%`;
  $("edge-in").hidden = a === null; $("edge-out").hidden = b === null;
  if (a !== null) $("edge-in").style.left = pc(a);
  if (b !== null) $("edge-out").style.left = pc(b);
  $("range").hidden = a === null || b === null;
  if (a !== null && b !== null) { $("range").style.left = pc(a); $("range").style.width = pc(b - a); }
  for (const l of loupes) l.show(player.frame);
  for (const w of words) w.el.classList.toggle("is-on", a !== null && b !== null && a <= (w.a + w.b) / 2 && (w.a + w.b) / 2 < b);
}

let now = null;
player.addEventListener("time", () => {
  for (const l of loupes) if (l.get() === null) l.show(player.frame);
  $("now").style.left = `${(100 * player.frame) / total}%`;
  let lo = 0, hi = words.length;
  while (lo < hi) { const m = (lo + hi) >> 1; if (words[m].a <= player.frame) lo = m + 1; else hi = m; }
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
$("words").addEventListener("pointerdown", (e) => { from = e.target.closest(".w"); if (from) e.preventDefault(); });
$("words").addEventListener("pointermove", (e) => {
  const to = document.elementFromPoint(e.clientX, e.clientY)?.closest?.(".w");
  if (from && e.buttons && to && to !== from) {
    const [x, y] = [words.findIndex((w) => w.el === from), words.findIndex((w) => w.el === to)].sort((p, q) => p - q);
    marks = { in: Math.max(words[x - 1]?.b ?? 0, words[x].a - AIR, 0), out: Math.min(words[y + 1]?.a ?? total, words[y].b + AIR, total) };
    show();
  }
});
$("words").addEventListener("click", (e) => { const w = e.target.closest(".w"); if (w && w === from) player.seek(Number(w.dataset.a)); });
document.addEventListener("pointerup", () => setTimeout(() => { from = null; }));

// the whole recording: click or drag to go, drag the edges
const frameAt = (e) => { const r = overview.getBoundingClientRect(); return ((e.clientX - r.left) / r.width) * total; };
let held = null;
overview.addEventListener("pointerdown", (e) => {
  if (e.target.closest(".kept")) return;
  held = e.target.id === "edge-in" ? "in" : e.target.id === "edge-out" ? "out" : "head";
  overview.setPointerCapture(e.pointerId);
  if (held === "head") player.seek(frameAt(e));
});
overview.addEventListener("pointermove", (e) => {
  if (!held || !e.buttons) return;
  if (held === "head") player.seek(frameAt(e)); else { mark(held, frameAt(e)); player.seek(marks[held] ?? player.frame); }
});
overview.addEventListener("pointerup", () => { held = null; });
const draw = () => wave(overview.querySelector("canvas"), log.dataset.recording, 0, total / fps);
draw();
new ResizeObserver(draw).observe(overview);
document.addEventListener("look", () => { draw(); loupes.forEach((l) => l.draw()); });

function keptMarks() {
  const clips = [...document.querySelectorAll("#clips [data-clip]")];
  $("kept-marks").replaceChildren(...clips.map((c) => {
    const b = document.createElement("button"), [s, e] = [Number(c.dataset.start), Number(c.dataset.end)];
    b.type = "button"; b.className = "kept"; b.title = c.dataset.name; b.setAttribute("aria-label", `Go to ${c.dataset.name}`);
    b.style.left = `${(100 * s) / total}%`; b.style.width = `${(100 * (e - s)) / total}%`;
    b.addEventListener("click", () => { marks = { in: s, out: e }; show(); player.seek(s); });
    return b;
  }));
}
keptMarks();
document.body.addEventListener("htmx:afterSwap", () => { keptMarks(); });
document.body.addEventListener("htmx:afterRequest", (e) => {
  if (e.detail.elt === form && e.detail.successful) { form.reset(); marks = { in: null, out: null }; show(); document.activeElement.blur(); }
});
document.addEventListener("click", (e) => {
  const c = e.target.closest("[data-goto]")?.closest("[data-clip]");
  if (c) { marks = { in: Number(c.dataset.start), out: Number(c.dataset.end) }; show(); player.seek(marks.in); }
});

const playRange = () => {
  if (marks.in === null || marks.out === null) { say("Set an in and an out point first.", true); return; }
  player.stop(); player.seek(marks.in); player.play(1, marks.out);
};
$("play-range").addEventListener("click", playRange);
for (const which of ["in", "out"]) $(`${which}-tc`).addEventListener("change", async (e) => {
  const q = new URLSearchParams({ text: e.target.value, now: player.frame });
  const r = await fetch(`/p/${log.dataset.project}/time?${q}`, { headers: { Accept: "application/json" } });
  const got = await r.json();
  if (r.ok) { mark(which, got.frame); player.seek(got.frame); } else { say(got.error, true); show(); }
});
document.addEventListener("keydown", (e) => {
  if (document.querySelector("dialog[open]") || e.ctrlKey || e.metaKey || e.altKey) return;
  if (typing(e)) { if (e.key === "Escape") e.target.blur(); return; }
  const k = e.key.toLowerCase();
  if (k === "i") { if (e.shiftKey) player.seek(marks.in ?? player.frame); else mark("in", player.frame); }
  else if (k === "o") { if (e.shiftKey) player.seek(marks.out ?? player.frame); else mark("out", player.frame); }
  else if (k === "p") playRange();
  else if (k === "/") $("q").focus();
  else if (k === "n") form.elements.name.focus();
  else if (k === "enter" && !e.target.closest("button, a, select")) form.requestSubmit();
  else return;
  e.preventDefault();
});
show();
const goTo = () => { if (location.hash.length > 1) { player.seek(Number(location.hash.slice(1)) || 0); now?.scrollIntoView({ block: "center" }); } };
addEventListener("hashchange", goTo);
goTo();
window.kovel.marks = () => marks;
