// Draws the strip on a canvas: frames, lanes with waveforms, words, levels, ducking, ties, loudness. Places come from
// the server in story frames; here they only become pixels.
import { byId, brush } from "/static/js/dom.js";
import { fetched } from "/static/js/fetching.js";
import { FRAMES, Film, RULER } from "./stripfilm.js";
import { Said, WORDS } from "./stripwords.js";
import { Blocks } from "./stripblocks.js";
import { nameLanes } from "./stripheads.js";
import { loudnessCurve } from "./striplines.js";

const THIN = 17,
  GRAPH = 56;
export class Strip {
  /** @type {any} what the server told */ data = null;
  words = new Said(this);
  film = new Film(this);
  /** @type {any} */ loud = null;
  /** @type {Set<number>} ids that are chosen */ chosen = new Set();
  /** Chosen moment of a line: [id, frame], or null. @type {any[]|null} */
  moment = null;
  /** What is dragged, as it would be. @type {Map<number, Partial<import("./stripblocks.js").Block>>} */ drafts =
    new Map();
  frame = 0;
  /** @type {{a: number|null, b: number|null, [which: string]: number|null}} */ marks = { a: null, b: null };
  px = 1; // pixels a frame
  whole = true; // the whole film is seen at once, however long it becomes
  /** How tall the editor wants a lane to be, against the others. @type {Record<string, number>} */
  wants = JSON.parse(localStorage.getItem("kovel-lanes") || "{}");
  /** Where each lane lies, and how tall it is. @type {Record<string, any>} */ tall = {};
  due = false;
  stale = true; // what stands has to be drawn anew
  /** Milliseconds the last drawing took. */ took = 0;

  /** @param {string} base */
  constructor(base) {
    this.base = base;
    /** Where the loudness is drawn. */ this.graph = 0;
    this.scroll = byId("strip-scroll");
    this.canvas = byId("strip-canvas");
    this.wide = byId("strip-wide");
    this.heads = byId("strip-heads");
    this.top = brush(this.canvas);
    this.still = document.createElement("canvas");
    this.g = brush(this.still);
    this.blocks = new Blocks(this);
    this.scroll.addEventListener("scroll", () => this.draw(), { passive: true });
    new ResizeObserver(() => this.fit()).observe(this.scroll);
    document.addEventListener("look", () => this.draw());
  }

  get fps() {
    return this.data.rate[0] / this.data.rate[1];
  }
  get left() {
    return this.scroll.scrollLeft;
  }
  /** @param {number} frame */
  x(frame) {
    return frame * this.px - this.left;
  }
  /** @param {number} x */
  frameAt(x) {
    return (x + this.left) / this.px;
  }

  /** New facts from the server; words and frames of another revision are asked for anew. */
  async learn() {
    const answer = await fetched(`${this.base}/strip`, { headers: { Accept: "application/json" } });
    if (!answer.ok) return;
    this.data = await answer.json();
    this.words.stretches.clear();
    this.film.faces.clear();
    this.drafts.clear();
    byId("strip-empty").hidden = this.data.length > 0;
    this.fit();
    const loud = await fetch(`${this.base}/loudness`, { headers: { Accept: "application/json" } });
    if (loud.ok) this.loud = await loud.json();
    this.draw();
  }

  /**
   * Pixels a frame at a place of the slider, 0 (the whole film) to 100 (a second to the screen).
   * @param {number} value
   */
  near(value) {
    const w = Math.max(200, this.scroll.clientWidth),
      least = w / Math.max(1, this.data?.length || 1),
      most = Math.max(least, w / (this.data ? this.fps : 25));
    return least * (most / least) ** (value / 100);
  }

  /** Nearer or farther, the playhead (or what is under the pointer) staying where it is. @param {number} value */
  zoom(value, at = this.frame) {
    const was = this.x(at);
    this.whole = value <= 0;
    this.px = this.near(value);
    this.fit();
    this.scroll.scrollLeft = at * this.px - Math.max(0, Math.min(was, this.scroll.clientWidth));
    this.draw();
  }

  fit() {
    if (!this.data) return;
    const w = this.scroll.clientWidth,
      h = this.scroll.clientHeight,
      k = devicePixelRatio || 1;
    const least = w / Math.max(1, this.data.length);
    this.px = this.whole ? least : Math.max(this.px, least);
    this.wide.style.width = `${Math.ceil(this.data.length * this.px)}px`;
    this.still.width = this.canvas.width = w * k;
    this.still.height = this.canvas.height = h * k;
    this.canvas.style.width = `${w}px`;
    this.canvas.style.height = `${h}px`;
    this.lay(h);
    this.draw();
  }

  /** How tall each lane is, and where it begins. @param {number} h */
  lay(h) {
    const lanes = this.data.lanes,
      full = lanes.filter((/** @type {{ rows: any; name: string; }} */ l) => l.rows || l.name === "dialogue"),
      weight = (/** @type {{ name: string; }} */ l) => (this.wants[l.name] || 1) * (l.name === "dialogue" ? 1.5 : 1),
      rows = full.reduce(
        (/** @type {number} */ n, /** @type {{ rows: number; name: string; }} */ l) =>
          n + Math.max(1, l.rows) * weight(l),
        0,
      ),
      rest = h - RULER - FRAMES - GRAPH - WORDS - (lanes.length - full.length) * THIN;
    const each = Math.max(34, rest / Math.max(1, rows));
    let y = RULER + FRAMES;
    this.tall = {};
    for (const l of lanes) {
      const open = full.includes(l),
        row = open ? Math.max(26, each * weight(l)) : THIN,
        size = row * Math.max(1, l.rows) + (l.name === "dialogue" ? WORDS : 0);
      this.tall[l.name] = { y, row, size, open, heard: l.heard };
      y += size;
    }
    this.graph = y;
    nameLanes(this, this.graph, GRAPH);
  }

  /** A lane taller, taller still, or as the others again. @param {string | number} lane */
  taller(lane) {
    const now = this.wants[lane] || 1;
    this.wants[lane] = now === 1 ? 2 : now === 2 ? 4 : 1;
    localStorage.setItem("kovel-lanes", JSON.stringify(this.wants));
    this.fit();
  }

  /**
   * The block as it is drawn: what is dragged as it would be.
   * @param {Block} b @returns {import("./stripblocks.js").Block}
   */
  of(b) {
    const d = this.drafts.get(b.id);
    return d ? { ...b, ...d } : b;
  }

  /** @param {Block} b */
  box(b) {
    const t = this.tall[b.lane];
    return { x: this.x(b.at), y: t.y + b.row * t.row, w: b.length * this.px, h: t.row };
  }

  /**
   * dB to a height within a block: +12 at the top, -48 and less at the bottom.
   * @param {number} db @param {Box} box
   */
  y(db, box) {
    return box.y + 3 + ((12 - Math.max(-48, Math.min(12, db))) / 60) * (box.h - 6);
  }
  /** @param {number} y @param {Box} box */
  db(y, box) {
    return Math.round((12 - ((y - box.y - 3) / Math.max(1, box.h - 6)) * 60) * 10) / 10;
  }

  /** What stands on it has changed: all of it is drawn anew. */
  draw() {
    this.stale = true;
    this.follow();
  }

  /** Only the playhead or a mark has moved: it goes over what is drawn already. */
  follow() {
    if (this.due || !this.data) return;
    this.due = true;
    requestAnimationFrame(() => {
      this.due = false;
      const began = performance.now();
      if (this.stale) this.paint();
      this.over();
      this.took = performance.now() - began;
    });
  }

  paint() {
    const { g } = this,
      k = devicePixelRatio || 1,
      css = getComputedStyle(this.canvas),
      c = (/** @type {string} */ n) => css.getPropertyValue(n).trim();
    this.stale = false;
    const w = this.canvas.width / k,
      h = this.canvas.height / k;
    /** @type {Record<string, string>} */ this.ink = {
      ink: c("--ink"),
      soft: c("--soft"),
      rule: c("--rule"),
      sheet: c("--sheet"),
      tint: c("--tint"),
    };
    Object.assign(this.ink, { cover: c("--cover"), pencil: c("--pencil"), wash: c("--wash"), mark: c("--mark") });
    g.setTransform(k, 0, 0, k, 0, 0);
    g.fillStyle = this.ink.sheet;
    g.fillRect(0, 0, w, h);
    const a = this.frameAt(0),
      b = this.frameAt(w);
    this.ruler(w, a, b);
    this.film.paint(a, b);
    for (const l of this.data.lanes) {
      g.fillStyle = this.ink.rule;
      g.fillRect(0, this.tall[l.name].y - 0.5, w, 1);
    }
    this.blocks.paint(w, a, b);
    this.words.paint(w, a, b);
    loudnessCurve(this, w, h, a, b);
    g.fillStyle = this.ink.rule;
    let before = -9;
    g.beginPath();
    for (const seam of this.data.seams) {
      const x = Math.round(this.x(seam));
      if (seam <= a || seam >= b || x - before < 3) continue;
      before = x;
      g.rect(x, RULER, 1, this.tall.dialogue.y + this.tall.dialogue.size - RULER);
    }
    g.fill();
  }

  /** The playhead and the marked stretch, over what stands. */
  over() {
    const { top } = this,
      k = devicePixelRatio || 1,
      h = this.canvas.height / k,
      { a, b } = this.marks;
    top.setTransform(1, 0, 0, 1, 0, 0);
    top.drawImage(this.still, 0, 0);
    top.setTransform(k, 0, 0, k, 0, 0);
    if (a !== null || b !== null) {
      top.globalAlpha = 0.25;
      top.fillStyle = this.ink.mark;
      const from = this.x(a ?? b ?? 0),
        to = this.x(b ?? a ?? 0);
      top.fillRect(from, 0, Math.max(2, to - from), h);
      top.globalAlpha = 1;
    }
    top.fillStyle = this.ink.pencil;
    top.fillRect(Math.round(this.x(this.frame)) - 0.5, 0, 1.5, h);
  }

  /** The story's markers in [a, b): a sign by its shape, its name. @param {number} a @param {number} b */
  markers(a, b) {
    const { g } = this,
      /** @type {Record<string, string>} */ signs = { flag: "⚑", dot: "●", diamond: "◆", cross: "✕" };
    g.fillStyle = this.ink.pencil;
    for (const [at, name, shape] of this.data.markers)
      if (at >= a && at < b) {
        g.fillRect(Math.round(this.x(at)), 8, 1, RULER - 9);
        g.fillText(`${signs[shape]} ${name}`, this.x(at) + 3, 15);
      }
  }

  /** @param {number} w @param {number} a @param {number} b */
  ruler(w, a, b) {
    const { g } = this,
      steps = [1 / this.fps, 0.2, 0.5, 1, 2, 5, 10, 30, 60, 120, 300, 600, 1800],
      step = steps.find((s) => s * this.fps * this.px > 64) || 3600;
    g.font = "11px 'Kovel Sans', sans-serif";
    g.textBaseline = "middle";
    for (let s = Math.floor(a / this.fps / step) * step; s * this.fps <= b; s += step) {
      const x = Math.round(this.x(Math.round(s * this.fps)));
      g.fillStyle = this.ink.rule;
      g.fillRect(x, 12, 1, 8);
      g.fillStyle = this.ink.soft;
      const m = Math.floor(s / 60),
        rest = s - m * 60;
      g.fillText(
        `${m}:${step < 1 ? rest.toFixed(1).padStart(4, "0") : String(Math.round(rest)).padStart(2, "0")}`,
        x + 3,
        8,
      );
    }
    g.fillStyle = this.ink.cover;
    for (const t of this.data.beats) if (t > a && t < b && this.px > 0.8) g.fillRect(Math.round(this.x(t)), 16, 1, 4);
    this.markers(a, b);
    g.fillStyle = this.ink.rule;
    g.fillRect(0, RULER - 1, w, 1);
  }
}
