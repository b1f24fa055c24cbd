// The plan as the server writes it (core/plan), and what it says is seen at a story frame. Nothing is decided here.
import { EVERYWHERE, WHOLE } from "./framing.js";

/**
 * What a layer has besides its image; left out where it has none of it.
 * @typedef {object} LayerMore
 * @property {[first: number, step: number, of: number]} [opacity] at frame k of its run (first + k * step) / of
 * @property {[colour: string, text: string]} [card]
 * @property {any} [part] of the image
 * @property {[left: number, top: number, width: number, height: number]} [place] in the picture, in shares of it
 * @property {any} [look]
 * @property {any} [title]
 * @property {[first: number, step: number, of: number]} [letters] how many letters of the title are written
 * @property {PlanLayer[]} [stack] what it is put together from
 * @property {PlanLayer} [cut] the title that only what it covers is seen of
 */
/** At frame k of its run a layer shows frame floor((base + k * num) / den) of recording `id`; null: black or a card.
 * @typedef {[id: number|null, base: number, num: number, den: number, more?: LayerMore]} PlanLayer */
/** Story frames [at, end) that show the same layers, bottom first.
 * @typedef {[at: number, end: number, stack: PlanLayer[]]} PlanRun */
/** A layer as it is drawn at one frame.
 * @typedef {{id: number|null, n: number, k: number, card?: any, share: number, part: any, place: any, look?: any,
 *   title?: any, letters?: any, stack?: SeenLayer[], cut?: SeenLayer}} SeenLayer */

/** What is seen and heard, as core/plan/plan.py writes it, with what the room adds.
 * @typedef {object} Plan
 * @property {[num: number, den: number]} rate frames a second
 * @property {number} length in frames
 * @property {number} samples its length in samples
 * @property {PlanRun[]} pictures
 * @property {any[]} sounds
 * @property {[sample: number, db: number][]} dips of the whole
 * @property {any} [pieces] @property {any} [covers] @property {any} [laid]
 * @property {[id: number, at: number, name: string, shape: string][]} [markers]
 * @property {any} [seams] @property {any} [size]
 * @property {number} ramp of an edge of sound, in samples @property {any} [beats]
 * @property {any} [project] @property {any} [frames]
 */

const OPAQUE = [1, 0, 1];

/** What the plan says of a layer besides its image, at frame k.
 * @param {LayerMore|undefined} more @param {number} k of its run */
export const layerOf = (more, k) => {
  const [first, step, of] = more?.opacity || OPAQUE;
  return {
    k,
    card: more?.card,
    share: Math.min(1, Math.max(0, (first + k * step) / of)),
    part: more?.part ? { ...WHOLE, ...more.part } : WHOLE,
    place: more?.place || EVERYWHERE,
    look: more?.look,
    title: more?.title,
    letters: more?.letters,
  };
};

/** Index of the picture run under a frame. @param {{pictures: PlanRun[]}} plan @param {number} t */
export function runAt(plan, t) {
  let lo = 0,
    hi = plan.pictures.length - 1;
  while (lo < hi) {
    const m = (lo + hi) >> 1;
    if (plan.pictures[m][1] > t) hi = m;
    else lo = m + 1;
  }
  return lo;
}

/**
 * @param {PlanLayer} row @param {number} k frame of its run @param {boolean} plainly without looks
 * @returns {SeenLayer}
 */
function read([id, base, num, den, more], k, plainly) {
  return {
    ...layerOf(plainly && more ? { ...more, look: undefined } : more, k),
    id,
    n: id === null ? 0 : Math.floor((base + k * num) / den),
    stack: more?.stack?.map((row) => read(row, k, plainly)),
    cut: more?.cut && read(more.cut, k, plainly),
  };
}

/** What is drawn at a story frame, bottom first. @param {Plan|null} plan @param {number} t @param {boolean} plainly */
export function layersAt(plan, t, plainly) {
  if (!plan?.pictures.length) return [];
  const frame = Math.max(0, Math.min(t, plan.length - 1)),
    [at, , stack] = plan.pictures[runAt(plan, frame)];
  return stack.map((/** @type {PlanLayer} */ row) => read(row, frame - at, plainly));
}
