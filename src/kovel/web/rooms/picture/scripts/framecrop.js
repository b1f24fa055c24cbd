// Cutting the picture's sides off by hand: Alt and a drag from near one of them inwards, or back out.
import { at as partAt } from "/static/js/framing.js";

const SIDES = ["left", "top", "right", "bottom"],
  MOST = 90; // percent

/**
 * @param {import("/static/js/player.js").Player} player @param {object} room
 * @param {() => any} room.begin what is framed: its layer, part, frame of its run, id
 * @param {() => {w: number, h: number, left: number, top: number}} room.shown the picture on the screen
 * @param {(command: string, params: object) => Promise<any>} room.edit
 * @param {(text: string) => void} room.tell
 */
export function frameCrop(player, { begin, shown, edit, tell }) {
  const canvas = player.canvas;
  /** Where the layer's image lies on the screen: left, top, right, bottom. @param {Held} held */
  function image(held) {
    const box = shown(),
      [px, py, pw, ph] = held.l[4]?.place || [0, 0, 1, 1],
      [zoom, x, y] = partAt(held.part, held.k),
      w = pw * box.w * (zoom / 100) * held.wide[0],
      h = ph * box.h * (zoom / 100) * held.wide[1],
      left = box.left + px * box.w + (pw * box.w - w) * x,
      top = box.top + py * box.h + (ph * box.h - h) * y;
    return { left, top, w, h };
  }
  canvas.addEventListener("pointerdown", (/** @type {PointerEvent} */ e) => {
    if (e.button || !e.altKey || canvas.dataset.pick) return;
    e.preventDefault();
    e.stopImmediatePropagation();
    const held = begin();
    if (!held) return;
    const mirrored = held.part.flip ? 2 : 0, // its left side is seen on the right
      seen = (/** @type {number} */ i) => (i % 2 ? i : (i + mirrored) % 4);
    const im = image(held),
      crop = [...(held.part.crop || [0, 0, 0, 0])],
      was = [...crop];
    // the side whose edge, as it is cut now, is nearest
    const far = [
      Math.abs(e.clientX - im.left - crop[seen(0)] * im.w),
      Math.abs(e.clientY - im.top - crop[1] * im.h),
      Math.abs(im.left + im.w * (1 - crop[seen(2)]) - e.clientX),
      Math.abs(im.top + im.h * (1 - crop[3]) - e.clientY),
    ];
    const near = far.indexOf(Math.min(...far)),
      side = seen(near),
      sign = near < 2 ? 1 : -1,
      across = near % 2 === 0;
    canvas.setPointerCapture(e.pointerId);
    const move = (/** @type {PointerEvent} */ m) => {
      const by = across ? (m.clientX - e.clientX) / im.w : (m.clientY - e.clientY) / im.h,
        other = crop[(side + 2) % 4];
      crop[side] = Math.max(0, Math.min(MOST / 100, 0.98 - other, was[side] + sign * by));
      held.l[4] = { ...(held.l[4] || {}), part: { ...held.part, crop, clear: true } };
      player.shown = null;
      tell(`Cut ${SIDES[side]}: ${(crop[side] * 100).toFixed(1)} %`);
    };
    const up = () => {
      canvas.removeEventListener("pointermove", move);
      canvas.removeEventListener("pointerup", up);
      canvas.removeEventListener("pointercancel", up);
      const value = Math.round(crop[side] * 1000) / 10;
      if (value === Math.round(was[side] * 1000) / 10) void player.reload();
      else void edit("set_value", { to: [held.item], setting: `crop_${SIDES[side]}`, value });
    };
    canvas.addEventListener("pointermove", move);
    canvas.addEventListener("pointerup", up);
    canvas.addEventListener("pointercancel", up);
  });
}
