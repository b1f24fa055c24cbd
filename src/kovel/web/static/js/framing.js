// Where an image comes to stand in the picture, as the plan says it: the renderer follows the same rule
// (core/plan/geometry).
import { brush } from "./dom.js";

/**
 * What a layer shows of its image. @typedef {object} Part
 * @property {number} zoom @property {number} x @property {number} y @property {number} turn @property {boolean} flip
 * @property {number[]} crop @property {string} fit @property {number} border @property {boolean} blur
 * @property {boolean} clear @property {number[][]} moves @property {string} ease @property {number[][]} [drift]
 */
export const WHOLE = {
  zoom: 100,
  x: 0.5,
  y: 0.4,
  turn: 0,
  flip: false,
  crop: [0, 0, 0, 0],
  fit: "whole",
  border: 0,
  blur: false,
  clear: false,
  moves: /** @type {number[][]} */ ([]),
  ease: "both",
};
export const EVERYWHERE = [0, 0, 1, 1];

/** @param {number} t @param {string} ease */
const eased = (t, ease) =>
  ease === "both" ? t * t * (3 - 2 * t) : ease === "in" ? t * t : ease === "out" ? t * (2 - t) : t;

/** Zoom, x and y at frame k of a run. @param {Part} part @param {number} k @returns {number[]} */
export function at(part, k) {
  if (!part.moves.length) return [part.zoom, part.x, part.y];
  let before = part.moves[0];
  for (const m of part.moves) {
    if (k < m[0]) {
      if (k <= before[0]) break;
      const t = eased((k - before[0]) / (m[0] - before[0]), part.ease);
      return before.slice(1).map((a, i) => a + (m[i + 1] - a) * t);
    }
    before = m;
  }
  return before.slice(1);
}

/** How far a layer has moved at frame k, in shares of the picture. @param {Part} part @param {number} k */
export function drifted(part, k) {
  if (!part.drift?.length) return [0, 0];
  const [a, x0, y0] = part.drift[0],
    [b, x1, y1] = part.drift[part.drift.length - 1];
  const t = eased(Math.min(1, Math.max(0, (k - a) / Math.max(1, b - a))), part.ease);
  return [x0 + (x1 - x0) * t, y0 + (y1 - y0) * t];
}

/**
 * Where an image of iw x ih stands in a picture of width x height: clip, matrix, and what of the image is there.
 * @param {number} iw @param {number} ih @param {number} width @param {number} height @param {Part} part
 * @param {number[]} place @param {number} k
 */
export function standing(iw, ih, width, height, part, place, k) {
  const edge = part.border * width;
  const x0 = place[0] * width + edge,
    y0 = place[1] * height + edge;
  const w = Math.max(1, place[2] * width - 2 * edge),
    h = Math.max(1, place[3] * height - 2 * edge);
  const scale = part.fit === "whole" ? Math.min(w / iw, h / ih) : Math.max(w / iw, h / ih);
  const [zoom, x, y] = at(part, k),
    z = zoom / 100;
  const cw = Math.max(w, iw * scale),
    ch = Math.max(h, ih * scale);
  const s = scale * z,
    left = x0 + (w - cw * z) * x + ((cw - iw * scale) / 2) * z,
    top = y0 + (h - ch * z) * y + ((ch - ih * scale) / 2) * z;
  let [a, b, c, d, e, f] = part.flip ? [-s, 0, 0, s, left + iw * s, top] : [s, 0, 0, s, left, top];
  if (part.turn) {
    const r = (part.turn * Math.PI) / 180,
      co = Math.cos(r),
      si = Math.sin(r);
    const mx = x0 + w / 2,
      my = y0 + h / 2;
    [a, b, c, d, e, f] = [
      co * a,
      si * a,
      -si * d,
      co * d,
      mx + co * (e - mx) - si * (f - my),
      my + si * (e - mx) + co * (f - my),
    ];
  }
  const [l, t, r, o] = part.crop;
  return {
    clip: [x0, y0, w, h],
    matrix: [a, b, c, d, e, f],
    cut: [iw * l, ih * t, iw * (1 - l - r), ih * (1 - t - o)],
  };
}

/** @param {number[]} rect @param {number[]} m */
const corners = ([x, y, w, h], m = [1, 0, 0, 1, 0, 0]) =>
  [
    [x, y],
    [x + w, y],
    [x + w, y + h],
    [x, y + h],
  ].map(([u, v]) => [m[0] * u + m[2] * v + m[4], m[1] * u + m[3] * v + m[5]]);

/**
 * Black where a place is not filled: bars are part of the picture, and as see-through as it is.
 * @param {CanvasRenderingContext2D} g @param {number[]} rect @param {number[][]} hole
 */
export function around(g, rect, hole) {
  g.beginPath();
  g.rect(rect[0], rect[1], rect[2], rect[3]);
  hole.forEach(([x, y], i) => (i ? g.lineTo(x, y) : g.moveTo(x, y)));
  g.closePath();
  g.fillStyle = "#000";
  g.fill("evenodd");
}

const SMALL = 16,
  SOFT = 2;
const EDGE = 6; // pixels around it, so that its edges do not run out into nothing
/** @type {HTMLCanvasElement[]} */ const grounds = [];

/** A picture out of focus, small: the ground behind a whole one.
 * @param {any} f @param {number} fw @param {number} fh */
function softened(f, fw, fh) {
  if (!grounds.length) grounds.push(document.createElement("canvas"), document.createElement("canvas"));
  const w = Math.max(1, Math.round(fw / SMALL)),
    h = Math.max(1, Math.round(fh / SMALL));
  const [plain, soft] = grounds.map((c) => {
    c.width = w + 2 * EDGE;
    c.height = h + 2 * EDGE;
    return brush(c);
  });
  plain.drawImage(f, 0, 0, w + 2 * EDGE, h + 2 * EDGE);
  plain.drawImage(f, EDGE, EDGE, w, h);
  soft.filter = `blur(${SOFT}px)`;
  soft.drawImage(grounds[0], 0, 0);
  return /** @type {[HTMLCanvasElement, number, number]} */ ([grounds[1], w, h]);
}

/**
 * One layer over what is there: its part of the picture, cut to its place.
 * @param {CanvasRenderingContext2D} g @param {any} f @param {number} fw @param {number} fh
 * @param {Part} part @param {number[]} place @param {number} k
 */
export function drawPart(g, f, fw, fh, part, place, k) {
  const { width, height } = g.canvas;
  const { clip: exact, matrix, cut } = standing(fw, fh, width, height, part, place, k);
  const l = Math.round(exact[0]),
    t = Math.round(exact[1]); // whole pixels: two edges that share one would let through what is under them
  const clip = [l, t, Math.round(exact[0] + exact[2]) - l, Math.round(exact[1] + exact[3]) - t];
  g.save();
  if (part.border && !part.clear)
    around(g, [place[0] * width, place[1] * height, place[2] * width, place[3] * height], corners(clip));
  g.beginPath();
  g.rect(clip[0], clip[1], clip[2], clip[3]);
  g.clip();
  if (!part.clear && !part.blur) around(g, clip, corners([cut[0], cut[1], cut[2], cut[3]], matrix));
  g.transform(matrix[0], matrix[1], matrix[2], matrix[3], matrix[4], matrix[5]);
  if (part.blur) {
    const [small, w, h] = softened(f, fw, fh);
    g.drawImage(small, EDGE, EDGE, w, h, 0, 0, fw, fh);
  } else g.drawImage(f, cut[0], cut[1], cut[2], cut[3], cut[0], cut[1], cut[2], cut[3]);
  g.restore();
}
