// Draws the strip on a canvas: frames, lanes with waveforms, words, levels, ducking, ties, loudness. Places come from
// the server in story frames; here they only become pixels.
import { peaks } from "/static/js/peaks.js";
import { byId } from "/static/js/dom.js";
import { FRAMES, Film, RULER } from "./stripfilm.js";
import { Said, WORDS } from "./stripwords.js";
import { along, clipOf, loudnessCurve } from "./striplines.js";

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
 */

const THIN = 17,
  GRAPH = 56;
const NAMES = { dialogue: "Dialogue", natural: "Natural", effect: "Effects", voice: "Voice", music: "Music" };
const PER = [100, 12.5, 100 / 64]; // pairs of peaks a second, level by level

export class Strip {
  /** @type {any} what the server told */ data = null;
  /** @type {Map<number, Int8Array[]>} */ waves = new Map();
  words = new Said(this);
  film = new Film(this);
  /** @type {any} */ loud = null;
  /** @type {Set<number>} ids that are chosen */ chosen = new Set();
  /** Chosen moment of a line: [id, frame], or null. */ moment = null;
  /** What is dragged is drawn as it would be. @type {Map<number, Partial<Block>>} */ drafts = new Map();
  frame = 0;
  marks = { a: null, b: null };
  px = 1; // pixels a frame
  /** How tall the editor wants a lane to be, against the others. @type {Record<string, number>} */
  wants = JSON.parse(localStorage.getItem("kovel-lanes") || "{}");
  tall = {};
  due = false;
  stale = true; // what stands has to be drawn anew
  /** The column of pixels drawn last in a crowd. */ last = "";
  /** Milliseconds the last drawing took. */ took = 0;

  constructor(base) {
    this.base = base;
    this.scroll = byId("strip-scroll");
    this.canvas = byId("strip-canvas");
    this.wide = byId("strip-wide");
    this.heads = byId("strip-heads");
    this.top = this.canvas.getContext("2d");
    this.still = document.createElement("canvas");
    this.g = this.still.getContext("2d");
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
  x(frame) {
    return frame * this.px - this.left;
  }
  frameAt(x) {
    return (x + this.left) / this.px;
  }

  /** New facts from the server; words and frames of another revision are asked for anew. */
  async learn() {
    const answer = await fetch(`${this.base}/strip`, { headers: { Accept: "application/json" } });
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

  /** Pixels a frame at a place of the slider, 0 (the whole film) to 100 (a second to the screen). */
  near(value) {
    const w = Math.max(200, this.scroll.clientWidth),
      least = w / Math.max(1, this.data?.length || 1),
      most = Math.max(least, w / (this.data ? this.fps : 25));
    return least * (most / least) ** (value / 100);
  }

  /** Nearer or farther, the playhead (or what is under the pointer) staying where it is. */
  zoom(value, at = this.frame) {
    const was = this.x(at);
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
    this.px = Math.max(this.px, w / Math.max(1, this.data.length));
    this.wide.style.width = `${Math.ceil(this.data.length * this.px)}px`;
    this.still.width = this.canvas.width = w * k;
    this.still.height = this.canvas.height = h * k;
    this.canvas.style.width = `${w}px`;
    this.canvas.style.height = `${h}px`;
    this.lay(h);
    this.draw();
  }

  /** How tall each lane is, and where it begins. */
  lay(h) {
    const lanes = this.data.lanes,
      full = lanes.filter((l) => l.rows || l.name === "dialogue"),
      weight = (l) => (this.wants[l.name] || 1) * (l.name === "dialogue" ? 1.5 : 1),
      rows = full.reduce((n, l) => n + Math.max(1, l.rows) * weight(l), 0),
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
    this.name();
  }

  /** A lane taller, taller still, or as the others again. */
  taller(lane) {
    const now = this.wants[lane] || 1;
    this.wants[lane] = now === 1 ? 2 : now === 2 ? 4 : 1;
    localStorage.setItem("kovel-lanes", JSON.stringify(this.wants));
    this.fit();
  }

  name() {
    const lines = [
      ["", RULER, FRAMES, "Frames"],
      ...this.data.lanes.map((l) => [l.name, this.tall[l.name].y, this.tall[l.name].size, NAMES[l.name], l]),
      ["", this.graph, GRAPH, "Loudness"],
    ];
    this.heads.replaceChildren(
      ...lines.map(([lane, y, size, text, l]) => {
        const el = document.createElement("div"),
          label = document.createElement(l && this.tall[lane].open ? "button" : "span");
        el.className = `strip-head${l && !l.heard ? " is-off" : ""}`;
        el.style.top = `${y}px`;
        el.style.height = `${size}px`;
        label.textContent = text;
        if (label instanceof HTMLButtonElement) {
          label.dataset.taller = lane;
          label.title = `${text}: taller, taller still, as the others`;
        }
        el.append(label);
        if (l && this.tall[lane].open)
          for (const [what, on, says] of [
            ["muted", l.muted, "mute"],
            ["solo", l.solo, "solo"],
          ]) {
            const b = document.createElement("button");
            b.className = "btn btn-plain strip-switch";
            b.dataset.lane = lane;
            b.dataset.switch = what;
            b.setAttribute("aria-pressed", String(on));
            b.setAttribute("aria-label", `${says} ${text}`);
            b.textContent = says;
            el.append(b);
          }
        return el;
      }),
    );
  }

  /** The block as it is drawn: what is dragged as it would be. @returns {Block} */
  of(b) {
    const d = this.drafts.get(b.id);
    return d ? { ...b, ...d } : b;
  }

  box(b) {
    const t = this.tall[b.lane];
    return { x: this.x(b.at), y: t.y + b.row * t.row, w: b.length * this.px, h: t.row };
  }

  /** dB to a height within a block: +12 at the top, -48 and less at the bottom. */
  y(db, box) {
    return box.y + 3 + ((12 - Math.max(-48, Math.min(12, db))) / 60) * (box.h - 6);
  }
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
      c = (n) => css.getPropertyValue(n).trim();
    this.stale = false;
    const w = this.canvas.width / k,
      h = this.canvas.height / k;
    this.ink = { ink: c("--ink"), soft: c("--soft"), rule: c("--rule"), sheet: c("--sheet"), tint: c("--tint") };
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
    for (const chosen of [false, true]) {
      this.crowd = { tint: new Path2D(), wash: new Path2D(), soft: new Path2D(), cover: new Path2D() };
      for (const x of this.data.blocks)
        if (x.at < b && x.at + x.length > a && this.chosen.has(x.id) === chosen) this.block(this.of(x), w);
      for (const [ink, path] of Object.entries(this.crowd)) {
        g.fillStyle = this.ink[ink];
        g.fill(path);
      }
    }
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
      top.fillRect(this.x(a ?? b), 0, Math.max(2, this.x(b ?? a) - this.x(a ?? b)), h);
      top.globalAlpha = 1;
    }
    top.fillStyle = this.ink.pencil;
    top.fillRect(Math.round(this.x(this.frame)) - 0.5, 0, 1.5, h);
  }

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
    g.fillStyle = this.ink.rule;
    g.fillRect(0, RULER - 1, w, 1);
  }

  block(b, w) {
    const { g } = this,
      box = this.box(b),
      x0 = Math.max(-2, box.x),
      x1 = Math.min(w + 2, box.x + box.w),
      off = b.mute || !this.tall[b.lane].heard;
    const chosen = this.chosen.has(b.id);
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
    g.fillStyle = chosen ? this.ink.mark : b.kind === "piece" ? this.ink.tint : this.ink.wash;
    if (!b.heard) g.fillStyle = this.ink.sheet;
    g.fillRect(x0, box.y + 1, x1 - x0, box.h - 2);
    if (b.heard && b.source !== null) this.wave(b, box, x0, x1);
    this.fades(b, box);
    g.globalAlpha = 1;
    g.strokeStyle = chosen ? this.ink.ink : this.ink.rule;
    g.lineWidth = chosen ? 1.5 : 1;
    g.strokeRect(box.x + 0.5, box.y + 1.5, box.w - 1, box.h - 3);
    if (box.w > 34) {
      g.save();
      g.beginPath();
      g.rect(x0, box.y, x1 - x0, box.h);
      g.clip();
      g.font = "11px 'Kovel Sans', sans-serif";
      g.fillStyle = this.ink.ink;
      const text = b.heard ? `${b.name}  ${b.mute ? "muted" : b.tells}` : b.name;
      g.fillText(text, Math.max(3, box.x + 4), box.y + 9);
      g.restore();
    }
    if (b.heard) this.lines(b, box, x0, x1);
    if (b.tie !== null && b.kind === "sound") this.tied(b, box);
  }

  /** A thin line up to the word it is tied to. */
  tied(b, box) {
    const { g } = this,
      x = Math.round(this.x(b.tie)) + 0.5,
      top = this.tall.dialogue.y + this.tall.dialogue.size;
    g.strokeStyle = this.ink.cover;
    g.setLineDash([2, 3]);
    g.beginPath();
    g.moveTo(x, box.y);
    g.lineTo(x, top - WORDS);
    g.stroke();
    g.setLineDash([]);
  }

  /** The waveform of a block between two columns of pixels, drawn or, of a crowd, added to a path. */
  wave(b, box, x0, x1, path = null) {
    const levels = this.waves.get(b.source);
    if (!levels) {
      if (levels === undefined) {
        this.waves.set(b.source, null);
        peaks(b.source)
          .then((l) => {
            this.waves.set(b.source, l);
            this.draw();
          })
          .catch(() => {});
      }
      return;
    }
    const { g } = this,
      second = 1 / this.px / this.fps; // of a pixel
    let level = 0;
    while (level < 2 && second * PER[level] > 6) level++;
    const data = levels[level],
      per = PER[level],
      middle = box.y + box.h / 2,
      half = (box.h - 4) / 2;
    const shape = path ?? new Path2D();
    for (let x = Math.floor(x0); x < x1; x++) {
      const s = (b.start + ((x - box.x) / this.px) * b.run) / this.fps,
        from = Math.floor(s * per),
        to = Math.max(from + 1, Math.ceil((s + second) * per));
      let lo = 0,
        hi = 0;
      for (let q = Math.max(0, from); q < to && q * 2 + 1 < data.length; q++) {
        if (data[q * 2] < lo) lo = data[q * 2];
        if (data[q * 2 + 1] > hi) hi = data[q * 2 + 1];
      }
      const gain = 10 ** (this.says(b, b.at + (x - box.x) / this.px) / 20),
        up = Math.min(1, ((hi / 127) * gain) ** 0.6),
        down = Math.min(1, ((-lo / 127) * gain) ** 0.6);
      shape.rect(x, middle - up * half, 1, Math.max(1, (up + down) * half));
    }
    if (path) return;
    g.fillStyle = b.kind === "piece" ? this.ink.soft : this.ink.cover;
    g.fill(shape);
  }

  /** What level and ducking say together at a story frame, in dB. */
  says(b, f) {
    return (b.level ?? along(b.line, f)) + b.wide + (b.duck.length ? along(b.duck, f) : 0);
  }

  fades(b, box) {
    const { g } = this,
      slope = (q) => (b.straight ? q : Math.sin((q * Math.PI) / 2)),
      alpha = g.globalAlpha;
    g.fillStyle = this.ink.sheet;
    g.globalAlpha = 0.75 * alpha;
    for (const [n, x, to] of [
      [b.fade_in, box.x, 1],
      [b.fade_out, box.x + box.w, -1],
    ]) {
      if (!n) continue;
      const wide = to * n * this.px;
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

  lines(b, box, x0, x1) {
    const { g } = this;
    const stroke = (row, flat, colour, dash) => {
      g.strokeStyle = colour;
      g.lineWidth = 1.5;
      g.setLineDash(dash);
      g.beginPath();
      if (flat !== null) {
        const y = this.y(flat, box);
        g.moveTo(x0, y);
        g.lineTo(x1, y);
      } else {
        g.moveTo(x0, this.y(row[0][1], box));
        for (const [f, db] of row) g.lineTo(this.x(f), this.y(db, box));
        g.lineTo(x1, this.y(row.at(-1)[1], box));
      }
      g.save();
      g.clip(clipOf(x0, box, x1));
      g.stroke();
      g.restore();
      g.setLineDash([]);
    };
    stroke(b.line, b.level, this.ink.ink, []);
    if (b.duck.length) stroke(b.duck, null, this.ink.pencil, [5, 3]);
    for (const [row, colour] of [
      [b.line, this.ink.ink],
      [b.duck, this.ink.pencil],
    ])
      for (const [f, db] of row) {
        const x = this.x(f);
        if (x < x0 - 5 || x > x1 + 5) continue;
        const on = this.moment?.[0] === b.id && this.moment[1] === f;
        g.fillStyle = on ? this.ink.sheet : colour;
        g.strokeStyle = colour;
        g.beginPath();
        g.arc(x, this.y(db, box), on ? 4.5 : 3.2, 0, 7);
        g.fill();
        g.stroke();
      }
  }
}
