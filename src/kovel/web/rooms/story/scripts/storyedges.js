// Seams and edges dragged on the page: a seam rolls, an edge trims. What would be seen and said there is shown, and the
// edit goes to the server when it is let go.
import { $, $$, inside, num } from "/static/js/dom.js";
import { EdgeView, reach } from "/static/js/edgeview.js";

const FAR = 3; // pixels until it is a drag and no click

/**
 * @param {HTMLElement} scroll
 * @param {{sheet: () => HTMLElement, px: () => number, project: string,
 *   player: import("/static/js/player.js").Player, choice: import("./storychoice.js").Choice,
 *   snapped: (frame: number, free: boolean, own: number[]) => number, landing: (at: number|null) => void,
 *   edit: (command: string, params: object) => any, swept: () => void}} story
 */
export function edgeDragging(scroll, { sheet, px, project, player, choice, snapped, landing, edit, swept }) {
  const view = new EdgeView({ player, project });
  /** What is dragged. @type {any} */ let drag = null;

  /** @param {number|undefined} id */
  const drawn = (id) => (id === undefined ? null : $(`.piece[data-piece="${id}"]`, sheet()));
  /** What a piece shows at its edges, where that can be said. @param {HTMLElement|null} el */
  const side = (el) =>
    el && $(".edge[data-shown]", el)
      ? { source: num(el.dataset.source), start: num(el.dataset.start), length: num(el.dataset.length) }
      : null;
  /** Frames that its recording has beyond an edge. @param {HTMLElement|null} el @param {string} edge */
  function handle(el, edge) {
    const at = el && /** @type {HTMLElement|null} */ ($(`.edge[data-edge="${edge}"]`, el)),
      frames = at?.dataset.handle;
    return frames === undefined || frames === "None" ? Infinity : num(frames);
  }

  /** @param {HTMLElement|null} el @param {{length: number}|undefined} piece */
  const reaching = (el, piece) =>
    piece ? { length: piece.length, before: handle(el, "in"), after: handle(el, "out") } : null;

  /** @param {HTMLElement} el */
  function taken(el) {
    const rows = choice.pieces(),
      id = num(el.dataset.right ?? /** @type {any} */ (el.closest(".piece"))?.dataset.piece),
      index = rows.findIndex((/** @type {{ id: number; }} */ piece) => piece.id === id),
      rolls = el.matches(".seam"),
      edge = rolls ? "roll" : String(el.dataset.edge),
      at = rows[index].at + (edge === "out" ? rows[index].length : 0),
      before = edge === "out" ? rows[index] : rows[index - 1],
      after = edge === "out" ? rows[index + 1] : rows[index],
      left = drawn(before?.id),
      right = drawn(after?.id);
    const [least, most] = reach(edge, reaching(left, before), reaching(right, after));
    return { el, id, edge, at, left: side(left), right: side(right), least, most, delta: 0, moved: false };
  }

  /** The story frame at a pointer, before the story's beginning and beyond its end as well. @param {PointerEvent} e */
  const raw = (e) => (e.clientY - sheet().getBoundingClientRect().top) / px();

  scroll.addEventListener("pointerdown", (e) => {
    const el = inside(e, ".edge") ?? inside(e, ".seam");
    if (!el || e.button || sheet().classList.contains("crowded")) return;
    e.preventDefault();
    drag = { ...taken(el), y: e.clientY };
    drag.hold = raw(e) - drag.at; // it is taken hold of beside its line
    el.setPointerCapture(e.pointerId);
  });
  scroll.addEventListener("pointermove", (e) => {
    if (!drag || (!drag.moved && Math.abs(e.clientY - drag.y) < FAR)) return;
    if (!drag.moved) {
      drag.moved = true;
      drag.el.classList.add("is-held");
      player.stop();
    }
    const to = snapped(Math.round(raw(e) - drag.hold), e.altKey, [drag.at]);
    drag.delta = Math.max(drag.least, Math.min(drag.most, to - drag.at));
    show();
  });
  function show() {
    const { edge, at, delta, left, right } = drag,
      out = left && { ...left, length: left.length + (edge === "in" ? 0 : delta) },
      next = right && { ...right, start: right.start + (edge === "out" ? 0 : delta) },
      what = { roll: "Seam", in: "In point", out: "Out point" }[/** @type {"roll"|"in"|"out"} */ (edge)];
    landing(at + delta);
    view.show(out, next, what, delta, delta === drag.least || delta === drag.most);
    words(at, at + delta);
  }
  /** The words between where an edge was and where it would be. @param {number} from @param {number} to */
  function words(from, to) {
    const [low, high] = [Math.min(from, to), Math.max(from, to)],
      goes = drag.edge === "roll" ? "is-changing" : "is-going";
    for (const el of $$(".w", sheet())) {
      const middle = (num(el.dataset.f) + num(el.dataset.e)) / 2;
      el.classList.toggle(goes, low <= middle && middle < high);
    }
  }
  function away() {
    drag?.el.classList.remove("is-held");
    for (const el of $$(".is-going, .is-changing", sheet())) el.classList.remove("is-going", "is-changing");
    landing(null);
    view.away();
    drag = null;
  }
  scroll.addEventListener("pointerup", () => {
    if (!drag) return;
    const { id, edge, delta, moved } = drag;
    away();
    if (!moved) return;
    swept();
    if (!delta) return;
    if (edge === "roll") edit("roll", { piece: id, delta });
    else edit("trim", { piece: id, edge, delta });
  });
  scroll.addEventListener("pointercancel", () => {
    if (drag) away();
  });
  addEventListener(
    "keydown",
    (e) => {
      if (e.key !== "Escape" || !drag) return;
      e.stopPropagation();
      swept();
      away();
    },
    true,
  );
  return { under: () => drag !== null };
}
