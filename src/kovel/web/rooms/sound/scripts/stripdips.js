// Peak dips under the strip: dragged deeper or elsewhere, taken away with Alt. Attached before other dragging.
import { declared, within } from "/static/js/declared.js";
const NEAR = 6, // pixels
  TALL = 3; // pixels a decibel, as they are drawn

/** @param {import("./strip.js").Strip} strip @param {any} room edit, tell */
export function dipping(strip, room) {
  const { canvas } = strip;
  /** The dip that is held, from where, and where it would be. @type {any} */ let drag = null;
  const place = (/** @type {PointerEvent} */ e) => {
    const r = canvas.getBoundingClientRect();
    return [e.clientX - r.left, e.clientY - r.top];
  };
  /**
   * The dip under a point: its story frame and depth.
   * @param {number[]} at @returns {[number, number] | undefined}
   */
  const hit = ([x, y]) =>
    strip.data && y >= strip.graph
      ? strip.data.dips
          .filter(
            (/** @type {[number, number]} */ [f, db]) =>
              db < 0 && Math.abs(strip.x(f) - x) < NEAR && y < strip.graph + 8 - db * TALL,
          )
          .sort(
            (/** @type {number[]} */ [f], /** @type {number[]} */ [g]) =>
              Math.abs(strip.x(f) - x) - Math.abs(strip.x(g) - x),
          )[0]
      : undefined;
  canvas.addEventListener("pointerdown", (/** @type {PointerEvent} */ e) => {
    const at = place(e),
      dip = e.button ? undefined : hit(at);
    if (!dip) return;
    e.stopImmediatePropagation();
    strip.scroll.focus({ preventScroll: true });
    if (e.altKey) {
      room.edit("take_dip", { at: dip[0] });
      return;
    }
    canvas.setPointerCapture(e.pointerId);
    drag = { from: at, dip, rows: strip.data.dips, f: dip[0], db: dip[1] };
  });
  canvas.addEventListener("pointermove", (/** @type {PointerEvent} */ e) => {
    const at = place(e);
    if (!drag) {
      if (hit(at)) {
        canvas.style.cursor = "move";
        e.stopImmediatePropagation();
      }
      return;
    }
    e.stopImmediatePropagation();
    const [f, db] = drag.dip;
    drag.f = Math.max(0, Math.min(strip.data.length - 1, Math.round(f + (at[0] - drag.from[0]) / strip.px)));
    drag.db = Math.min(-declared("dips").step, within("dips", db - (at[1] - drag.from[1]) / TALL));
    strip.data.dips = drag.rows.map((/** @type {any} */ m) => (m === drag.dip ? [drag.f, drag.db] : m));
    room.tell(`The whole dips to ${drag.db.toFixed(1)} dB`);
    strip.draw();
  });
  canvas.addEventListener("pointerup", (/** @type {PointerEvent} */ e) => {
    if (!drag) return;
    e.stopImmediatePropagation();
    const { dip, f, db, rows } = drag;
    drag = null;
    strip.data.dips = rows;
    if (f !== dip[0] || db !== dip[1]) room.edit("dip_here", { at: f, value: db, was: dip[0] });
    else strip.draw();
  });
}
