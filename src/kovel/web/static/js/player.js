// Plays a plan on a canvas. The plan says what is seen and heard; nothing is decided here. The audio clock leads.
import { Clock } from "./clock.js";
import { brush } from "./dom.js";
import { Drawing } from "./drawing.js";
import { EVERYWHERE } from "./framing.js";
import { Looks } from "./looks.js";
import { every, flat, imageOf, keyOf } from "./nested.js";
import { Frames } from "./picture.js";
import { layersAt, runAt } from "./plan.js";
import { VideoPool } from "./pool.js";
import { RATE, Sound } from "./sound.js";

const AHEAD = 22;
const BUSY = 30; // ms of a frame's drawing from which on looks are drawn at half size while it plays

export class Player extends EventTarget {
  /** How many frames each recording has: a frame behind its end is its last. @type {Map<number, number>} */ lengths =
    new Map();
  /** Ids of what alone is heard, comma between; empty: everything. */ alone = "";
  /** Told of every frame drawn. @type {(frame: number) => void} */ drawn = () => {};
  /** Without looks: what was filmed. */ plainly = false;
  /** Without looks in the left half. */ halves = false;
  looks = new Looks(
    (look) => `/p/${this.plan.project}/look.bin?${new URLSearchParams({ of: JSON.stringify(look) })}`,
  );
  /** Fetches the plan and takes it. @type {() => Promise<void>} */ reload = async () => {};

  /** What the canvas shows. @type {string|null} */ shown = null;
  /** The frame that playing began with. */ base = 0;
  clock = new Clock();

  /** @param {HTMLCanvasElement} canvas */
  constructor(canvas, { pool = false } = {}) {
    super();
    this.canvas = canvas;
    this.paint = brush(canvas, { alpha: false });
    this.pictures = pool || !Frames.usable() ? new VideoPool() : new Frames();
    this.sound = new Sound();
    this.drawing = new Drawing(this);
    /** What is played; null until it is there. @type {Plan} */ this.plan = /** @type {any} */ (null);
    this.frame = 0;
    this.speed = 0;
    /** Where playing ends, if not at the end. @type {number|null} */ this.until = null;
    /** Where it begins again then; null: it ends. @type {number|null} */ this.again = null;
    this.starting = 0;
    this.late = 0;
    this.tick = this.tick.bind(this);
    requestAnimationFrame(this.tick);
  }

  get playing() {
    return this.speed !== 0;
  }
  get fps() {
    return this.plan.rate[0] / this.plan.rate[1];
  }

  // A new plan: keep the place; go on playing if it plays.
  /** @param {Plan} plan */
  load(plan) {
    const { speed, until, again } = this,
      on = speed === 1 && this.audible && this.pictures.exact && !this.sound.stretch && this.now() < plan.length - 1;
    if (!on || this.fps !== plan.rate[0] / plan.rate[1]) this.stop();
    this.plan = plan;
    if (plan.size) {
      const k = 960 / Math.max(...plan.size),
        [w, h] = plan.size.map((/** @type {number} */ x) => Math.round(x * k));
      if (this.canvas.width !== w || this.canvas.height !== h) {
        this.canvas.width = w;
        this.canvas.height = h;
      }
    }
    this.shown = null;
    if (this.playing) {
      this.want(this.frame, speed); // it plays on, over to the new plan
      this.sound.change(plan).catch(() => {});
      return;
    }
    this.stands = Math.min(this.frame, plan.length); // a new plan under a playhead that stays: nobody went anywhere
    this.seek(this.stands);
    this.stands = null;
    if (speed) this.play(speed, until, again);
  }

  /** What is drawn at a story frame, bottom first. @param {number} t */
  layers(t) {
    return layersAt(this.plan, t, this.plainly);
  }

  // [recording, its frame] of the first image at a story frame; null for black.
  /** @param {number} t */
  picture(t) {
    const l = flat(this.layers(t)).find((x) => x.id !== null);
    return l && [l.id, l.n];
  }

  /** @param {number} t @param {number} step @param {number} count */
  ahead(t, step, count) {
    const out = [];
    for (let i = 0; i < count; i++) {
      const q = t + i * step;
      if (q < 0 || q >= Math.max(1, this.plan.length)) break;
      for (const l of flat(this.layers(q))) if (l.id !== null) out.push(this.limit([l.id, l.n]));
    }
    return out;
  }

  /** @param {number[]} of @returns {[number, number]} */
  limit([id, n]) {
    const most = this.lengths.get(id);
    return [id, most === undefined ? n : Math.min(n, most - 1)];
  }

  // Where playing stands now, in story frames with a fraction.
  now() {
    if (!this.playing) return this.frame;
    return this.base + this.clock.seconds(this.audible ? this.sound.context : null) * this.fps * this.speed;
  }

  /** @param {number} speed @param {number|null} until @param {number|null} again */
  async play(speed = 1, until = null, again = null) {
    if (!this.plan?.length) return;
    this.stop(true);
    const gen = ++this.starting;
    this.asked = speed; // until it runs: a second press may come before that
    if (speed > 0 && this.frame >= this.plan.length) this.frame = 0;
    const from = this.frame;
    const asked = performance.now();
    const heard = [1, 1.5, 2, 3].includes(speed);
    this.want(from, this.pictures.exact ? speed : 0); // the pool must not run before the sound does
    const sample = Math.round((from * this.plan.rate[1] * RATE) / this.plan.rate[0]);
    const [audible] = await Promise.all([
      heard ? this.sound.open() : false,
      heard ? this.sound.ready(this.plan, sample, speed).catch(() => {}) : null,
      this.firstPicture(from, gen),
    ]);
    if (gen !== this.starting) return;
    this.audible = audible;
    this.base = from;
    this.until = until;
    this.again = again;
    if (audible) {
      const c = this.sound.context;
      const when = Math.ceil((c.currentTime + 0.04) * RATE) / RATE;
      this.sound.start(when, sample, speed);
      this.clock.begin(when);
    } else this.clock.begin(performance.now() / 1000);
    this.speed = speed;
    this.want(from, speed);
    this.late = 0;
    this.startMs = performance.now() - asked;
    this.dispatchEvent(new Event("state"));
  }

  // The clock starts with its first frame on the canvas, never with what stood there before the playhead moved.
  /** @param {number} t @param {number} gen */
  async firstPicture(t, gen) {
    const give = performance.now() + 1500;
    while (gen === this.starting && !this.pictures.failed && performance.now() < give) {
      if (this.draw(t)) return;
      await new Promise((r) => setTimeout(r, 4));
    }
    if (gen !== this.starting || this.shown === "none" || this.shown?.startsWith("near")) return;
    this.paint.fillStyle = "#000";
    this.paint.fillRect(0, 0, this.canvas.width, this.canvas.height);
    this.drawing.waiting();
    this.shown = null;
  }

  stop(quiet = false) {
    this.starting++;
    this.asked = 0;
    if (this.playing) {
      const f = Math.floor(this.now() + 1e-6);
      this.frame = Math.max(0, Math.min(f, this.plan.length));
    }
    const was = this.playing;
    this.speed = 0;
    this.sound.stop();
    if (this.plan) this.want(this.frame, 0);
    if (was && !quiet) this.dispatchEvent(new Event("state"));
  }

  toggle() {
    return this.playing ? this.stop() : this.play(1);
  }

  // Faster in the same direction at each press; forwards up to 3 the sound keeps its pitch, beyond there is none.
  /** @param {number} direction */
  shuttle(direction) {
    const steps = direction > 0 ? [1, 1.5, 2, 3, 4, 8] : [1, 2, 3, 4, 8],
      was = this.asked || this.speed;
    const now = Math.sign(was) === direction ? steps.indexOf(Math.abs(was)) : -1;
    this.play(direction * steps[Math.min(now + 1, steps.length - 1)]);
  }

  /** @param {number} t */
  seek(t) {
    const going = this.speed;
    if (going) this.stop(true);
    this.frame = Math.max(0, Math.min(Math.round(t), this.plan ? this.plan.length : 0));
    this.want(this.frame, 0);
    this.dispatchEvent(new Event("time"));
    if (going) this.play(going);
  }

  /** @param {number} t @param {number} speed */
  want(t, speed) {
    if (!this.plan?.length) {
      this.pictures.clear();
      return;
    }
    t = Math.min(t, this.plan.length - 1);
    const pairs = speed
      ? this.ahead(t, Math.sign(speed), Math.min(60, AHEAD * Math.abs(speed)))
      : [...this.ahead(t, 1, 6), ...this.ahead(t - 1, -1, 5)];
    if (this.pictures.exact) this.pictures.want(pairs, speed > 0);
    else this.pictures.want(pairs, speed > 0 ? this.cuts(t, speed) : [], speed !== 0, speed);
  }

  // The picture runs of the next three seconds, for the pool: [recording, first frame, seconds until].
  /** @param {number} t @param {number} speed */
  cuts(t, speed) {
    const out = [];
    for (let i = runAt(this.plan, t); i < this.plan.pictures.length && out.length < 6; i++) {
      const at = Math.max(this.plan.pictures[i][0], t),
        wait = (at - t) / this.fps / speed;
      if (wait > 3) break;
      const first = this.picture(Math.max(this.plan.pictures[i][0], this.base));
      if (first) out.push([...first, wait]);
    }
    return out;
  }

  tick() {
    requestAnimationFrame(this.tick);
    if (!this.plan) return;
    let t = this.frame;
    if (this.playing) {
      t = Math.floor(this.now() + 1e-6);
      if (this.speed > 0 && t < this.base) return;
      const end = this.until ?? this.plan.length;
      if ((this.speed > 0 && t >= end) || (this.speed < 0 && t <= 0)) {
        const { again, until, speed } = this;
        this.stop(true);
        this.frame = speed < 0 ? 0 : again !== null && again < end ? again : Math.max(0, Math.min(t, end));
        if (this.frame === again) return void this.play(speed, until, again);
        this.want(this.frame, 0);
        this.dispatchEvent(new Event("state"));
        this.dispatchEvent(new Event("time"));
        return;
      }
      if (t !== this.frame) {
        this.frame = t;
        this.want(t, this.speed);
        this.dispatchEvent(new Event("time"));
      }
    }
    this.draw(t);
  }

  /**
   * Whether the canvas shows frame t now; where it cannot yet, what was there stays.
   * @param {number} t @returns {boolean}
   */
  draw(t) {
    const layers = this.plan.length ? this.layers(t) : [];
    const sharp = !this.playing || !this.looks.half;
    const id = layers.map((/** @type {any} */ l) => keyOf(l, `${sharp}${this.halves}`)).join(" ");
    if (id === this.shown && this.pictures.exact) return true;
    const began = performance.now();
    const c = this.canvas,
      looked = every(layers).filter((l) => l.look);
    /** @type {Map<any, any>} */ const images = new Map();
    for (const l of flat(layers)) {
      const f = l.id === null || l.title ? this.drawing.made(l) : this.pictures.get(...this.limit([l.id, l.n]));
      if (!f && this.pictures.failed && l.id !== null && this.shown !== "none") {
        this.drawing.told("This recording is not prepared yet");
        this.shown = "none";
      }
      if (!f) {
        if (this.playing && !this.missed) this.late++;
        this.missed = true;
        this.drawing.nearest(l);
        return false;
      }
      images.set(l, f);
    }
    if (!looked.every((l) => this.looks.ready(l.look))) return false; // its table comes in a moment
    if (looked.length && this.looks.broken) this.dispatchEvent(new Event("plain"));
    this.missed = false;
    if (!this.playing) this.looks.half = false;
    this.paint.fillStyle = "#000";
    if (!layers.length || layers[0].share < 1 || layers[0].place !== EVERYWHERE || layers[0].part.clear)
      this.paint.fillRect(0, 0, c.width, c.height);
    for (const l of layers) this.drawing.layer(imageOf(this, images, l, false), l);
    this.paint.globalAlpha = 1;
    if (this.halves) this.drawing.half(layers, images);
    if (this.playing && looked.length && performance.now() - began > BUSY) this.looks.half = true;
    this.shown = id;
    this.drawn(t);
    return true;
  }
}
