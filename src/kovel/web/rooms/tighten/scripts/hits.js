// Hits and beats: marks along a take, chosen by key or click; taps while music plays. The server finds and keeps.
import { $, $$, byId, inside } from "/static/js/dom.js";
import { post, redraw } from "/static/js/base.js";
import { forget, wave } from "/static/js/peaks.js";
import { onKeys } from "/static/js/keys.js";
import { transport } from "/static/js/transport.js";

const room = byId("hits");
const total = Number(room.dataset.total),
  fps = Number(room.dataset.fps),
  rec = room.dataset.recording,
  music = room.dataset.kind === "music";
const base = `/p/${room.dataset.project}`;
const player = await transport($("[data-player]"), `${base}/recordings/${rec}/plan`);
const whole = player.plan;
let quick = false;
/** @type {string|null} the sample of the mark */ let chosen = null;
const pc = (/** @type {number} */ f) => `${(100 * f) / total}%`;
const marks = () => $$("#mark-data i", document);

function draw() {
  byId("marks").replaceChildren(
    ...marks().map((m) => {
      /** @type {any} */ const el = document.createElement(music ? "span" : "button");
      el.className = music
        ? `beat ${m.dataset.down === "1" ? "is-down" : ""}`
        : `hit ${m.dataset.on === "1" ? "is-on" : ""} ${m.dataset.sample === chosen ? "is-here" : ""}`;
      el.style.left = pc(Number(m.dataset.frame));
      if (!music) {
        el.type = "button";
        el.tabIndex = -1;
        el.setAttribute("aria-label", m.dataset.on === "1" ? "Leave this hit out" : "Take this hit in");
        el.addEventListener("click", () => {
          chosen = m.dataset.sample;
          toggle();
        });
      }
      return el;
    }),
  );
}
function settle() {
  const s = $("#desk #settings");
  if (s)
    redraw(byId("settings-here"), () => {
      s.hidden = false;
      byId("settings-here").replaceChildren(s);
      htmx.process(s);
    });
  draw();
  more();
}
// While it is listened to there is more of its sound each time: its waveform is drawn anew when there are more marks.
let heard = marks().length;
function more() {
  if (marks().length === heard) return;
  heard = marks().length;
  forget(rec);
  picture();
}
const send = (/** @type {Record<string, any>} */ values) =>
  post(byId("desk").dataset.url, { target: "#desk", swap: "outerHTML", values });
const toggle = () => chosen !== null && send({ toggle: chosen });
/** @param {number} by */
function walk(by) {
  const all = marks(),
    i = all.findIndex((m) => m.dataset.sample === chosen),
    m = all[Math.max(0, Math.min(all.length - 1, i < 0 ? 0 : i + by))];
  if (!m) return;
  back();
  chosen = m.dataset.sample;
  player.seek(Number(m.dataset.frame));
  draw();
}
async function play() {
  const plan = await (await fetch(`${base}/hits/${rec}/plan`)).json();
  if (!plan.length) return;
  quick = true;
  player.stop(true);
  player.frame = 0;
  player.load(plan);
  player.seek(0);
  player.play(1);
}
function back() {
  if (quick) {
    quick = false;
    player.stop(true);
    player.load(whole);
  }
}
document.body.addEventListener("htmx:afterSettle", () => {
  if ($("#desk #settings") || music) settle();
});
document.body.addEventListener("htmx:configRequest", (/** @type {CustomEvent} */ e) => {
  if (e.detail.elt.id === "send")
    e.detail.parameters.set("at", localStorage.getItem(`kovel-head-${room.dataset.project}`) || "");
});
document.addEventListener("click", (e) => {
  if (inside(e, "#play-cut")) play();
  const go = inside(e, ".quick-piece");
  if (go) {
    back();
    player.seek(Number(go.dataset.go));
  }
});
player.addEventListener("time", () => {
  if (!quick) byId("now").style.left = pc(player.frame);
});
player.addEventListener("state", () => {
  if (!player.playing) {
    if (quick && player.frame >= player.plan.length - 1) back();
    if (taps.length) tell();
  }
});

/** @type {number[]} */ let taps = [];
function tell() {
  const t = taps;
  taps = [];
  send({ do: "tap", taps: t.join(",") });
}
const overview = byId("overview");
overview.addEventListener("pointerdown", (/** @type {PointerEvent} */ e) => {
  if (inside(e, ".hit")) return;
  const r = overview.getBoundingClientRect();
  back();
  player.seek(((e.clientX - r.left) / r.width) * total);
});
/** @param {KeyboardEvent} e */
function tapped(e) {
  if (!music || !player.playing || e.repeat) return false;
  taps.push(Math.round((player.now() / fps) * 48000));
  const t = byId("taps");
  if (t) t.textContent = `${taps.length} taps`;
  return true;
}
onKeys({
  next: () => walk(1),
  last: () => walk(-1),
  decide: toggle,
  play_cut: () => (music ? false : play()),
  to_end: () => (music ? false : $('#send [value="end"]').click()),
  tap: tapped,
});
const picture = () => wave($("#overview canvas"), rec, 0, total / fps);
picture();
new ResizeObserver(picture).observe(overview);
document.addEventListener("look", picture);
settle();
window.kovel.hits = true; // all keys are listened to
