// What is chosen on the lined page, and the story's in and out: drawn on the page, told to whoever listens.
import { say } from "/static/js/base.js";
import { $, $$, num } from "/static/js/dom.js";

/**
 * @typedef {{kind: "piece"|"cover"|"sound"|"seam", id: number}
 *   | {kind: "pieces", ids: number[]}
 *   | {kind: "words", a: number, b: number}} Chosen
 */

export class Choice {
  /** @type {any} what is chosen (a Chosen), or null */ what = null;
  /** Whether the marks were set after what is chosen was: what came last is what an edit is about. */ marked = false;
  /** In and out in the story, in frames.
   * @type {{a: number|null, b: number|null, [which: string]: number|null}} */
  marks = { a: null, b: null };

  /**
   * @param {() => HTMLElement} sheet the page as it stands
   * @param {import("/static/js/player.js").Player} player
   */
  constructor(sheet, player) {
    this.sheet = sheet;
    this.player = player;
  }

  /** @param {Chosen|null} what */
  choose(what) {
    this.what = what;
    this.marked = false;
    this.mark();
    document.dispatchEvent(new CustomEvent("chosen", { detail: what }));
  }

  /** Nothing chosen, no marks. */
  clear() {
    this.choose(null);
    this.unmark();
  }

  /** Draws what is chosen on a page that is new. */
  mark() {
    const { what } = this,
      page = this.sheet();
    for (const el of $$(".is-chosen, .w.is-on", page)) el.classList.remove("is-chosen", "is-on");
    if (!what) return;
    /** @type {Record<string, string>} */ const where = {
      piece: "[data-piece",
      pieces: "[data-piece",
      cover: ".laid[data-cover",
      sound: "[data-sound",
      seam: ".seam[data-right",
    };
    for (const id of what.ids || (what.id !== undefined ? [what.id] : []))
      $(`${where[what.kind]}="${id}"]`, page)?.classList.add("is-chosen");
    if (what.kind !== "words") return;
    for (const w of $$(".w", page)) {
      const middle = (num(w.dataset.f) + num(w.dataset.e)) / 2; // neighbours may share a frame
      if (what.a <= middle && middle < what.b) w.classList.add("is-on");
    }
  }

  /** The pieces of the story, as the plan has them. */
  pieces() {
    return this.player.plan.pieces.map((/** @type {number[]} */ [id, at, length, source]) => ({
      id,
      at,
      length,
      source,
    }));
  }

  /** The piece that is chosen. */
  piece() {
    return (
      (this.what?.kind === "piece" && this.pieces().find((/** @type {{ id: any; }} */ p) => p.id === this.what.id)) ||
      null
    );
  }

  /** The element of the cover that is chosen. */
  cover() {
    return this.what?.kind === "cover" && $(`.laid[data-cover="${this.what.id}"]`);
  }

  /** The cover or sound that is chosen: where it begins, and its lane. */
  laid() {
    const { what } = this;
    if (what?.kind !== "cover" && what?.kind !== "sound") return null;
    const el = $(what.kind === "cover" ? `.laid[data-cover="${what.id}"]` : `.sound-line[data-sound="${what.id}"]`);
    return el && { id: what.id, at: num(el.dataset.at), lane: num(el.dataset.lane) };
  }

  /**
   * The range an edit is about: the marks or what is chosen, whichever came last; else nothing.
   * @returns {[number, number]|null}
   */
  range() {
    const { what, marks } = this,
      { a, b } = marks;
    /** @type {[number, number]|null} */ const marked = a !== null && b !== null && a < b ? [a, b] : null;
    if (marked && this.marked) return marked;
    if (what?.kind === "words") return [what.a, what.b];
    if (what?.kind === "pieces") {
      const all = this.pieces().filter((/** @type {{ id: any; }} */ x) => what.ids.includes(x.id));
      return all.length ? [all[0].at, all.at(-1).at + all.at(-1).length] : null;
    }
    const p = this.piece();
    if (p) return [p.at, p.at + p.length];
    return marked;
  }

  /** The same, and where a cover, a sound or a seam lies: what is played of it. @returns {[number, number]|null} */
  span() {
    const { what } = this,
      laid = this.laid() && (this.cover() || $(`.sound-line[data-sound="${what.id}"]`)),
      seam = what?.kind === "seam" && this.player.plan.seams.find((/** @type {any[]} */ x) => x[2] === what.id);
    if (laid && !this.marked) return [num(laid.dataset.at), num(laid.dataset.at) + num(laid.dataset.length)];
    return seam && !this.marked ? [seam[0], seam[0]] : this.range();
  }

  /** What it is, to be found again when the page is loaded again. */
  stands() {
    const { what, marks, marked } = this;
    return { what, marks, marked };
  }

  /** As it stood, as far as all of it is there. @param {any} stood what `stands` gave */
  stand({ what, marks, marked }) {
    this.choose(what);
    if (what && what.kind !== "words" && !$(".is-chosen", this.sheet())) this.choose(null);
    const inside = (/** @type {number|null} */ f) => f === null || f <= this.player.plan.length;
    if (!inside(marks.a) || !inside(marks.b)) return;
    Object.assign(this, { marks, marked });
    this.bracket();
  }

  /** Sets in ("a") or out ("b") at the playhead, or takes it away. @param {string} which @param {boolean} clear */
  setMark(which, clear) {
    const m = this.marks;
    m[which] = clear ? null : this.player.frame;
    this.marked = !clear;
    if (m.a !== null && m.b !== null && m.b <= m.a)
      say("Out lies before In. Both stay: set one of them again, or take one away with Shift I or Shift O.", true);
    this.bracket();
  }

  unmark() {
    this.marks = { a: null, b: null };
    this.bracket();
  }

  /** In and out of the story, as a bracket in the margin. */
  bracket() {
    const page = this.sheet(),
      m = this.marks,
      px = num(page.dataset.px);
    $(".mark", page)?.remove();
    const ends = [m.a, m.b].filter((x) => x !== null);
    if (!ends.length) return;
    const el = document.createElement("div"),
      a = Math.min(...ends),
      b = Math.max(...ends);
    el.className = "mark";
    el.style.top = `${a * px}px`;
    el.style.height = `${Math.max(3, (b - a) * px)}px`;
    page.append(el);
  }
}
