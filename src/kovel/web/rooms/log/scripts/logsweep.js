// A click on a word goes there; words swept over set in and out at the speech's edges, with a little air.
import { inside } from "/static/js/dom.js";

/** @param {{words: {el: HTMLElement, a: number, b: number}[], find: (frame: number) => number, total: number,
 *   fps: number, player: import("/static/js/player.js").Player,
 *   set: (marks: {in: number, out: number}) => void}} log */
export function sweeping({ words, find, total, fps, player, set }) {
  const AIR = Math.round(fps * 0.08);
  /** @type {HTMLElement|null} */ let from = null;
  document.addEventListener("pointerdown", (e) => {
    from = inside(e, "#words .w");
    if (from) e.preventDefault();
  });
  document.addEventListener("pointermove", (e) => {
    if (!from || !e.buttons) return;
    /** @type {HTMLElement|null|undefined} */
    const to = document.elementFromPoint(e.clientX, e.clientY)?.closest?.("#words .w");
    if (!to || to === from) return;
    const index = (/** @type {HTMLElement} */ el) => {
      let i = find(Number(el.dataset.a)) - 1;
      while (i > 0 && words[i].el !== el) i--;
      return i;
    };
    const [x, y] = [index(from), index(to)].sort((p, q) => p - q);
    set({
      in: Math.max(words[x - 1]?.b ?? 0, words[x].a - AIR, 0),
      out: Math.min(words[y + 1]?.a ?? total, words[y].b + AIR, total),
    });
  });
  document.addEventListener("click", (e) => {
    const w = inside(e, "#words .w");
    if (w && w === from) player.seek(Number(w.dataset.a));
  });
  document.addEventListener("pointerup", () =>
    setTimeout(() => {
      from = null;
    }),
  );
}
