// The Story room: turns keys, clicks and drags into requests, and draws what comes back. The server holds the story.
import { say } from "./base.js";
import { waves } from "./peaks.js";
import { transport, typing } from "./transport.js";

const room = document.getElementById("story"), base = `/p/${room.dataset.project}/story`;
const scroll = document.getElementById("scroll"), zoom = document.getElementById("zoom");
const $ = (s, r = document) => r.querySelector(s), $$ = (s, r = document) => [...r.querySelectorAll(s)];
const num = (x) => Number(x);
const sheet = () => document.getElementById("page");
let picked = null; // the shelf item in hand
let chosen = null; // {kind: "piece"|"cover", id} or {kind: "words", a, b}
let busy = Promise.resolve();

const player = await transport($("[data-player]"), `${base}/plan`);
player.addEventListener("time", () => { if (!player.playing) localStorage.setItem(`kovel-head-${room.dataset.project}`, player.frame); }); // for "at the playhead" in the Log

// ---- sending edits
function send(url, body, form = false) {
  busy = busy.then(() => go(url, body, form)).catch((e) => { console.error(e); say("Kovel does not answer. Check that it still runs, then try again. Nothing acknowledged is lost.", true); });
  return busy;
}
async function go(url, body, form) {
  const revision = num(sheet().dataset.revision);
  const began = performance.now();
  const r = await fetch(url, {
    method: "POST",
    headers: { "Content-Type": form ? "application/x-www-form-urlencoded" : "application/json", "X-Kovel": "1", "X-Zoom": zoom.value, "X-View": view() },
    body: form ? new URLSearchParams({ revision }) : JSON.stringify({ revision, ...body }),
  });
  const html = await r.text();
  if (r.status === 200 || r.status === 409) {
    put(html);
    if (r.status === 200) {
      const at = r.headers.get("x-playhead"), made = r.headers.get("x-made");
      await player.reload();
      if (at) { player.seek(num(at)); }
      if (made && body?.command !== "split") { const id = num(made.split(",")[0]); if (player.plan.pieces.some((p) => p[0] === id)) choose({ kind: "piece", id }); else choose({ kind: "cover", id }); }
    } else await player.reload();
  } else put(html);
  window.kovel.lastEditMs = performance.now() - began;
}
const edit = (command, params) => send(`${base}/edit`, { command, ...params });
const undo = () => send(`${base}/undo`, null, true);
const redo = () => send(`${base}/redo`, null, true);

// The story frames around what is on the screen; only these are asked for.
function view() {
  const h = scroll.clientHeight, y = scroll.scrollTop;
  return `${Math.floor(Math.max(0, y - 1.5 * h) / px())}-${Math.ceil((y + 2.5 * h) / px())}`;
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
  if (page) { const y = scroll.scrollTop; sheet().replaceWith(page); scroll.scrollTop = y; dress(); }
  if (line) { line.removeAttribute("hx-swap-oob"); document.getElementById("report").replaceWith(line); }
}

// After each new page: waveforms, the tray, the choice, the playhead.
function dress() {
  waves(sheet());
  const tray = $("#shelf-loose");
  tray.replaceChildren($("#loose-now").content.cloneNode(true));
  $("#loose-count").textContent = $$(".shelf-item", tray).length || "";
  $("[data-do=undo]").disabled = sheet().dataset.undo === "0";
  $("[data-do=redo]").disabled = sheet().dataset.redo === "0";
  if (!$("#shelf-history").hidden) history();
  const lock = $("#tools [data-lock]"), locked = sheet().dataset.locked === "1";
  lock.setAttribute("aria-pressed", locked);
  lock.textContent = locked ? "Dialogue locked" : "Lock dialogue";
  $("#total-length").textContent = sheet().dataset.total;
  const used = sheet().dataset.used.split(",");
  for (const u of $$("[data-use]")) u.textContent = used.includes(u.dataset.use) ? "used" : "not used yet";
  const jumps = num(sheet().dataset.jumps);
  $("#jump-count").textContent = jumps ? `${jumps} exposed jump${jumps > 1 ? "s" : ""}` : "";
  mark();
  head();
}

// ---- choosing
function choose(what) { chosen = what; mark(); }
function mark() {
  for (const el of $$(".is-chosen, .w.is-on", sheet())) el.classList.remove("is-chosen", "is-on");
  if (chosen?.kind === "piece") $(`[data-piece="${chosen.id}"]`)?.classList.add("is-chosen");
  if (chosen?.kind === "cover") $(`.laid[data-cover="${chosen.id}"]`)?.classList.add("is-chosen");
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
  const p = piece();
  return p ? [p.at, p.at + p.length] : null;
}
function pick(item) {
  picked = item && picked?.dataset !== item.dataset ? item : null;
  for (const i of $$(".shelf-item")) i.setAttribute("aria-pressed", i === picked ? "true" : "false");
}
const hand = () => picked && { source: num(picked.dataset.source), start: num(picked.dataset.from), length: num(picked.dataset.length) };

// ---- what can be done
async function coverAt(at, until) {
  const p = picked;
  if (p?.dataset.kind === "loose") return edit("move_cover", { cover: num(p.dataset.cover), at });
  if (!p) return say("Pick a shot up first: Enter on it in the shelf.", true);
  const most = num(p.dataset.length), r = chosen?.kind === "words" ? chosen : null;
  if (until === undefined) until = r ? r.b : at + Math.min(most, await frames($("#cover-length").value));
  if (r) at = r.a;
  if (until - at > most && p.dataset.kind === "shot") until = at + most;
  return edit("lay_cover", { source: num(p.dataset.source), at, until, start: num(p.dataset.from) });
}
async function frames(text) {
  const r = await fetch(`/p/${room.dataset.project}/time?${new URLSearchParams({ text, now: 0 })}`, { headers: { Accept: "application/json" } });
  const got = await r.json();
  if (r.ok && got.frame > 0) return got.frame;
  say(got.error || "A cover needs a length of at least one frame.", true);
  return Math.round(4 * player.fps);
}
const needsHand = (f) => () => { const h = hand(); if (!h || picked.dataset.kind === "loose") say("Pick a soundbite up first: Enter on it in the shelf.", true); else f(h); };
const acts = {
  undo, redo,
  add: needsHand((h) => edit("add_at_end", h)),
  insert: needsHand((h) => edit("insert", { at: player.frame, ...h })),
  overwrite: needsHand((h) => edit("overwrite", { at: player.frame, ...h })),
  cover: () => coverAt(player.frame),
  split: () => edit("split", { at: player.frame }),
  extract: () => { const c = cover(), r = range(); if (c) edit("remove_cover", { cover: chosen.id }); else if (r) { edit("extract", { a: r[0], b: r[1] }); choose(null); } else say("Choose words, a piece or a cover first.", true); },
  lift: () => { const r = range(); if (r) { edit("lift", { a: r[0], b: r[1] }); choose(null); } else say("Choose words or a piece first.", true); },
};
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
}
tabs.forEach((t, i) => {
  t.addEventListener("click", () => tab(t));
  t.addEventListener("keydown", (e) => { const d = { ArrowRight: 1, ArrowLeft: -1 }[e.key]; if (d) { const n = tabs[(i + d + tabs.length) % tabs.length]; tab(n); n.focus(); e.preventDefault(); e.stopPropagation(); } });
});
async function history() { $("#shelf-history").innerHTML = await (await fetch(`${base}/history`)).text(); }
room.addEventListener("click", (e) => { const i = e.target.closest(".shelf-item"); if (i) pick(i); });
room.addEventListener("dblclick", (e) => { const i = e.target.closest(".shelf-item[data-kind=bite]"); if (i) { pick(null); pick(i); acts.add(); } });

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
  else if (s) { player.seek(num(s.dataset.at)); choose(null); }
  else if (w && from === w) {
    const f = num(w.dataset.f);
    if (e.shiftKey && chosen?.kind === "words") choose({ kind: "words", a: Math.min(chosen.a, f), b: Math.max(chosen.b, num(w.dataset.e)) });
    else choose({ kind: "words", a: f, b: num(w.dataset.e) });
    player.seek(f);
  } else if (!w && p) { choose({ kind: "piece", id: num(p.dataset.piece) }); player.seek(frameAt(e.clientY)); }
  else if (!w) player.seek(frameAt(e.clientY));
});

// ---- dragging
let drag = null, line = null;
document.addEventListener("dragstart", (e) => {
  const i = e.target.closest?.(".shelf-item"), c = e.target.closest?.(".laid"), p = e.target.closest?.(".grip")?.closest(".piece");
  if (i) drag = { kind: i.dataset.kind, item: i }; else if (c) drag = { kind: "cover", id: num(c.dataset.cover), hold: frameAt(e.clientY) - num(c.dataset.at) };
  else if (p) drag = { kind: "piece", id: num(p.dataset.piece) };
  if (drag) { e.dataTransfer.setData("text/plain", "kovel"); e.dataTransfer.effectAllowed = "copyMove"; }
});
// Where a drag would land: {at, word?} for covers, {before} for pieces, {at} for bites.
function landing(e) {
  const w = document.elementFromPoint(e.clientX, e.clientY)?.closest?.(".w");
  if (drag.kind === "bite" || drag.kind === "piece") {
    const t = frameAt(e.clientY), next = pieces().find((p) => t < p.at + p.length / 2);
    return { at: next ? next.at : num(sheet().dataset.length), before: next ? next.id : null };
  }
  if (w) return { at: num(w.dataset.f), word: w };
  return { at: Math.max(0, frameAt(e.clientY) - (drag.hold || 0)) };
}
scroll.addEventListener("dragover", (e) => {
  if (!drag) return;
  e.preventDefault();
  const l = landing(e);
  for (const x of $$(".w.is-target")) x.classList.remove("is-target");
  l.word?.classList.add("is-target");
  if (!line) { line = document.createElement("div"); line.className = "landing"; sheet().append(line); }
  line.style.top = `${l.at * px()}px`;
});
function landed() { line?.remove(); line = null; for (const x of $$(".w.is-target")) x.classList.remove("is-target"); drag = null; }
document.addEventListener("dragend", landed);
scroll.addEventListener("drop", (e) => {
  if (!drag) return;
  e.preventDefault();
  const l = landing(e), d = drag;
  landed();
  if (d.kind === "piece") return edit("move", { piece: d.id, before: l.before });
  if (d.kind === "cover") return edit("move_cover", { cover: d.id, at: l.at });
  pick(null); pick(d.item);
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
  head(true);
  const p = $$(".piece", sheet()).find((x) => num(x.dataset.at) <= player.frame && player.frame < num(x.dataset.at) + num(x.dataset.length));
  const w = p && $$(".w", p).findLast((x) => num(x.dataset.f) <= player.frame);
  if (w !== now) { now?.classList.remove("is-now"); now = w; w?.classList.add("is-now"); }
});

// ---- keys
const pieces = () => player.plan.pieces.map(([id, at, length]) => ({ id, at, length }));
const joins = () => [...player.plan.pieces.map((p) => p[1]), player.plan.length];
const under = (sel) => $$(sel, sheet()).filter((x) => num(x.dataset.at) <= player.frame && player.frame < num(x.dataset.at) + num(x.dataset.length)).pop();
function nudge(edge, e) {
  const by = (e.altKey ? -1 : 1) * (e.shiftKey ? 5 : 1);
  if (cover()) return edit("trim_cover", { cover: chosen.id, edge, delta: by });
  if (piece()) return edit("trim", { piece: chosen.id, edge, delta: by });
  return say("Choose a piece (G) or a cover (V) first.", true);
}
function shift(by) {
  const rows = pieces(), i = chosen?.kind === "piece" ? rows.findIndex((p) => p.id === chosen.id) : -1;
  if (i < 0) return say("Choose a piece first (G).", true);
  const to = by < 0 ? rows[i - 1] : rows[i + 2];
  if (by < 0 && !to) return say("It is the first piece already.", true);
  return edit("move", { piece: chosen.id, before: to ? to.id : null });
}
document.addEventListener("keydown", (e) => {
  if (typing(e) || document.querySelector("dialog[open]")) { if (e.key === "Escape" && typing(e)) e.target.blur(); return; }
  const k = e.key.toLowerCase(), code = e.code;
  if (e.ctrlKey || e.metaKey) { if (k === "z") { e.preventDefault(); (e.shiftKey ? redo : undo)(); } return; }
  if (code === "BracketLeft") nudge("in", e);
  else if (code === "BracketRight") nudge("out", e);
  else if (e.altKey && k === "arrowup") shift(-1);
  else if (e.altKey && k === "arrowdown") shift(1);
  else if (e.altKey) return;
  else if (k === "arrowup") { player.stop(); player.seek(joins().findLast((j) => j < player.frame) ?? 0); }
  else if (k === "arrowdown") { player.stop(); player.seek(joins().find((j) => j > player.frame) ?? player.frame); }
  else if (k === "z") (e.shiftKey ? redo : undo)();
  else if (k === "e") acts.add();
  else if (k === "n") acts.insert();
  else if (k === "w") acts.overwrite();
  else if (k === "c") acts.cover();
  else if (k === "s") acts.split();
  else if (k === "x" || k === "delete" || k === "backspace") (e.shiftKey ? acts.lift : acts.extract)();
  else if (k === "m") { if (cover()) edit("move_cover", { cover: chosen.id, at: player.frame }); else if (picked?.dataset.kind === "loose") coverAt(player.frame); else say("Choose a cover first (V), or pick one up in the tray.", true); }
  else if (k === "y") { const rows = pieces(), i = chosen?.kind === "piece" ? rows.findIndex((p) => p.id === chosen.id) : -1; if (i >= 0 && rows[i + 1]) edit("swap", { first: chosen.id, second: rows[i + 1].id }); else say("Choose a piece that has another one after it.", true); }
  else if (k === "r") { if (chosen?.kind === "piece") edit("open_again", { piece: chosen.id }); else say("Choose the piece after which something was taken out (G).", true); }
  else if (k === "g") { const p = pieces().find((x) => x.at <= player.frame && player.frame < x.at + x.length); choose(p ? { kind: "piece", id: p.id } : null); }
  else if (k === "v") { const c = under(".laid"); if (c) choose({ kind: "cover", id: num(c.dataset.cover) }); else say("No cover lies at the playhead.", true); }
  else if (k === "escape") { choose(null); pick(null); }
  else if ("1234".includes(k) && k.length === 1) { tab(tabs[num(k) - 1]); $(".shelf-item", document.getElementById(tabs[num(k) - 1].getAttribute("aria-controls")))?.focus(); }
  else return;
  e.preventDefault();
});

zoom.addEventListener("change", async () => {
  const y = player.frame;
  put(await (await fetch(`${base}/page?zoom=${zoom.value}`)).text());
  scroll.scrollTop = Math.max(0, y * px() - scroll.clientHeight / 3);
  fill();
  zoom.blur();
});

// Another window or the command line may edit the same story: the page follows.
setInterval(() => {
  if (document.hidden) return;
  busy = busy.then(async () => {
    const r = await fetch(`${base}/revision?seen=${sheet().dataset.revision}`, { headers: { "X-Zoom": zoom.value, "X-View": view() } }).catch(() => null);
    if (r?.status === 200) { put(await r.text()); await player.reload(); }
  });
}, 3000);

document.body.addEventListener("prepared", () => { if (!player.playing) location.reload(); });
document.addEventListener("look", () => waves(sheet()));
dress();
if (location.hash.length > 1) player.seek(num(location.hash.slice(1)) || 0);
window.kovel.story = { edit, undo, redo, idle: () => busy };
