// From thing to thing on the strip by key, and the marks at its in and out.
import { say } from "/static/js/base.js";

/** @param {{strip: import("./strip.js").Strip, player: import("/static/js/player.js").Player, first: () => any,
 *   choose: (id: number) => any, seek: (frame: number) => void}} room */
export function walking({ strip, player, first, choose, seek }) {
  const here = (/** @type {(arg0: any) => any} */ test) =>
    strip.data.blocks.filter(
      (/** @type {Block} */ b) => test(b) && b.at <= player.frame && player.frame < b.at + b.length,
    );
  /** @param {any} test */
  function next(test) {
    const rows = here(test);
    if (!rows.length) return say("Nothing of that lies at the playhead.", true);
    const i = rows.findIndex((/** @type {Block} */ b) => strip.chosen.has(b.id));
    return choose(rows[(i + 1) % rows.length].id);
  }
  /** @param {number} by */
  function along(by) {
    const b = first(),
      lane = b ? b.lane : "dialogue",
      rows = strip.data.blocks.filter((/** @type {{ lane: any; }} */ x) => x.lane === lane),
      i = b ? rows.findIndex((/** @type {{ id: any; }} */ x) => x.id === b.id) : by > 0 ? -1 : rows.length;
    const to = rows[i + by];
    if (!to) return say(`There is nothing ${by > 0 ? "after" : "before"} it in its lane.`);
    seek(to.at);
    return choose(to.id);
  }
  const seams = () => [0, ...strip.data.seams, strip.data.length];
  /** @param {string} which @param {any} clear */
  function mark(which, clear) {
    strip.marks[which] = clear ? null : player.frame;
    const { a, b } = strip.marks;
    if (a !== null && b !== null && b <= a) strip.marks[which === "a" ? "b" : "a"] = null;
    strip.draw();
  }
  return { next, along, seams, mark };
}
