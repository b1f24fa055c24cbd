// Framing by hand: the picture is dragged, zoomed with the wheel or by keys. What is seen meanwhile is a draft
// of the plan; what stands is set by one edit when the hand lets go.
import { runAt } from "/static/js/plan.js";
import { leaves } from "/static/js/nested.js";
import { say } from "/static/js/base.js";
import { within } from "/static/js/declared.js";
import { frameCrop } from "./framecrop.js";
import { at as partAt, WHOLE } from "/static/js/framing.js";

/**
 * @param {import("/static/js/player.js").Player} player @param {object} room
 * @param {() => {id: number, at: number, length: number, kind: string}|null} room.one what is chosen, if one thing
 * @param {(command: string, params: object) => Promise<any>} room.edit
 * @param {(text: string) => void} room.tell
 */
export function frameDrag(player, { one, edit, tell }) {
  const canvas = player.canvas;
  /** The draft: zoom, x, y; null while nothing is held. @type {number[]|null} */ let draft = null;
  let waiting = 0;

  /** The layer that is framed: of the chosen thing, at the playhead. */
  function layer() {
    const b = one();
    if (!b) return void say("Choose one piece or cover first (G, V).", true);
    if (player.frame < b.at || player.frame >= b.at + b.length) player.seek(b.at);
    const run = player.plan.pictures[runAt(player.plan, player.frame)];
    const rows = leaves(run[2]).filter((l) => l[0] !== null);
    const l = b.kind === "cover" ? rows.at(-1) : rows[0];
    if (!l) return void say("There is no picture to frame.", true);
    return { l, k: player.frame - run[0], item: b.id };
  }
  function begin() {
    const found = layer();
    if (!found) return null;
    player.stop();
    const part = { ...WHOLE, ...(found.l[4]?.part || {}) };
    return { ...found, part, was: partAt(part, found.k), wide: [1, 1] };
  }
  /** @param {Held} held @param {number[]} now */
  function show(held, now) {
    draft = now;
    held.l[4] = {
      ...(held.l[4] || {}),
      part: { ...held.part, moves: [], zoom: now[0], x: now[1], y: now[2] },
    };
    player.shown = null;
    tell(`${now[0].toFixed(1)} %, ${(now[1] * 100).toFixed(1)} % across, ${(now[2] * 100).toFixed(1)} % down`);
  }
  const round = (/** @type {number} */ x) => Math.round(x * 10) / 10;
  /** @param {Held} held @param {number[]} now */
  async function keep(held, now, move = false) {
    const at = player.frame;
    draft = null;
    const [zoom, x, y] = now.map((/** @type {number} */ v, /** @type {any} */ i) => (i ? round(v * 100) : round(v)));
    const was = held.was.map((/** @type {number} */ v, /** @type {any} */ i) => (i ? round(v * 100) : round(v)));
    /** @type {Record<string, number>} */ const given = {};
    for (const [i, name, value] of /** @type {[number, string, number][]} */ ([
      [0, "zoom", zoom],
      [1, "across", x],
      [2, "down", y],
    ]))
      if (value !== was[i] || (move && name === "zoom")) given[name] = value;
    if (!Object.keys(given).length) return void player.reload();
    return edit("frame_here", { item: held.item, at, ...given, ...(move ? { move: true } : {}) });
  }
  const clamp = (/** @type {number} */ v, /** @type {number} */ a, /** @type {number} */ b) =>
    Math.min(b, Math.max(a, v));

  // A drag moves what is seen with the hand: the room that is left is shared out anew.
  /** @param {any} held @param {number[]} was @param {number} dx @param {number} dy */
  function moved(held, was, dx, dy) {
    const [zoom, x, y] = was;
    const place = held.l[4]?.place || [0, 0, 1, 1],
      z = zoom / 100,
      share = (/** @type {number} */ room, /** @type {number} */ by) => (Math.abs(room) < 0.002 ? 0 : by / room);
    return [
      zoom,
      clamp(x + share(place[2] * (1 - z * held.wide[0]), dx), 0, 1),
      clamp(y + share(place[3] * (1 - z * held.wide[1]), dy), 0, 1),
    ];
  }
  // How much wider and higher than its place the image is at 100 %, for what fills its place.
  /** @param {Held} held */
  function wideOf(held) {
    const place = held.l[4]?.place || [0, 0, 1, 1];
    if (held.part.fit !== "filled") return [1, 1];
    const f = player.pictures.get(
      ...player.limit([held.l[0], Math.floor((held.l[1] + held.k * held.l[2]) / held.l[3])]),
    );
    if (!f) return [1, 1];
    const [w, h] = [place[2] * canvas.width, place[3] * canvas.height],
      s = Math.max(w / f.displayWidth, h / f.displayHeight);
    return [(f.displayWidth * s) / w, (f.displayHeight * s) / h];
  }
  /** Canvas pixels on the screen, without the bars around it. */
  function shown() {
    const r = canvas.getBoundingClientRect(),
      k = Math.min(r.width / canvas.width, r.height / canvas.height);
    return { w: canvas.width * k, h: canvas.height * k, left: r.left + (r.width - canvas.width * k) / 2, top: r.top };
  }

  const all = () => {
    const held = begin();
    return held && { ...held, wide: wideOf(held) };
  };
  frameCrop(player, { begin: all, shown, edit, tell }); // first: it takes what is dragged with Alt
  canvas.addEventListener("pointerdown", (/** @type {PointerEvent} */ e) => {
    if (e.button || canvas.dataset.pick) return;
    const held = begin();
    if (!held) return;
    e.preventDefault();
    held.wide = wideOf(held);
    canvas.setPointerCapture(e.pointerId);
    const box = shown();
    let now = held.was,
      told = false;
    const move = (/** @type {PointerEvent} */ m) => {
      now = moved(held, held.was, (m.clientX - e.clientX) / box.w, (m.clientY - e.clientY) / box.h);
      if (
        !told &&
        now[1] === held.was[1] &&
        now[2] === held.was[2] &&
        Math.hypot(m.clientX - e.clientX, m.clientY - e.clientY) > 12
      ) {
        told = true;
        say("At 100 % there is no room to move it: zoom in first (+, or the wheel).");
      }
      show(held, now);
    };
    const up = () => {
      canvas.removeEventListener("pointermove", move);
      canvas.removeEventListener("pointerup", up);
      canvas.removeEventListener("pointercancel", up);
      void keep(held, now);
    };
    canvas.addEventListener("pointermove", move);
    canvas.addEventListener("pointerup", up);
    canvas.addEventListener("pointercancel", up);
  });

  /** @type {any} */ let turning = null;
  /** @param {(now: any, held: any) => number[]} change */
  function step(change) {
    turning ??= begin();
    if (!turning) return;
    turning.wide = wideOf(turning);
    show(turning, change(draft || turning.was, turning));
    clearTimeout(waiting);
    waiting = setTimeout(() => {
      const held = turning,
        now = draft;
      turning = null;
      if (held && now) void keep(held, now);
    }, 350);
  }
  const zoomed = (/** @type {number} */ by) => step(([z, x, y]) => [within("zoom", z + by), x, y]);
  canvas.addEventListener(
    "wheel",
    (/** @type {WheelEvent} */ e) => {
      if (!one()) return;
      e.preventDefault();
      zoomed(e.deltaY < 0 ? 2 : -2);
    },
    { passive: false },
  );
  return {
    zoom: zoomed,
    nudge: (/** @type {any} */ dx, /** @type {any} */ dy) =>
      step(([z, x, y]) => [z, clamp(x + dx, 0, 1), clamp(y + dy, 0, 1)]),
    /** The frame as it stands becomes a moment of a push at the playhead, a little nearer than at its other end. */
    push() {
      const held = begin();
      if (!held) return undefined;
      const far = Array.isArray(held.part.moves) && held.part.moves.length > 0;
      return keep(held, far ? held.was : [within("zoom", held.was[0] * 1.12), held.was[1], held.was[2]], true);
    },
  };
}
