// What is chosen on the lined page, and the story's in and out: drawn on the page, told to whoever listens.
import { say } from "/static/js/base.js";
import { $, $$, num } from "/static/js/dom.js";

/**
 * @typedef {{kind: "piece"|"cover"|"sound"|"seam", id: number}
 *   | {kind: "several", ids: number[]}
 *   | {kind: "words", a: number, b: number}} Chosen
 * @typedef {{id: number, kind: "piece"|"cover"|"sound", at: number, length: number}} Clip
 */

/** @type {Record<string, string>} */ const DRAWN = {
  piece: ".piece[data-piece",
  cover: ".laid[data-cover",
  sound: ".sound-line[data-sound",
  seam: ".seam[data-right",
};

export class Choice {
  /** @type {any} what is chosen (a Chosen), or null */ what = null;
  /** All clips, and the plan that they were listed from. @type {{of: any, clips: Clip[]}} */
  listed = { of: null, clips: [] };
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
    const drawn = what.kind === "seam" ? [what] : this.clips();
    for (const { kind, id } of drawn) $(`${DRAWN[kind]}="${id}"]`, page)?.classList.add("is-chosen");
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

  /** All clips of the story that are in place: pieces, covers and titles, sounds. @returns {Clip[]} */
  every() {
    const { plan } = this.player;
    if (this.listed.of === plan) return this.listed.clips;
    const laid = (/** @type {"cover"|"sound"} */ kind, /** @type {number[][]} */ rows) =>
      (rows || []).map(([id, a, b]) => ({ id, kind, at: a, length: b - a }));
    const clips = [
      ...this.pieces().map((/** @type {any} */ p) => ({ ...p, kind: "piece" })),
      ...laid("cover", plan.covers),
      ...laid("sound", plan.laid),
    ];
    this.listed = { of: plan, clips };
    return clips;
  }

  /** The clips that are chosen, in the order of the story; none where words or a seam are. @returns {Clip[]} */
  clips() {
    const { what } = this;
    if (what?.kind === "several") {
      const ids = new Set(what.ids);
      return this.every().filter((clip) => ids.has(clip.id));
    }
    if (!what || what.id === undefined || what.kind === "seam") return [];
    return this.every().filter((clip) => clip.id === what.id && clip.kind === what.kind);
  }

  /** Chooses these clips, and no others. @param {number[]} ids */
  chooseClips(ids) {
    const wanted = new Set(ids),
      clips = this.every().filter((clip) => wanted.has(clip.id));
    if (clips.length > 1) this.choose({ kind: "several", ids: clips.map((clip) => clip.id) });
    else this.choose(clips.length ? { kind: clips[0].kind, id: clips[0].id } : null);
  }

  /** Adds a clip to those that are chosen, or takes it away from them. @param {number} id */
  toggle(id) {
    const ids = this.clips().map((clip) => clip.id);
    this.chooseClips(ids.includes(id) ? ids.filter((other) => other !== id) : [...ids, id]);
  }

  /** From those that are chosen to this one: all of its kind that lie between. @param {number} id */
  extend(id) {
    const to = this.every().find((clip) => clip.id === id),
      chosen = this.clips(),
      same = [...chosen.filter((clip) => clip.kind === to?.kind), ...(to ? [to] : [])],
      from = Math.min(...same.map((clip) => clip.at)),
      until = Math.max(...same.map((clip) => clip.at)),
      between = this.every().filter((clip) => clip.kind === to?.kind && clip.at >= from && clip.at <= until);
    this.chooseClips([...chosen, ...between].map((clip) => clip.id));
  }

  /** Of these that are chosen, where they are several. @param {string} [kind] @returns {number[]|null} */
  several(kind) {
    const clips = this.clips().filter((clip) => !kind || clip.kind === kind);
    return this.what?.kind === "several" && clips.length > 1 ? clips.map((clip) => clip.id) : null;
  }

  /** The piece that is chosen; of several that are, the first. */
  piece() {
    const first = this.clips().find((clip) => clip.kind === "piece");
    return (first && this.pieces().find((/** @type {{ id: any; }} */ p) => p.id === first.id)) || null;
  }

  /** The cover or sound that is chosen, of several the first: where it begins, and its lane. */
  laid() {
    const clip = this.clips().find((other) => other.kind !== "piece"),
      el = clip && $(`${DRAWN[clip.kind]}="${clip.id}"]`);
    return clip ? { ...clip, lane: num(el?.dataset.lane) || 0 } : null;
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
    const clips = this.clips(),
      rows = clips.filter(
        (clip, i) => clip.kind === "piece" && (!i || clips[i - 1].at + clips[i - 1].length === clip.at),
      );
    // pieces in a row; what stands between others is not chosen
    if (clips.length && rows.length === clips.length) return this.hull();
    return marked;
  }

  /** From the first frame of what is chosen to its last. @returns {[number, number]|null} */
  hull() {
    const clips = this.clips();
    if (!clips.length) return null;
    return [Math.min(...clips.map((clip) => clip.at)), Math.max(...clips.map((clip) => clip.at + clip.length))];
  }

  /** What is played of what is chosen: from first to last, and a seam is a moment. @returns {[number, number]|null} */
  span() {
    const { what } = this,
      seam = what?.kind === "seam" && this.player.plan.seams.find((/** @type {any[]} */ x) => x[2] === what.id);
    if (this.marked) return this.range();
    return seam ? [seam[0], seam[0]] : (this.hull() ?? this.range());
  }

  /** What it is, to be found again when the page is loaded again. */
  stands() {
    const { what, marks, marked } = this;
    return { what, marks, marked };
  }

  /** As it stood, as far as all of it is there. @param {any} stood what `stands` gave */
  stand({ what, marks, marked }) {
    this.choose(what);
    if (what && what.kind !== "words" && what.kind !== "seam") this.chooseClips(this.clips().map((clip) => clip.id));
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
    document.dispatchEvent(new Event("marked"));
  }

  unmark() {
    this.marks = { a: null, b: null };
    this.marked = false;
    this.bracket();
    document.dispatchEvent(new Event("marked"));
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
