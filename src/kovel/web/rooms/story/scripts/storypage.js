// Choosing on the lined page: words swept over, pieces, seams, covers, sounds and headings by a click.
import { inside, num } from "/static/js/dom.js";

/** @param {HTMLElement} scroll
 * @param {{player: import("/static/js/player.js").Player,
 *   choice: import("./storychoice.js").Choice, frameAt: (y: number) => number}} story */
export function choosing(scroll, { player, choice, frameAt }) {
  /** @type {HTMLElement|null} */ let from = null,
    swept = false; // a sweep over words ends in a click that must not choose anything else
  scroll.addEventListener("pointerdown", (e) => {
    swept = false;
    from = inside(e, ".w");
    if (from) e.preventDefault();
  });
  scroll.addEventListener("pointermove", (e) => {
    if (!from || !e.buttons) return;
    const to = /** @type {any} */ (document.elementFromPoint(e.clientX, e.clientY))?.closest(".w");
    if (to && to !== from) swept = true;
    if (!swept || !to) return;
    const a = Math.min(num(from.dataset.f), num(to.dataset.f));
    choice.choose({ kind: "words", a, b: Math.max(num(from.dataset.e), num(to.dataset.e)) });
  });
  document.addEventListener("pointerup", () =>
    setTimeout(() => {
      from = null;
    }),
  );
  scroll.addEventListener("click", (e) => {
    if (swept || inside(e, "[data-lock]")) return;
    const chosen = choice.what,
      w = inside(e, ".w"),
      p = inside(e, ".piece"),
      c = inside(e, ".laid"),
      s = inside(e, ".seam"),
      l = inside(e, ".sound-line"),
      h = inside(e, ".section-head");
    if (c) {
      choice.choose({ kind: "cover", id: num(c.dataset.cover) });
      player.seek(num(c.dataset.at));
    } else if (s) {
      player.seek(num(s.dataset.at));
      choice.choose({ kind: "seam", id: num(s.dataset.right) });
    } else if (l) choice.choose({ kind: "sound", id: num(l.dataset.sound) });
    else if (h) {
      player.seek(num(h.dataset.at));
      choice.choose({ kind: "piece", id: num(h.dataset.heading) });
    } else if (w && from === w) {
      const a = num(w.dataset.f),
        b = num(w.dataset.e),
        on = e.shiftKey && chosen?.kind === "words";
      choice.choose({ kind: "words", a: on ? Math.min(chosen.a, a) : a, b: on ? Math.max(chosen.b, b) : b });
      player.seek(a);
    } else if (!w && p && e.shiftKey && ["piece", "pieces"].includes(chosen?.kind)) {
      // from the piece chosen before to this one
      const rows = choice.pieces(),
        ids = chosen.ids || [chosen.id],
        at = [...ids, num(p.dataset.piece)].map((id) =>
          rows.findIndex((/** @type {{ id: any; }} */ x) => x.id === id),
        );
      choice.choose({
        kind: "pieces",
        ids: rows.slice(Math.min(...at), Math.max(...at) + 1).map((/** @type {{ id: any; }} */ x) => x.id),
      });
    } else if (!w) {
      if (p) choice.choose({ kind: "piece", id: num(p.dataset.piece) });
      player.seek(frameAt(e.clientY));
    }
  });
  return {
    /** Something was dragged: the click that follows chooses nothing. */
    swept: () => {
      swept = true;
    },
  };
}
