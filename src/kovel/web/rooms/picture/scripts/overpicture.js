// What is drawn over the picture and beside it: its safe areas, and how its levels are spread.
import { byId } from "/static/js/dom.js";

/** The safe areas lie over the picture, wherever it stands in its place. @param {HTMLCanvasElement} canvas */
export function safe(canvas) {
  const c = canvas,
    r = c.getBoundingClientRect(),
    o = byId("big").getBoundingClientRect(),
    k = Math.min(r.width / c.width, r.height / c.height),
    el = byId("over");
  el.style.left = `${r.left - o.left + (r.width - c.width * k) / 2}px`;
  el.style.top = `${r.top - o.top + (r.height - c.height * k) / 2}px`;
  el.style.width = `${c.width * k}px`;
  el.style.height = `${c.height * k}px`;
}

/** @param {{base: string, player: import("/static/js/player.js").Player, chosen: Set<number>, head: () => void}} room
 * @returns {() => Promise<void>} shows the levels of the picture at the playhead */
export function levels({ base, player, chosen, head }) {
  let levelled = 0;
  async function showLevels() {
    const el = byId("levels"),
      one = [...chosen][0];
    if (!el || player.playing) return;
    const mine = ++levelled,
      r = await fetch(`${base}/levels?at=${player.frame}&item=${one}`);
    const html = await r.text();
    if (r.ok && mine === levelled && byId("levels")) byId("levels").innerHTML = html;
  }
  let later = 0;
  player.addEventListener("time", () => {
    head();
    if (player.playing) return;
    clearTimeout(later);
    later = setTimeout(showLevels, 150);
  });
  return showLevels;
}
