// What is played of a range in the Log: all of it, around it, over and over, or a second around the edge last moved.
import { byId } from "/static/js/dom.js";
import { say } from "/static/js/base.js";
import { playsSelection } from "/static/js/around.js";

/** @param {{player: import("/static/js/player.js").Player, total: number, isRange: () => boolean,
 *   marks: () => {in: number|null, out: number|null, [which: string]: number|null}, moved: () => string}} log */
export function playing({ player, total, marks, isRange, moved }) {
  /** @param {number} from @param {number} until */
  function play(from, until) {
    player.stop();
    player.seek(Math.max(0, from));
    void player.play(1, Math.min(total, until));
  }
  function around() {
    const edge = marks()[moved()] ?? marks().in ?? marks().out ?? player.frame,
      second = Math.round(player.fps);
    play(edge - second, edge + second);
  }
  function play_range() {
    const { in: from, out: until } = marks();
    if (from === null || until === null) return void say("Set an in and an out point first.", true);
    if (!isRange()) return void say("The out point is before the in point. Move one of them first.", true);
    return play(from, until);
  }
  byId("around").addEventListener("click", around);
  byId("play-range").addEventListener("click", play_range);
  playsSelection(player, () => (isRange() ? [Number(marks().in), Number(marks().out)] : null));
  return { around, play_range };
}
