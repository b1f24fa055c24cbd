// Along the seams of the story: the next one, the one that is meant, heard in a loop, rolled.
import { say } from "/static/js/base.js";

/** @param {{player: import("/static/js/player.js").Player, choice: import("./storychoice.js").Choice,
 *   edits: import("/static/js/edits.js").Edits}} story */
export function seamsOf({ player, choice, edits }) {
  /** @param {any} f */
  function seamAt(f) {
    const s = player.plan.seams.find((/** @type {any[]} */ x) => x[0] === f);
    if (s) choice.choose({ kind: "seam", id: s[2] });
  }
  /** @param {number} by @param {string} [kind] */
  function seamStep(by, kind) {
    const rows = player.plan.seams.filter((/** @type {any[]} */ x) => !kind || x[1] === kind),
      to =
        by > 0
          ? rows.find((/** @type {number[]} */ x) => x[0] > player.frame)
          : rows.findLast((/** @type {number[]} */ x) => x[0] < player.frame);
    if (!to) return say(`There is no ${kind ? "exposed jump" : "seam"} ${by > 0 ? "after" : "before"} this.`);
    player.stop();
    player.seek(to[0]);
    return choice.choose({ kind: "seam", id: to[2] });
  }
  // The seam that is chosen, else the one nearest to the playhead.
  function theSeam() {
    const { seams } = player.plan,
      chosen = choice.what?.kind === "seam" && seams.find((/** @type {any[]} */ x) => x[2] === choice.what.id),
      far = (/** @type {number[]} */ x) => Math.abs(x[0] - player.frame);
    return (
      chosen || seams.reduce((/** @type {any} */ a, /** @type {any} */ x) => (!a || far(x) < far(a) ? x : a), null)
    );
  }
  async function loopSeam() {
    const s = theSeam();
    if (!s) return say("There is no seam in the story yet.", true);
    const beside = Math.round(player.fps);
    const from = Math.max(0, s[0] - beside);
    player.stop();
    player.seek(from);
    return player.play(1, Math.min(player.plan.length, s[0] + beside), from);
  }
  /** @param {any} by */
  function rollSeam(by) {
    const s = theSeam();
    if (!s) return say("There is no seam in the story yet.", true);
    choice.choose({ kind: "seam", id: s[2] });
    return edits.press("Alt → ←", by);
  }
  return { seamAt, seamStep, theSeam, loopSeam, rollSeam };
}
