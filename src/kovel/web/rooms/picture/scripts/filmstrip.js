// The strip of the story's frames below the picture: drawn by the server, chosen on and scrolled here.
import { $, $$, byId, num } from "/static/js/dom.js";

/** @param {{base: string, place: HTMLElement, zoom: HTMLInputElement, player: import("/static/js/player.js").Player,
 *   chosen: Set<number>}} room `chosen`: ids of what is chosen */
export function filmStrip({ base, place, zoom, player, chosen }) {
  const film = () => byId("film-in"),
    shots = () => $$(".film-shot", place),
    shot = (/** @type {number} */ id) => $(`.film-shot[data-id="${id}"]`, place),
    about = (/** @type {HTMLElement} */ el) => ({
      id: num(el.dataset.id),
      kind: el.dataset.kind === "piece" ? "piece" : "cover", // a title is laid like one
      at: num(el.dataset.at),
      length: num(el.dataset.length),
      lane: /** @type {HTMLElement} */ (el.closest(".film-row")).dataset.lane,
    });
  const px = () => num(film()?.dataset.px) || 1;
  function scale() {
    const length = Math.max(1, player.plan.length),
      least = Math.min(8, (place.clientWidth - 4) / length);
    return least * (8 / least) ** (num(zoom.value) / 100);
  }
  async function draw() {
    const r = await fetch(`${base}/film?px=${scale().toFixed(5)}`);
    if (!r.ok) return;
    const html = await r.text(),
      mid = (place.scrollLeft + place.clientWidth / 2) / px();
    const near = film() ? mid : player.frame;
    place.innerHTML = html;
    place.scrollLeft = near * px() - place.clientWidth / 2;
    for (const id of [...chosen]) if (!shot(id)) chosen.delete(id);
    mark();
    head();
    for (const what of ["undo", "redo"]) $(`[data-do=${what}]`).disabled = film().dataset[what] !== "1";
  }
  function mark() {
    for (const el of shots()) el.setAttribute("aria-pressed", String(chosen.has(num(el.dataset.id))));
    const one = shot([...chosen][0]);
    byId("chosen-said").textContent =
      chosen.size === 1 && one ? one.dataset.tells : chosen.size ? `${chosen.size} clips selected` : "";
  }
  function head() {
    const el = byId("film-head");
    if (!el) return;
    const x = player.frame * px();
    el.style.left = `${x}px`;
    if (player.playing && (x < place.scrollLeft || x > place.scrollLeft + place.clientWidth - 20))
      place.scrollLeft = x - place.clientWidth / 8;
  }
  return { chosen, film, shots, shot, about, px, draw, mark, head };
}
