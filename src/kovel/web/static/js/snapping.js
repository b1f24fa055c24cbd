// Snapping: the nearest of what something dragged may land on.

/**
 * The frame nearest to `frame` within `reach` of it, and what it belongs to; `frame` itself, of nothing, where none is.
 * Of two as near the first counts.
 * @param {number} frame @param {number} reach frames; it must be nearer than that
 * @param {[what: string, frames: Iterable<number|null>][]} targets null: there is none
 * @returns {{at: number, what: string}}
 */
export function nearest(frame, reach, targets) {
  let at = frame,
    what = "",
    gap = reach;
  for (const [name, frames] of targets)
    for (const target of frames) {
      if (target === null || Math.abs(target - frame) >= gap) continue;
      gap = Math.abs(target - frame);
      at = target;
      what = name;
    }
  return { at, what };
}
