// The selection played: with a second around it, or over and over.
import { say } from "./base.js";
import { inside } from "./dom.js";
import { onKeys } from "./keys.js";

/**
 * @param {import("./player.js").Player} player
 * @param {() => [number, number]|null} range what is selected, in frames: a moment has no length
 */
export function playsSelection(player, range) {
  /** @param {boolean} looped */
  function play(looped) {
    const selected = range(),
      second = Math.round(player.fps);
    if (!selected)
      return say("Nothing is selected. Select a clip or words, or mark in and out, then try again.", true);
    const wide = !looped || selected[0] === selected[1] ? second : 0,
      from = Math.max(0, selected[0] - wide),
      until = Math.min(player.plan.length, selected[1] + wide);
    player.stop();
    player.seek(from);
    return player.play(1, until, looped ? from : null);
  }
  onKeys({
    play_around: (e) => (inside(e, "button, summary, a, [role=button]") ? false : play(false)),
    play_looped: () => play(true),
  });
}
