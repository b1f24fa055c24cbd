// Layers put together before they are seen: a group as one picture, letters that show what lies below them.
import { brush } from "./dom.js";
import { WHOLE, drifted } from "./framing.js";

/** Rows of a plan's stack, those within others too. @param {any[]} rows @returns {any[]} */
export const leaves = (rows) => rows.flatMap((row) => (row[4]?.stack ? leaves(row[4].stack) : [row]));

/** Layers, and all that they are put together from. @param {any[]} layers @returns {any[]} */
export const every = (layers) => layers.flatMap((l) => [l, ...every(l.stack || []), ...(l.cut ? [l.cut] : [])]);

/** All that has an image of its own. @param {any[]} layers @returns {any[]} */
export const flat = (layers) => every(layers).filter((l) => !l.stack);

/** What tells one frame of a layer from another. @param {any} l @param {string} drawn how looks are
 * drawn @returns {string} */
export function keyOf(l, drawn) {
  const moves = l.part.moves.length || l.part.drift?.length;
  return (
    `${l.id}:${l.n}:${l.card || ""}:${l.place}:${l.share}` +
    (l.title ? `${JSON.stringify(l.title)}${l.letters ? l.k : ""}` : "") +
    (l.part === WHOLE ? "" : `:${moves ? l.k : ""}${JSON.stringify(l.part)}`) +
    (l.look ? `:${drawn}${JSON.stringify(l.look)}` : "") +
    (l.stack ? `[${[...l.stack, l.cut].map((x) => x && keyOf(x, drawn))}]` : "")
  );
}

/** Canvases to put together on, by how deep they lie. @type {OffscreenCanvas[]} */ const canvases = [];
let depth = 0;

/**
 * The image of a layer: its own, or what it is put together from, drawn.
 * @param {any} player @param {Map<any, any>} images of all that has one of its own
 * @param {any} l @param {boolean} plain
 */
export function imageOf(player, images, l, plain) {
  if (!l.stack) return images.get(l);
  const { width, height } = player.canvas,
    c = (canvases[depth] ??= new OffscreenCanvas(width, height));
  if (c.width !== width || c.height !== height) Object.assign(c, { width, height });
  const g = brush(c);
  depth++;
  g.globalAlpha = 1;
  g.fillStyle = "#000";
  g.fillRect(0, 0, width, height);
  for (const x of l.stack)
    player.drawing.layer(imageOf(player, images, x, plain), plain ? { ...x, look: undefined } : x, g);
  g.globalAlpha = 1;
  if (l.cut) {
    const [dx, dy] = drifted(l.cut.part, l.cut.k);
    g.globalCompositeOperation = "destination-in";
    g.drawImage(images.get(l.cut), Math.round(dx * width), Math.round(dy * height));
    g.globalCompositeOperation = "source-over";
  }
  depth--;
  return c;
}
