// Choosing on the lined page: words swept over, pieces, seams, covers, sounds and headings by a click.
import { $$, inside, num } from "/static/js/dom.js";
import { frameSelect, touches } from "/static/js/frameselect.js";

const CLIPS = ".piece, .laid, .sound-line";
const WORDS_END = 452; // pixels: right of the words a piece is not touched, for its covers lie there

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
      several = e.ctrlKey || e.metaKey || (e.shiftKey && choice.clips().length > 0),
      w = inside(e, ".w"),
      p = inside(e, ".piece"),
      c = inside(e, ".laid"),
      s = inside(e, ".seam"),
      l = inside(e, ".sound-line"),
      h = inside(e, ".section-head"),
      m = inside(e, ".story-marker");
    if (m) {
      player.seek(num(m.dataset.goto));
      return;
    }
    const clip = c?.dataset.cover ?? l?.dataset.sound ?? (h ? undefined : p?.dataset.piece);
    if (several && clip !== undefined && !s) {
      if (e.shiftKey) choice.extend(num(clip));
      else choice.toggle(num(clip));
    } else if (c) {
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
    } else if (!w) {
      if (p) choice.choose({ kind: "piece", id: num(p.dataset.piece) });
      player.seek(frameAt(e.clientY));
    }
  });
  frameSelect(scroll, {
    begins: (e) =>
      !inside(e, ".w, .grip, .laid, .sound-line, .seam, .section-head, .story-marker, .edge, [data-lock]"),
    clips: (rect) =>
      $$(CLIPS, scroll).map((el) => {
        const { left, top, right, bottom } = el.getBoundingClientRect(),
          end = el.matches(".piece") ? left + WORDS_END : right;
        return [
          num(el.dataset.cover ?? el.dataset.sound ?? el.dataset.piece),
          touches(rect, { left, top, right: end, bottom }),
        ];
      }),
    select: (ids, more) => {
      if (more) ids.push(...choice.clips().map((clip) => clip.id));
      choice.chooseClips(ids);
    },
  });
  return {
    /** Something was dragged: the click that follows chooses nothing. */
    swept: () => {
      swept = true;
    },
  };
}
