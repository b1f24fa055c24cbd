// Lines on the strip: a level at a frame, and the loudness of the whole under the lanes.

/**
 * Momentary (thin) and short-term (thick) loudness, the target, and dips.
 * @param {import("./strip.js").Strip} strip @param {number} w @param {number} h @param {number} a
 * @param {number} b
 */
export function loudnessCurve(strip, w, h, a, b) {
  const { g, fps, loud, ink } = strip,
    y0 = strip.graph,
    tall = Math.max(20, h - y0),
    at = (/** @type {number} */ lufs) => y0 + 4 + ((-8 - Math.max(-48, lufs)) / 40) * (tall - 8);
  g.fillStyle = ink.rule;
  g.fillRect(0, y0 - 0.5, w, 1);
  if (!loud) return;
  g.strokeStyle = ink.cover;
  g.setLineDash([4, 4]);
  g.beginPath();
  g.moveTo(0, at(loud.target));
  g.lineTo(w, at(loud.target));
  g.stroke();
  g.setLineDash([]);
  for (const [rows, width, colour] of [
    [loud.momentary, 0.8, ink.soft],
    [loud.short, 1.8, ink.ink],
  ]) {
    g.strokeStyle = colour;
    g.lineWidth = width;
    g.beginPath();
    const first = Math.max(0, Math.floor((a / fps) * 10)),
      end = Math.min(rows.length, Math.ceil((b / fps) * 10) + 1),
      step = Math.max(1, Math.floor((end - first) / w));
    for (let i = first; i < end; i += step) g.lineTo(strip.x(((i + 1) / 10) * fps), at(rows[i]));
    g.stroke();
  }
  if (strip.data.dips.length) {
    g.fillStyle = ink.pencil;
    for (const [f, db] of strip.data.dips)
      if (db < 0 && f > a && f < b) g.fillRect(strip.x(f) - 1, y0 + 1, 2, Math.max(3, -db * 3));
  }
  g.font = "10.5px 'Kovel Sans', sans-serif";
  g.fillStyle = ink.soft;
  g.fillText(`${loud.target} LUFS`, 4, at(loud.target) - 7);
}

/** @param {number} x0 @param {Box} box @param {number} x1 */
export function clipOf(x0, box, x1) {
  const p = new Path2D();
  p.rect(x0, box.y, x1 - x0, box.h);
  return p;
}

/**
 * A line's value at a frame: straight between its moments, as at its ends beyond them.
 * @param {[number, number][]} line @param {number} f
 */
export function along(line, f) {
  if (!line.length) return 0;
  const i = line.findIndex(([m]) => m > f);
  if (i === 0) return line[0][1];
  if (i < 0) return line[line.length - 1][1];
  const [[a, x], [b, y]] = [line[i - 1], line[i]];
  return x + ((y - x) * (f - a)) / (b - a);
}

/**
 * Whatever lies under a point of the strip, the uppermost first.
 * @param {import("./strip.js").Strip} strip @param {number} x @param {number} y
 */
export function under(strip, x, y) {
  return strip.data.blocks.findLast((/** @type {any} */ b) => {
    const box = strip.box(b);
    return x >= box.x && x < box.x + box.w && y >= box.y && y < box.y + box.h;
  });
}

/**
 * The moment of its recording that something on the strip plays at a story frame.
 * @param {import("./stripblocks.js").Block} b
 */
export const momentOf = (b, /** @type {number} */ f) => Math.floor(b.start + (f - b.at) * b.run + 1e-6);
