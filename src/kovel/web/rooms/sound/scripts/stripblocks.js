// Draws the blocks of the strip: waveforms, fades, level lines, ducking, ties.
import { peaks } from "/static/js/peaks.js";
import { WORDS } from "./stripwords.js";
import { along, clipOf } from "./striplines.js";

/**
 * @typedef {object} Block as web/rooms/sound/strip.py makes it
 * @property {number} id
 * @property {string} kind piece, cover or sound
 * @property {string} lane
 * @property {number} row
 * @property {number} at
 * @property {number} length
 * @property {number|null} source
 * @property {number} start the moment of its recording it begins with
 * @property {number} run moments to a story frame
 * @property {string} name
 * @property {boolean} heard
 * @property {number|null} level
 * @property {[number, number][]} line
 * @property {number} wide
 * @property {[number, number][]} duck
 * @property {number} fade_in
 * @property {number} fade_out
 * @property {boolean} straight
 * @property {boolean} mute
 * @property {number} group
 * @property {number|null} tie
 * @property {string} tells
 * @property {number|null} before frames that a piece's recording has before it; null: no end
 * @property {number|null} after
 */

const PER = [100, 12.5, 100 / 64]; // pairs of peaks a second, level by level

export class Blocks {
  /** @type {Map<number|null, Int8Array[]|null>} */ waves = new Map();
  /** The column of pixels drawn last in a crowd. */ last = "";
  /** What is too small to be drawn by itself, by ink. @type {Record<string, Path2D>} */ crowd = {};

  /** @param {import("./strip.js").Strip} strip */
  constructor(strip) {
    this.strip = strip;
    this.g = strip.g;
  }

  /**
   * All that lie in story frames [a, b), those that are chosen over the others.
   * @param {number} w @param {number} a @param {number} b
   */
  paint(w, a, b) {
    const { strip, g } = this;
    for (const chosen of [false, true]) {
      this.crowd = { tint: new Path2D(), wash: new Path2D(), soft: new Path2D(), cover: new Path2D() };
      for (const x of strip.data.blocks)
        if (x.at < b && x.at + x.length > a && strip.chosen.has(x.id) === chosen) this.block(strip.of(x), w);
      for (const [ink, path] of Object.entries(this.crowd)) {
        g.fillStyle = strip.ink[ink];
        g.fill(path);
      }
    }
  }

  /** @param {Block} b @param {number} w */
  block(b, w) {
    const { g } = this,
      box = this.strip.box(b),
      x0 = Math.max(-2, box.x),
      x1 = Math.min(w + 2, box.x + box.w),
      off = b.mute || !this.strip.tall[b.lane].heard;
    const chosen = this.strip.chosen.has(b.id);
    if (box.w < 4 && !chosen) {
      // a crowd: each column of pixels once
      const column = `${b.lane} ${b.row} ${Math.floor(box.x)}`;
      if (column === this.last) return;
      this.last = column;
      this.crowd[b.kind === "piece" ? "tint" : "wash"].rect(x0, box.y + 1, Math.max(1, x1 - x0), box.h - 2);
      if (b.heard && b.source !== null) this.wave(b, box, x0, x1, this.crowd[b.kind === "piece" ? "soft" : "cover"]);
      return;
    }
    g.globalAlpha = off ? 0.4 : 1;
    g.fillStyle = chosen ? this.strip.ink.mark : b.kind === "piece" ? this.strip.ink.tint : this.strip.ink.wash;
    if (!b.heard) g.fillStyle = this.strip.ink.sheet;
    g.fillRect(x0, box.y + 1, x1 - x0, box.h - 2);
    if (b.heard && b.source !== null) this.wave(b, box, x0, x1);
    this.fades(b, box);
    g.globalAlpha = 1;
    g.strokeStyle = chosen ? this.strip.ink.ink : this.strip.ink.rule;
    g.lineWidth = chosen ? 1.5 : 1;
    g.strokeRect(box.x + 0.5, box.y + 1.5, box.w - 1, box.h - 3);
    if (box.w > 34) {
      g.save();
      g.beginPath();
      g.rect(x0, box.y, x1 - x0, box.h);
      g.clip();
      g.font = "11px 'Kovel Sans', sans-serif";
      g.fillStyle = this.strip.ink.ink;
      const text = b.heard ? `${b.name}  ${b.mute ? "muted" : b.tells}` : b.name;
      g.fillText(text, Math.max(3, box.x + 4), box.y + 9);
      g.restore();
    }
    if (b.heard) this.lines(b, box, x0, x1);
    if (b.tie !== null && b.kind === "sound") this.tied(b, box);
  }

  /** A thin line up to the word it is tied to. @param {Block} b @param {Box} box */
  tied(b, box) {
    const { g } = this,
      x = Math.round(this.strip.x(b.tie ?? b.at)) + 0.5,
      top = this.strip.tall.dialogue.y + this.strip.tall.dialogue.size;
    g.strokeStyle = this.strip.ink.cover;
    g.setLineDash([2, 3]);
    g.beginPath();
    g.moveTo(x, box.y);
    g.lineTo(x, top - WORDS);
    g.stroke();
    g.setLineDash([]);
  }

  /**
   * The waveform of a block between two columns of pixels, drawn or, of a crowd, added to a path.
   * @param {Block} b @param {Box} box @param {number} x0 @param {number} x1
   */
  wave(b, box, x0, x1, path = /** @type {Path2D|null} */ (null)) {
    const levels = this.waves.get(b.source);
    if (!levels) {
      if (levels === undefined) {
        this.waves.set(b.source, null);
        peaks(b.source)
          .then((/** @type {Int8Array<ArrayBufferLike>[]} */ l) => {
            this.waves.set(b.source, l);
            this.strip.draw();
          })
          .catch(() => {});
      }
      return;
    }
    const { g } = this,
      second = 1 / this.strip.px / this.strip.fps; // of a pixel
    let level = 0;
    while (level < 2 && second * PER[level] > 6) level++;
    const data = levels[level],
      per = PER[level],
      middle = box.y + box.h / 2,
      half = (box.h - 4) / 2;
    const shape = path ?? new Path2D();
    for (let x = Math.floor(x0); x < x1; x++) {
      const s = (b.start + ((x - box.x) / this.strip.px) * b.run) / this.strip.fps,
        from = Math.floor(s * per),
        to = Math.max(from + 1, Math.ceil((s + second) * per));
      let lo = 0,
        hi = 0;
      for (let q = Math.max(0, from); q < to && q * 2 + 1 < data.length; q++) {
        if (data[q * 2] < lo) lo = data[q * 2];
        if (data[q * 2 + 1] > hi) hi = data[q * 2 + 1];
      }
      const gain = 10 ** (this.says(b, b.at + (x - box.x) / this.strip.px) / 20),
        up = Math.min(1, ((hi / 127) * gain) ** 0.6),
        down = Math.min(1, ((-lo / 127) * gain) ** 0.6);
      shape.rect(x, middle - up * half, 1, Math.max(1, (up + down) * half));
    }
    if (path) return;
    g.fillStyle = b.kind === "piece" ? this.strip.ink.soft : this.strip.ink.cover;
    g.fill(shape);
  }

  /** What level and ducking say together at a story frame, in dB. @param {Block} b @param {any} f */
  says(b, f) {
    return (b.level ?? along(b.line, f)) + b.wide + (b.duck.length ? along(b.duck, f) : 0);
  }

  /** @param {Block} b @param {Box} box */
  fades(b, box) {
    const { g } = this,
      slope = (/** @type {number} */ q) => (b.straight ? q : Math.sin((q * Math.PI) / 2)),
      alpha = g.globalAlpha;
    g.fillStyle = this.strip.ink.sheet;
    g.globalAlpha = 0.75 * alpha;
    for (const [n, x, to] of [
      [b.fade_in, box.x, 1],
      [b.fade_out, box.x + box.w, -1],
    ]) {
      if (!n) continue;
      const wide = to * n * this.strip.px;
      for (const [edge, up] of [
        [box.y + 1, 1],
        [box.y + box.h - 1, -1],
      ]) {
        // what lies outside of the slope, above and below
        g.beginPath();
        g.moveTo(x, edge);
        for (let q = 0; q <= 1; q += 1 / 16) g.lineTo(x + q * wide, edge + up * (box.h / 2 - 1) * (1 - slope(q)));
        g.fill();
      }
    }
    g.globalAlpha = alpha;
  }

  /** @param {Block} b @param {Box} box @param {number} x0 @param {number} x1 */
  lines(b, box, x0, x1) {
    const { g } = this;
    const stroke = (
      /** @type {number[][]} */ row,
      /** @type {number|null} */ flat,
      /** @type {string | CanvasGradient | CanvasPattern} */ colour,
      /** @type {Iterable<number>} */ dash,
    ) => {
      g.strokeStyle = colour;
      g.lineWidth = 1.5;
      g.setLineDash(dash);
      g.beginPath();
      if (flat !== null) {
        const y = this.strip.y(flat, box);
        g.moveTo(x0, y);
        g.lineTo(x1, y);
      } else {
        g.moveTo(x0, this.strip.y(row[0][1], box));
        for (const [f, db] of row) g.lineTo(this.strip.x(f), this.strip.y(db, box));
        g.lineTo(x1, this.strip.y(row[row.length - 1][1], box));
      }
      g.save();
      g.clip(clipOf(x0, box, x1));
      g.stroke();
      g.restore();
      g.setLineDash([]);
    };
    stroke(b.line, b.level, this.strip.ink.ink, []);
    if (b.duck.length) stroke(b.duck, null, this.strip.ink.pencil, [5, 3]);
    for (const [row, colour] of /** @type {[[number, number][], string][]} */ ([
      [b.line, this.strip.ink.ink],
      [b.duck, this.strip.ink.pencil],
    ]))
      for (const [f, db] of row) {
        const x = this.strip.x(f);
        if (x < x0 - 5 || x > x1 + 5) continue;
        const on = this.strip.moment?.[0] === b.id && this.strip.moment[1] === f;
        g.fillStyle = on ? this.strip.ink.sheet : colour;
        g.strokeStyle = colour;
        g.beginPath();
        g.arc(x, this.strip.y(db, box), on ? 4.5 : 3.2, 0, 7);
        g.fill();
        g.stroke();
      }
  }
}
