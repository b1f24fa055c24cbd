// The Log room: marks by key, by word and by dragging; where the playhead is among the words.
import { post, say } from "./base.js";
import { Loupe } from "./loupe.js";
import { wave, waves } from "./peaks.js";
import { readTime } from "./times.js";
import { timecode, transport, typing } from "./transport.js";

const log = document.getElementById("log"), total = Number(log.dataset.total), fps = Number(log.dataset.fps);
const form = document.getElementById("keep"), overview = document.getElementById("overview");
const $ = (id) => document.getElementById(id);
const base = `/p/${log.dataset.project}`, here = `${base}/recordings/${log.dataset.recording}`;
const words = [];
const gather = () => { words.length = 0; for (const el of document.querySelectorAll("#words .w")) words.push({ el, a: Number(el.dataset.a), b: Number(el.dataset.b) }); };
gather();
let marks = { in: null, out: null };
let moved = "in"; // the edge last moved
let shown = { in: "", out: "" }; // what the fields were given to show
let along = { speakers: [], pauses: [], used: [] };
let snapping = false;
const player = await transport(document.querySelector("[data-player]"), `/p/${log.dataset.project}/recordings/${log.dataset.recording}/plan`);
const rate = player.plan.rate;

const loupes = ["in", "out"].map((which) => new Loupe($(`loupe-${which}`), {
  recording: log.dataset.recording, fps, rate, total, words, get: () => marks[which], set: (f) => mark(which, f), go: (f) => player.seek(f),
  near: (f, reach) => (snapping ? nearest(which, f, reach) : f),
}));

// The word or pause edge within reach of a frame; the frame itself where there is none.
function nearest(which, f, reach) {
  let best = f, gap = reach + 1;
  const look = (x) => { if (Math.abs(x - f) < gap) { gap = Math.abs(x - f); best = x; } };
  for (let i = Math.max(0, find(f) - 4); i < words.length && words[i].a < f + reach; i++) { look(words[i].a); look(words[i].b); }
  for (const [a, b] of along.pauses) if (b > f - reach && a < f + reach) { look(a); look(b); }
  return best;
}

let lit = []; // words inside in and out
// How many words begin at or before a frame.
function find(frame) {
  let lo = 0, hi = words.length;
  while (lo < hi) { const m = (lo + hi) >> 1; if (words[m].a <= frame) lo = m + 1; else hi = m; }
  return lo;
}

function mark(which, frame) {
  frame = Math.max(0, Math.min(total, Math.round(frame)));
  marks[which] = frame; moved = which;
  if (marks.in !== null && marks.out !== null && marks.in >= marks.out) marks[which === "in" ? "out" : "in"] = null;
  show();
}

function show() {
  const { in: a, out: b } = marks;
  form.elements.start.value = a ?? ""; form.elements.end.value = b ?? "";
  shown = { in: a === null ? "" : timecode(a, rate), out: b === null ? "" : timecode(b, rate) };
  for (const which of ["in", "out"]) if (document.activeElement !== $(`${which}-tc`) || which === moved) $(`${which}-tc`).value = shown[which];
  $("in-out").textContent = a !== null && b !== null ? timecode(b - a, rate) : "–";
  const pc = (f) => `${(100 * f) / total}%`;
  $("edge-in").hidden = a === null; $("edge-out").hidden = b === null;
  if (a !== null) $("edge-in").style.left = pc(a);
  if (b !== null) $("edge-out").style.left = pc(b);
  $("range").hidden = a === null || b === null;
  if (a !== null && b !== null) { $("range").style.left = pc(a); $("range").style.width = pc(b - a); }
  for (const l of loupes) l.show(player.frame);
  const on = [];
  if (a !== null && b !== null) for (let i = Math.max(0, find(a) - 1); i < words.length && words[i].a < b; i++) if (a <= (words[i].a + words[i].b) / 2 && (words[i].a + words[i].b) / 2 < b) on.push(words[i].el);
  const now = new Set(on);
  for (const el of lit) if (!now.has(el)) el.classList.remove("is-on");
  for (const el of on) el.classList.add("is-on");
  lit = on;
}

let now = null;
player.addEventListener("time", () => {
  for (const l of loupes) if (l.get() === null) l.show(player.frame);
  $("now").style.left = `${(100 * player.frame) / total}%`;
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
document.addEventListener("pointerdown", (e) => { from = e.target.closest("#words .w"); if (from) e.preventDefault(); });
document.addEventListener("pointermove", (e) => {
  if (!from || !e.buttons) return;
  const to = document.elementFromPoint(e.clientX, e.clientY)?.closest?.("#words .w");
  if (!to || to === from) return;
  const index = (el) => { let i = find(Number(el.dataset.a)) - 1; while (i > 0 && words[i].el !== el) i--; return i; };
  const [x, y] = [index(from), index(to)].sort((p, q) => p - q);
  marks = { in: Math.max(words[x - 1]?.b ?? 0, words[x].a - AIR, 0), out: Math.min(words[y + 1]?.a ?? total, words[y].b + AIR, total) };
  show();
});
document.addEventListener("click", (e) => { const w = e.target.closest("#words .w"); if (w && w === from) player.seek(Number(w.dataset.a)); });
document.addEventListener("pointerup", () => setTimeout(() => { from = null; }));

// ---- correcting words and naming speakers, in a small form beside the word
const edit = $("word-edit"), who = $("who-edit");
function beside(form, el) {
  const r = el.getBoundingClientRect();
  form.hidden = false;
  form.style.left = `${Math.max(8, Math.min(r.left, innerWidth - form.offsetWidth - 8))}px`;
  form.style.top = `${r.bottom + form.offsetHeight + 6 > innerHeight ? r.top - form.offsetHeight - 4 : r.bottom + 4}px`;
  const first = form.querySelector("input");
  first.focus(); first.select();
}
function editWord(el) { edit.word = el; edit.elements.text.value = el.textContent; who.hidden = true; beside(edit, el); }
async function wordsChange(path, values, target = "#words") {
  edit.hidden = who.hidden = true;
  const top = $("words").scrollTop;
  await post(`${here}/words/${path}`, { target, swap: "outerHTML", values });
  $("words").scrollTop = top;
}
const change = (values) => {
  const turn = edit.word.closest(".turn");
  return wordsChange("correct", { start: edit.word.dataset.s, was: edit.word.textContent, first: turn.dataset.first, count: turn.dataset.count, ...values }, turn);
};
edit?.addEventListener("submit", (e) => { e.preventDefault(); change({ text: edit.elements.text.value }); });
edit?.querySelector("[data-join]").addEventListener("click", () => change({ how: "join" }));
edit?.querySelector("[data-out]").addEventListener("click", () => change({ text: "" }));
who?.addEventListener("submit", (e) => {
  e.preventDefault();
  wordsChange("speaker", { start: who.turn.dataset.first, count: who.turn.dataset.count, name: who.elements.name.value, everywhere: who.elements.everywhere.checked });
});
document.addEventListener("dblclick", (e) => { const w = e.target.closest("#words .w"); if (w) editWord(w); });
document.addEventListener("click", (e) => {
  const b = e.target.closest("#words .who");
  if (b) { who.turn = b.closest(".turn"); who.elements.name.value = b.dataset.speaker; who.elements.everywhere.checked = false; edit.hidden = true; beside(who, b); }
  else if (!e.target.closest(".popover") && e.detail < 2) edit.hidden = who.hidden = true;
});
for (const f of [edit, who]) f?.addEventListener("keydown", (e) => { if (e.key === "Escape") { f.hidden = true; e.stopPropagation(); } });

// the whole recording: click or drag to go, drag the edges
const frameAt = (e) => { const r = overview.getBoundingClientRect(); return ((e.clientX - r.left) / r.width) * total; };
let held = null;
overview.addEventListener("pointerdown", (e) => {
  if (e.target.closest(".kept, .marker, .used")) return;
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

const pc = (f) => `${(100 * f) / total}%`;
function bar(kind, a, b, label, click) {
  const el = document.createElement(click ? "button" : "span");
  if (click) { el.type = "button"; el.addEventListener("click", click); el.setAttribute("aria-label", label); }
  el.className = kind; el.title = label; el.style.left = pc(a);
  if (b !== null) el.style.width = pc(b - a);
  return el;
}
const choose = (a, b) => { marks = { in: a, out: b }; show(); player.seek(a); };
function keptMarks() {
  const clips = [...document.querySelectorAll("#clips [data-clip]")].map((c) => [Number(c.dataset.start), Number(c.dataset.end), c.dataset.name]);
  const flags = [...document.querySelectorAll("#clips [data-marker]")].map((m) => [Number(m.dataset.frame), m.querySelector("input").value || "Marker"]);
  $("kept-marks").replaceChildren(
    ...clips.map(([a, b, name]) => bar("kept", a, b, `Go to ${name}`, () => choose(a, b))),
    ...flags.map(([f, name]) => { const el = bar("marker", f, null, `Go to the marker ${name}`, () => player.seek(f)); el.textContent = "▾"; return el; }),
  );
}
function drawAlong() {
  const names = [...new Set(along.speakers.map((x) => x[2]))];
  $("who-marks").replaceChildren(...along.speakers.map(([a, b, name]) => { const el = bar("speaks", a, b, name || "somebody"); el.dataset.n = names.indexOf(name) % 4; return el; }));
  $("used-marks").replaceChildren(...along.used.map(([a, b]) => bar("used", a, b, "Used in the story: set in and out to it", () => choose(a, b))));
}
async function loadAlong() {
  const r = await fetch(`${here}/marks`);
  if (r.ok) { along = await r.json(); drawAlong(); }
}
keptMarks();
loadAlong();
let coming = 0, walking = null; // id of the subclip being walked through
document.body.addEventListener("htmx:afterSettle", (e) => {
  if (e.target.closest?.("#clips")) { keptMarks(); stand(); }
  if (!e.target.closest?.("#words") || coming) return;
  coming = setTimeout(() => { // once for all the sentences that came
    coming = 0;
    gather();
    now?.classList.remove("is-now"); lit = []; now = null;
    show();
  });
});
document.body.addEventListener("htmx:oobAfterSwap", () => { gather(); keptMarks(); lit = []; now = null; show(); stand(); });
document.body.addEventListener("htmx:afterRequest", (e) => {
  if (e.detail.elt === form && e.detail.successful && e.detail.xhr.status === 200) { form.reset(); marks = { in: null, out: null }; show(); document.activeElement.blur(); }
  if (e.detail.successful && (e.detail.pathInfo?.requestPath || "").match(/words|hearing|to-story|undo/)) loadAlong();
});
document.addEventListener("click", (e) => {
  const c = e.target.closest("[data-goto]")?.closest("[data-clip]");
  if (c) { walking = c.dataset.clip; choose(Number(c.dataset.start), Number(c.dataset.end)); stand(); }
  const go = e.target.closest("#clips [data-go]");
  if (go) player.seek(Number(go.dataset.go));
});

// ---- slices: cut while it plays, judge after
let slice = null;
const keep = (url, values) => post(url, { target: "#clips", swap: "outerHTML", values });
function boundary() {
  const f = player.frame;
  if (slice === null) { slice = f; say("Slicing: S at each boundary, Shift S to end."); }
  else if (f > slice) { keep(`${here}/subclips`, { start: slice, end: f, verdict: "open" }); slice = f; }
  tellSlice();
}
function endSlices() { if (slice !== null && player.frame > slice) boundary(); slice = null; tellSlice(); }
const tellSlice = () => { $("slicing").textContent = slice === null ? "" : `Slicing from ${timecode(slice, rate)}`; };
const rows = () => [...document.querySelectorAll("#clips [data-clip]")];
const stand = () => { for (const c of rows()) c.classList.toggle("is-here", c.dataset.clip === walking); };
function walk(by, play = false) {
  const all = rows();
  if (!all.length) return;
  const i = all.findIndex((c) => c.dataset.clip === walking);
  const c = all[Math.max(0, Math.min(all.length - 1, i < 0 ? (by > 0 ? 0 : all.length - 1) : i + by))];
  walking = c.dataset.clip; stand(); c.scrollIntoView({ block: "nearest" });
  choose(Number(c.dataset.start), Number(c.dataset.end));
  if (play) player.play(1, marks.out);
}
let judging = Promise.resolve(); // a verdict is for the subclip the one before led to, however fast they come
const judge = (verdict) => { judging = judging.then(() => judged(verdict)); };
async function judged(verdict) {
  if (!rows().some((c) => c.dataset.clip === walking)) { const open = rows().find((c) => !c.dataset.verdict); if (!open) { say("Choose a subclip first: ↓ and ↑.", true); return; } walking = open.dataset.clip; }
  const was = player.playing;
  await keep(`${base}/subclips/${walking}`, { verdict });
  const all = rows(), i = all.findIndex((c) => c.dataset.clip === walking);
  const next = [...all.slice(i + 1), ...all.slice(0, i)].find((c) => !c.dataset.verdict);
  if (next) { walking = next.dataset.clip; player.stop(); choose(Number(next.dataset.start), Number(next.dataset.end)); if (was) player.play(1, marks.out); next.scrollIntoView({ block: "nearest" }); }
  stand();
}
async function pull() {
  if (marks.in === null && marks.out === null) { say("Set an in or an out point first.", true); return; }
  const q = new URLSearchParams();
  if (marks.in !== null) q.set("start", marks.in);
  if (marks.out !== null) q.set("end", marks.out);
  const got = await (await fetch(`${here}/pull?${q}`)).json();
  if (!got.found.some(Boolean)) { say("There is no pause within a second and a half of these marks.", true); return; }
  if (got.start !== null && got.end !== null && got.start >= got.end) { say("Both marks would land in one pause. They stay where they are.", true); return; }
  marks = { in: got.start, out: got.end }; show();
  say("Pulled to the nearest pause.");
}
function around() {
  const f = marks[moved] ?? marks.in ?? marks.out ?? player.frame, s = Math.round(fps);
  player.stop(); player.seek(Math.max(0, f - s)); player.play(1, Math.min(total, f + s));
}
function snap() { snapping = !snapping; $("snap").setAttribute("aria-pressed", snapping); }
const turnBack = (redo) => post(`${base}/log/undo?rec=${log.dataset.recording}${redo ? "&redo=true" : ""}`, { target: "#report", swap: "none" });
const best = document.querySelector("#log [data-best]");
function useBest() { if (best) { const [a, b] = best.dataset.best.split(",").map(Number); choose(a, b); } }
$("snap").addEventListener("click", snap); $("pull").addEventListener("click", pull); $("around").addEventListener("click", around);
$("use-best")?.addEventListener("click", useBest);

const playRange = () => {
  if (marks.in === null || marks.out === null) { say("Set an in and an out point first.", true); return; }
  player.stop(); player.seek(marks.in); player.play(1, marks.out);
};
$("play-range").addEventListener("click", playRange);
// A typed in or out is read when it is left, and before the range is kept: what is kept is what the fields show.
async function readMark(which, stay = true) {
  const field = $(`${which}-tc`), text = field.value.trim();
  if (text === shown[which]) return true;
  if (!text) { marks[which] = null; show(); return true; }
  const got = await readTime(text, "moment", { now: player.frame });
  if (field.value.trim() !== text) return true; // typed on meanwhile
  if (got.error) { say(`${which === "in" ? "In" : "Out"}: ${got.error}`, true); if (stay) { field.focus(); field.select(); } return false; }
  mark(which, got.frame); player.seek(got.frame);
  return true;
}
for (const which of ["in", "out"]) $(`${which}-tc`).addEventListener("change", () => readMark(which, false));
document.body.addEventListener("htmx:afterRequest", (e) => {
  if (e.detail.elt !== form || e.detail.xhr.status !== 202) return;
  const change = confirm(`“${form.elements.name.value.trim()}” is kept already. OK gives it this range; Cancel keeps both.`);
  const again = document.createElement("input");
  Object.assign(again, { type: "hidden", name: "again", value: change ? "change" : "both" });
  form.append(again);
  form.requestSubmit();
  setTimeout(() => again.remove());
});
let read = false; // the fields were read for the submit that follows
document.addEventListener("submit", async (e) => {
  if (e.target !== form || read) return;
  if (["in", "out"].every((w) => $(`${w}-tc`).value.trim() === shown[w])) return;
  e.preventDefault(); e.stopImmediatePropagation();
  const last = document.activeElement === $("in-tc") ? ["out", "in"] : ["in", "out"]; // what was typed last has the last word
  if (!(await readMark(last[0])) || !(await readMark(last[1]))) return;
  read = true; form.requestSubmit(); read = false;
}, true);
document.addEventListener("keydown", (e) => {
  if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === "z" && !typing(e)) { e.preventDefault(); turnBack(e.shiftKey); return; }
  if (document.querySelector("dialog[open]") || e.ctrlKey || e.metaKey || e.altKey) return;
  if (typing(e)) { if (e.key === "Escape") e.target.blur(); return; }
  const k = e.key.toLowerCase();
  if (k === "i") { if (e.shiftKey) player.seek(marks.in ?? player.frame); else mark("in", player.frame); }
  else if (k === "o") { if (e.shiftKey) player.seek(marks.out ?? player.frame); else mark("out", player.frame); }
  else if (k === "p") playRange();
  else if (k === "a") around();
  else if (k === "g") pull();
  else if (k === "w") snap();
  else if (k === "b") useBest();
  else if (k === "s") { if (e.shiftKey) endSlices(); else boundary(); }
  else if (k === "m") { if (e.shiftKey) { const all = document.querySelectorAll("#clips [data-marker]"); document.querySelector("#clips [data-marker] input[value='']")?.focus() ?? all[all.length - 1]?.querySelector("input").focus(); } else keep(`${here}/markers`, { frame: player.frame }); }
  else if (k === "arrowdown" || k === "arrowup") walk(k === "arrowdown" ? 1 : -1, player.playing);
  else if (k === "1" || k === "2" || k === "3") judge(["keep", "maybe", "drop"][k - 1]);
  else if (k === "e") { const w = words[Math.max(0, find(player.frame) - 1)]; if (w) editWord(w.el); }
  else if (k === "/") $("q").focus();
  else if (k === "n") form.elements.name.focus();
  else if (k === "enter" && !e.target.closest("button, a, select")) form.requestSubmit();
  else return;
  e.preventDefault();
});
show();
waves(document);
const goTo = () => {
  const m = location.hash.match(/^#(\d+)(-play)?$/);
  if (!m) return;
  player.stop(); player.seek(Number(m[1])); now?.scrollIntoView({ block: "center" });
  if (m[2]) player.play(1);
};
addEventListener("hashchange", goTo);
goTo();
window.kovel.marks = () => marks;
