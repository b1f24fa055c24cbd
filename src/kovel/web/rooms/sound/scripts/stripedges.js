// Pieces taken by their edges on the strip: an edge trims, a seam rolls; what is seen and said there is shown.
import { EdgeView, reach } from "/static/js/edgeview.js";

const SEAM = 3; // pixels to either side of a seam
const EDGE = 9;
const LEAST = 14; // pixels that a piece is wide at least, to be taken by an edge

/** @typedef {import("./stripblocks.js").Block} Block */

/** @param {import("./strip.js").Strip} strip @param {any} room edit, player, project, tell */
export function pieceEdges(strip, room) {
  const view = new EdgeView(room);
  const pieces = () => strip.data.blocks.filter((/** @type {Block} */ b) => b.kind === "piece"),
    beside = (/** @type {Block} */ b, /** @type {number} */ by) => pieces()[pieces().indexOf(b) + by];

  /**
   * What a pointer there would take hold of. @param {Block} b @param {Box} box @param {number} x
   * @returns {{what: string, b: Block}|null} of a seam the piece after it
   */
  function hold(b, box, x) {
    if (box.w < LEAST) return null;
    const left = x - box.x,
      right = box.x + box.w - x,
      edge = Math.min(EDGE, box.w / 4);
    if (left < SEAM && beside(b, -1)) return { what: "roll", b };
    if (right < SEAM && beside(b, 1)) return { what: "roll", b: beside(b, 1) };
    if (left < edge) return { what: "in", b };
    return right < edge ? { what: "out", b } : null;
  }

  const shown = (/** @type {Block|undefined} */ b) => (b && b.source && b.run === 1 ? b : null),
    reaching = (/** @type {Block|undefined} */ b) =>
      b ? { length: b.length, before: b.before ?? Infinity, after: b.after ?? Infinity } : null;

  /**
   * An edge moved by `by` frames, as far as it can be: drawn, and how far it is. @param {string} what
   * @param {Block} b @param {number} by
   */
  function draft(what, b, by) {
    const before = what === "out" ? b : beside(b, -1),
      after = what === "out" ? beside(b, 1) : b,
      [least, most] = reach(what, reaching(before), reaching(after)),
      delta = Math.max(least, Math.min(most, by));
    if (what !== "in") strip.drafts.set(before.id, { length: before.length + delta });
    if (what !== "out")
      strip.drafts.set(after.id, {
        at: after.at + delta,
        start: after.start + delta * after.run,
        length: after.length - delta,
      });
    const out = shown(before),
      next = shown(after),
      name = { roll: "Seam", in: "In point", out: "Out point" }[/** @type {"roll"|"in"|"out"} */ (what)];
    view.show(
      out && { source: Number(out.source), start: out.start, length: out.length + (what === "in" ? 0 : delta) },
      next && { source: Number(next.source), start: next.start + (what === "out" ? 0 : delta), length: next.length },
      name,
      delta,
      delta === least || delta === most,
    );
    return delta;
  }

  /** @param {string} what @param {Block} b @param {number} delta */
  function done(what, b, delta) {
    view.away();
    if (!delta) {
      strip.drafts.clear();
      strip.draw();
    } else if (what === "roll") room.edit("roll", { piece: b.id, delta });
    else room.edit("trim", { piece: b.id, edge: what, delta });
  }
  return { hold, draft, done, away: () => view.away() };
}
