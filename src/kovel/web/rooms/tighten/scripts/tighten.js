// The Tighten room: go through what is proposed by key, hear it, move its edges. The server proposes and keeps.
import "./inplace.js";
import { thresholdLine } from "./thresholdline.js";
import { $, $$, byId, inside, target, num } from "/static/js/dom.js";
import { post, redraw, say } from "/static/js/base.js";
import { forget, wave } from "/static/js/peaks.js";
import { edges, onKeys } from "/static/js/keys.js";
import { transport } from "/static/js/transport.js";

const room = byId("tighten");
const fps = Number(room.dataset.fps),
  start = Number(room.dataset.start),
  end = Number(room.dataset.end),
  total = end - start;
const base = `/p/${room.dataset.project}`,
  rec = room.dataset.recording;
const player = await transport($("[data-player]"), `${base}/recordings/${rec}/plan`);
const whole = player.plan; // the recording as it is; other plans are for hearing
/** @type {any[][]|null} */ let shift = null; // while a plan for hearing is loaded: its frame -> the recording's
/** @type {null} */ let chosen = null;
let awaited = Boolean($("[data-awaited]")); // its sound, or what is found in it, is still to come

const rows = () => $$("#list [data-key]", document);
const of = (/** @type {HTMLElement} */ r) => ({
  key: r.dataset.key,
  a: Number(r.dataset.a),
  b: Number(r.dataset.b),
  out: r.dataset.out === "1",
  kind: r.dataset.kind,
});
const pc = (/** @type {number} */ f) => `${(100 * (f - start)) / total}%`;

// The settings stand under the picture; they come with every answer and are put in their place.
function settle() {
  const s = $("#desk #settings");
  if (s)
    redraw(byId("settings-here"), () => {
      s.hidden = false;
      byId("settings-here").replaceChildren(s);
    });
  strike();
  draw();
  stand();
}
// Words that a proposal is about are struck through, or underlined where it is left in. Drawn once; this moves.
/** @type {any[]} */ let words = [];
/** @type {any[]} */ let struck = [];
function strike() {
  if (words[0] !== $("#tight-words .w")) {
    words = $$("#tight-words .w", document);
    struck = [];
  }
  for (const el of struck) {
    el.classList.remove("gone", "maybe-gone");
    delete el.dataset.key;
  }
  struck = [];
  for (const [i, j, key, out] of JSON.parse(byId("desk").dataset.struck))
    for (const el of words.slice(i, j)) {
      el.dataset.key = key;
      el.classList.add(out ? "gone" : "maybe-gone");
      struck.push(el);
    }
}
const picture = () => wave($("#overview canvas"), rec, start / fps, end / fps);
function draw() {
  byId("proposed").replaceChildren(
    ...rows().map((r) => {
      const p = of(r),
        el = document.createElement("button");
      el.type = "button";
      el.className = `proposed ${p.out ? "is-out" : ""}`;
      el.dataset.key = p.key;
      el.title = `${p.kind}: ${$("[title]", r).title}`;
      el.setAttribute("aria-label", `Choose the ${p.kind}`);
      el.tabIndex = -1;
      el.style.left = pc(p.a);
      el.style.width = `${(100 * (p.b - p.a)) / total}%`;
      el.addEventListener("click", () => choose(p.key, true));
      return el;
    }),
  );
}
function stand() {
  for (const el of $$("[data-key]")) el.classList.toggle("is-here", chosen !== null && el.dataset.key === chosen);
}
const here = () => {
  const r = rows().find((x) => x.dataset.key === chosen);
  return r ? of(r) : null;
};
/** @param {any} key */
function choose(key, scroll = false) {
  chosen = key;
  stand();
  const r = rows().find((x) => x.dataset.key === key);
  if (!r) return;
  r.scrollIntoView({ block: "nearest" });
  if (scroll) $(`#tight-words [data-key="${key}"]`)?.scrollIntoView({ block: "center" });
  back();
  player.seek(Number(r.dataset.a));
}
/** @param {number} by */
function walk(by) {
  const all = rows();
  if (!all.length) return;
  const i = all.findIndex((r) => r.dataset.key === chosen);
  choose(all[Math.max(0, Math.min(all.length - 1, i < 0 ? 0 : i + by))].dataset.key, true);
}
const send = (/** @type {Record<string, any>} */ values) =>
  post(byId("desk").dataset.url + byId("desk").dataset.query, { target: "#desk", swap: "outerHTML", values });
const set = () => send(Object.fromEntries(new FormData(byId("settings"))));
document.addEventListener("change", (e) => {
  if (inside(e, "#settings")) set();
  else if (target(e).matches("[data-toggle]")) send({ do: "toggle", key: inside(e, "[data-key]").dataset.key });
});
document.addEventListener("submit", (e) => {
  if (target(e).id === "settings") e.preventDefault();
});
document.addEventListener("click", (e) => {
  const b = inside(e, "[data-send]");
  if (b) send(JSON.parse(b.dataset.send));
});
let tops = [0, 0];
document.body.addEventListener("htmx:beforeSwap", () => {
  tops = [byId("list")?.scrollTop ?? 0, byId("tight-words")?.scrollTop ?? 0];
});
document.body.addEventListener("htmx:afterSettle", () => {
  if ($("#desk #settings")) {
    settle();
    if (awaited) {
      forget(num(rec)); // there is more of its sound than there was
      forget(rec);
      picture();
    }
    awaited = Boolean($("[data-awaited]"));
    byId("list").scrollTop = tops[0];
    byId("tight-words").scrollTop = tops[1];
  }
});
document.body.addEventListener("htmx:configRequest", (/** @type {CustomEvent} */ e) => {
  if (e.detail.elt.id === "send")
    e.detail.parameters.set("at", localStorage.getItem(`kovel-head-${room.dataset.project}`) || "");
});

// ---- hearing: the player gets a plan without what is taken out
/** @param {number} a @param {number} b @param {Record<string, any>} more */
async function hear(a, b, more) {
  const q = new URLSearchParams({ a: String(a), b: String(b), ...more });
  const plan = await (await fetch(`${base}/tighten/${rec}/hear?${q}`)).json();
  if (!plan.length) {
    say("Nothing would be left here.", true);
    return;
  }
  player.stop(true);
  player.lengths = new Map(Object.entries(plan.frames).map(([k, v]) => [Number(k), v]));
  shift = plan.stays;
  player.frame = 0;
  player.load(plan);
  player.seek(0);
  player.play(1);
}
function back() {
  if (!shift) return;
  const f = source(player.frame);
  shift = null;
  player.stop(true);
  player.load(whole);
  player.seek(f);
}
/** @param {number} f */
function source(f) {
  // the recording's frame at a frame of what is heard
  if (!shift) return f;
  for (const [a, b] of shift) {
    if (f < b - a) return a + f;
    f -= b - a;
  }
  return shift.at(-1)?.[1] ?? 0;
}
const hearAll = () => hear(start, end, { decided: true });
/** @param {boolean} asItIs */
function hearOne(asItIs) {
  const p = here();
  if (!p) {
    say("Choose a proposal first: ↓ and ↑.", true);
    return;
  }
  const s = Math.round(fps);
  hear(Math.max(0, p.a - s), Math.min(end, p.b + s), asItIs ? {} : { without: `${p.a}-${p.b}` });
}
player.addEventListener("time", () => {
  byId("now").style.left = pc(source(player.frame));
});
player.addEventListener("state", () => {
  if (!player.playing && shift && player.frame >= player.plan.length - 1) back();
});

document.addEventListener("click", (e) => {
  const pick = inside(e, "#list [data-pick]");
  if (pick) choose(pick.closest("[data-key]").dataset.key, true);
  const w = inside(e, "#tight-words .w");
  if (w) {
    if (w.dataset.key) choose(w.dataset.key);
    else {
      back();
      player.seek(Number(w.dataset.a));
    }
  }
  if (inside(e, "#play-all")) hearAll();
  if (inside(e, "#find-threshold")) {
    byId("settings").elements.threshold.value = "auto";
    set();
  }
});

thresholdLine(set);

// ---- drag over the recording's line: a stretch to protect; a click goes there
const overview = byId("overview");
const frameAt = (/** @type {PointerEvent} */ e) => {
  const r = overview.getBoundingClientRect();
  return Math.round(start + ((e.clientX - r.left) / r.width) * total);
};
/** @type {number|null} */ let from = null;
/** @type {number[]|null} */ let stretch = null;
overview.addEventListener("pointerdown", (/** @type {PointerEvent} */ e) => {
  if (!inside(e, ".proposed")) {
    from = frameAt(e);
    overview.setPointerCapture(e.pointerId);
  }
});
overview.addEventListener("pointermove", (/** @type {PointerEvent} */ e) => {
  if (from === null || !e.buttons || Math.abs(frameAt(e) - from) < 2) return;
  stretch = [from, frameAt(e)].sort((a, b) => a - b);
  byId("range").hidden = false;
  byId("range").style.left = pc(stretch[0]);
  byId("range").style.width = `${(100 * (stretch[1] - stretch[0])) / total}%`;
});
overview.addEventListener("pointerup", (/** @type {PointerEvent} */ e) => {
  if (from !== null && (!stretch || Math.abs(frameAt(e) - from) < 2)) {
    back();
    player.seek(frameAt(e));
  }
  from = null;
});
function protect() {
  if (!stretch) {
    say("Drag over a stretch of the recording's line first, then protect it.", true);
    return;
  }
  send({ do: "protect", a: stretch[0], b: stretch[1] });
  stretch = null;
  byId("range").hidden = true;
}

const nudge = (/** @type {string} */ key, /** @type {any} */ by) => {
  const p = here();
  return p ? send({ do: "nudge", key: p.key, edge: key === "[" ? "start" : "end", by }) : false;
};
onKeys({
  undo: () => send({ do: "undo" }),
  next: () => walk(1),
  last: () => walk(-1),
  hear: () => hearOne(false),
  hear_raw: () => hearOne(true),
  hear_all: hearAll,
  decide: () => (here() ? send({ do: "toggle", key: here()?.key }) : false),
  protect,
  to_end: () => {
    const b = $('#send [value="end"]');
    htmx.process(b.form); // the form may have come just now
    b.click();
  },
});
edges(nudge);
picture();
new ResizeObserver(picture).observe(overview);
document.addEventListener("look", picture);
settle();

window.kovel.tighten = true; // all keys are listened to
