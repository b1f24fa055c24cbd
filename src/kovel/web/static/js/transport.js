// Transport row and its keys, the same in every room with a picture.
import { room } from "./room.js";
import { $, inside } from "./dom.js";
import { say } from "./base.js";
import { fetched } from "./fetching.js";
import { onKeys } from "./keys.js";
import { Player } from "./player.js";
import { readTime } from "./times.js";

/** @param {number} frame @param {number[]} rate */
export function timecode(frame, rate, start = 0, drop = false) {
  // Display only; the server's timecode module is the truth and is what is stored.
  const n = Math.ceil(rate[0] / rate[1] - 1e-9);
  let f = frame + start;
  if (drop) {
    const skip = n / 15,
      ten = n * 600 - skip * 9,
      tens = Math.floor(f / ten),
      rest = f % ten;
    f += skip * 9 * tens + (rest >= n * 60 ? skip * (1 + Math.floor((rest - n * 60) / (n * 60 - skip))) : 0);
  }
  const p = (/** @type {number} */ x) => String(x).padStart(2, "0"),
    s = Math.floor(f / n);
  return `${p(Math.floor(s / 3600) % 24)}:${p(Math.floor(s / 60) % 60)}:${p(s % 60)}${drop ? ";" : ":"}${p(f % n)}`;
}

/** @param {HTMLElement} root @param {string} planUrl */
export async function transport(root, planUrl) {
  const canvas = $("canvas", root);
  const player = new Player(canvas, { pool: new URLSearchParams(location.search).has("pool") });
  const at = $("[data-timecode]", root),
    note = $("[data-note]", root);
  const start = Number(root.dataset.start || 0),
    drop = root.dataset.drop === "1";
  const show = () => {
    if (player.plan) at.textContent = timecode(player.frame, player.plan.rate, start, drop);
  };
  player.addEventListener("time", show);
  player.addEventListener("state", () => {
    $("[data-act=toggle]", root).setAttribute("aria-label", player.playing ? "Pause" : "Play");
    root.classList.toggle("is-playing", player.playing);
    $("[data-speed]", root).textContent = player.playing && player.speed !== 1 ? `${player.speed}×` : "";
    show();
  });
  if (!player.pictures.exact)
    note.textContent = "Pictures within one frame: this browser or address has no exact decoder.";
  player.addEventListener("plain", () => {
    note.textContent = "Looks are not shown here: this browser has no WebGL 2. Renders have them.";
  });
  player.reload = async () => {
    const answer = await fetched(player.alone ? `${planUrl}?only=${player.alone}` : planUrl);
    if (!answer.ok) return;
    const plan = await answer.json();
    player.lengths = new Map(Object.entries(plan.frames || {}).map(([k, v]) => [Number(k), v]));
    player.load(plan);
    show();
  };
  /** @type {Record<string, () => unknown>} */ const acts = {
    toggle: () => player.toggle(),
    back: () => step(-1),
    ahead: () => step(1),
    start: () => player.seek(0),
    end: () => player.seek(player.plan.length),
    reverse: () => player.shuttle(-1),
    forward: () => player.shuttle(1),
  };
  const step = (/** @type {number} */ n) => {
    player.stop();
    player.seek(player.frame + n);
  };
  root.addEventListener("click", (/** @type {MouseEvent} */ e) => {
    const b = inside(e, "[data-act]");
    if (b) acts[b.dataset.act]?.();
  });
  onKeys({
    // what can be pressed is pressed by it
    toggle: (e) => (inside(e, "button, summary, a, [role=button]") ? false : player.toggle()),
    reverse: acts.reverse,
    stop: () => player.stop(),
    forward: acts.forward,
    frame_back: acts.back,
    frame_on: acts.ahead,
    five_back: () => step(-5),
    five_on: () => step(5),
    start: acts.start,
    end: acts.end,
    time: () => acts.time(),
  });
  // A clicked button gives the keyboard back, so that the space bar plays instead of pressing it again.
  document.addEventListener("click", (e) => {
    if (e.detail > 0) inside(e, "button")?.blur();
  });
  // The timecode is a field: F, or a click, and a time to go to.
  const field = $("[data-goto-time]", root);
  const back = () => {
    field.hidden = true;
    at.hidden = false;
  };
  acts.time = () => {
    player.stop();
    field.value = at.textContent;
    field.hidden = false;
    at.hidden = true;
    field.focus();
    field.select();
  };
  field.addEventListener("keydown", async (/** @type {KeyboardEvent} */ e) => {
    if (e.key === "Escape") {
      back();
      return;
    }
    if (e.key !== "Enter") return;
    e.preventDefault();
    const got = await readTime(field.value, "moment", { now: player.frame, start });
    if (got.error) {
      say(got.error, true);
      return;
    }
    back();
    player.seek(got.frame);
    if (got.frame > player.plan.length) say("That lies behind the end; here is the end.");
  });
  field.addEventListener("blur", back);
  await player.reload();
  room.player = player;
  window.kovel = { ...(window.kovel || {}), player };
  return player;
}
