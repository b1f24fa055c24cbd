// Plays a plan on a canvas. The plan says what is seen and heard; nothing is decided here. The audio clock leads.
import { Frames } from "./picture.js";
import { VideoPool } from "./pool.js";
import { RATE, Sound } from "./sound.js";

const AHEAD = 22;

export class Player extends EventTarget {
  constructor(canvas, { pool = false } = {}) {
    super();
    this.canvas = canvas;
    this.paint = canvas.getContext("2d", { alpha: false });
    this.pictures = pool || !Frames.usable() ? new VideoPool() : new Frames();
    this.sound = new Sound();
    this.plan = null;
    this.frame = 0;
    this.speed = 0;
    this.until = null;
    this.starting = 0;
    this.late = 0;
    this.shown = null;
    this.tick = this.tick.bind(this);
    requestAnimationFrame(this.tick);
  }

  get playing() { return this.speed !== 0; }
  get fps() { return this.plan.rate[0] / this.plan.rate[1]; }

  // A new plan: keep the place; go on playing if it plays.
  load(plan) {
    const speed = this.speed;
    this.stop();
    this.plan = plan;
    this.shown = null;
    this.seek(Math.min(this.frame, plan.length));
    if (speed) this.play(speed);
  }

  // Index of the picture run under a frame.
  run(t) {
    let lo = 0, hi = this.plan.pictures.length - 1;
    while (lo < hi) { const m = (lo + hi) >> 1; if (this.plan.pictures[m][1] > t) hi = m; else lo = m + 1; }
    return lo;
  }

  // [recording, its frame] at a story frame; null for black.
  picture(t) {
    if (!this.plan || !this.plan.pictures.length) return null;
    const [at, , source, start, num, den] = this.plan.pictures[this.run(Math.max(0, Math.min(t, this.plan.length - 1)))];
    return source === null ? null : [source, Math.floor(((start + Math.min(t, this.plan.length - 1) - at) * num) / den)];
  }

  ahead(t, step, count) {
    const out = [];
    for (let i = 0; i < count; i++) {
      const q = t + i * step;
      if (q < 0 || q >= Math.max(1, this.plan.length)) break;
      const p = this.picture(q);
      if (p) out.push(this.limit(p));
    }
    return out;
  }

  limit([id, n]) { const most = this.lengths?.get(id); return [id, most === undefined ? n : Math.min(n, most - 1)]; }

  // Where playing stands now, in story frames with a fraction.
  now() {
    if (!this.playing) return this.frame;
    return this.base + this.clock() * this.fps * this.speed;
  }

  clock() {
    const p = performance.now() / 1000;
    if (!this.audible) return p - this.zero;
    const c = this.sound.context;
    const a = c.currentTime - (c.outputLatency || 0);
    // currentTime moves in steps; follow it smoothly and never run back
    if (this.offset === null || Math.abs(a - p - this.offset) > 0.06) this.offset = a - p;
    else this.offset += (a - p - this.offset) * 0.02;
    const t = Math.max(p + this.offset, this.latest);
    this.latest = t;
    return t - this.zero;
  }

  async play(speed = 1, until = null) {
    if (!this.plan?.length) return;
    this.stop(true);
    const gen = ++this.starting;
    this.asked = speed; // until it runs: a second press may come before that
    if (speed > 0 && this.frame >= this.plan.length) this.frame = 0;
    const from = this.frame;
    const asked = performance.now();
    const heard = speed === 1 || speed === 1.5 || speed === 2;
    this.want(from, this.pictures.exact ? speed : 0); // the pool must not run before the sound does
    const sample = Math.round((from * this.plan.rate[1] * RATE) / this.plan.rate[0]);
    const [audible] = await Promise.all([
      heard ? this.sound.open() : false,
      heard ? this.sound.ready(this.plan, sample, speed).catch(() => {}) : null,
      this.firstPicture(from, gen),
    ]);
    if (gen !== this.starting) return;
    this.audible = audible;
    this.offset = null; this.latest = -Infinity;
    this.base = from; this.until = until;
    if (audible) {
      const c = this.sound.context;
      const when = Math.ceil((c.currentTime + 0.04) * RATE) / RATE;
      this.sound.start(when, sample, speed);
      this.zero = when;
    } else this.zero = performance.now() / 1000;
    this.speed = speed;
    this.want(from, speed);
    this.late = 0;
    this.startMs = performance.now() - asked;
    this.dispatchEvent(new Event("state"));
  }

  async firstPicture(t, gen) {
    const p = this.picture(t);
    const give = performance.now() + 1500;
    while (p && gen === this.starting && performance.now() < give && !this.pictures.failed && !this.pictures.get(...this.limit(p))) await new Promise((r) => setTimeout(r, 2));
  }

  stop(quiet = false) {
    this.starting++;
    this.asked = 0;
    if (this.playing) { const f = Math.floor(this.now() + 1e-6); this.frame = Math.max(0, Math.min(f, this.plan.length)); }
    const was = this.playing;
    this.speed = 0;
    this.sound.stop();
    if (this.plan) this.want(this.frame, 0);
    if (was && !quiet) this.dispatchEvent(new Event("state"));
  }

  toggle() { if (this.playing) this.stop(); else this.play(1); }

  // Faster in the same direction at each press; forwards up to 2 the sound keeps its pitch, beyond there is none.
  shuttle(direction) {
    const steps = direction > 0 ? [1, 1.5, 2, 4, 8] : [1, 2, 4, 8], was = this.asked || this.speed;
    const now = Math.sign(was) === direction ? steps.indexOf(Math.abs(was)) : -1;
    this.play(direction * steps[Math.min(now + 1, steps.length - 1)]);
  }

  seek(t) {
    const going = this.speed;
    if (going) this.stop(true);
    this.frame = Math.max(0, Math.min(Math.round(t), this.plan ? this.plan.length : 0));
    this.want(this.frame, 0);
    this.dispatchEvent(new Event("time"));
    if (going) this.play(going);
  }

  want(t, speed) {
    if (!this.plan?.length) { this.pictures.clear(); return; }
    t = Math.min(t, this.plan.length - 1);
    const pairs = speed ? this.ahead(t, Math.sign(speed), Math.min(60, AHEAD * Math.abs(speed))) : [...this.ahead(t, 1, 6), ...this.ahead(t - 1, -1, 5)];
    if (this.pictures.exact) this.pictures.want(pairs);
    else this.pictures.want(pairs, speed > 0 ? this.cuts(t, speed) : [], speed !== 0, speed);
  }

  // The picture runs of the next three seconds, for the pool: [recording, first frame, seconds until].
  cuts(t, speed) {
    const out = [];
    for (let i = this.run(t); i < this.plan.pictures.length && out.length < 6; i++) {
      const at = Math.max(this.plan.pictures[i][0], t), wait = (at - t) / this.fps / speed;
      if (wait > 3) break;
      const first = this.picture(this.plan.pictures[i][0] >= this.base ? this.plan.pictures[i][0] : Math.max(this.base ?? t, this.plan.pictures[i][0]));
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
        this.stop(true);
        this.frame = this.speed < 0 ? 0 : Math.max(0, Math.min(t, end));
        this.want(this.frame, 0);
        this.dispatchEvent(new Event("state"));
        this.dispatchEvent(new Event("time"));
        return;
      }
      if (t !== this.frame) { this.frame = t; this.want(t, this.speed); this.dispatchEvent(new Event("time")); }
    }
    this.draw(t);
  }

  draw(t) {
    const p = this.plan.length ? this.picture(t) : null;
    const id = p ? `${p[0]}:${p[1]}` : "black";
    if (id === this.shown && this.pictures.exact) return;
    const c = this.canvas;
    if (!p) { this.paint.fillStyle = "#000"; this.paint.fillRect(0, 0, c.width, c.height); this.shown = id; this.drawn?.(t); return; }
    const f = this.pictures.get(...this.limit(p));
    if (!f && this.pictures.failed && this.shown !== "none") {
      this.paint.fillStyle = "#191816"; this.paint.fillRect(0, 0, c.width, c.height);
      this.paint.fillStyle = "#ece4d5"; this.paint.font = "28px sans-serif"; this.paint.textAlign = "center";
      this.paint.fillText("This recording is not prepared yet", c.width / 2, c.height / 2);
      this.shown = "none";
    }
    if (!f) { if (this.playing && !this.missed) { this.late++; } this.missed = true; return; }
    this.missed = false;
    const w = f.displayWidth || f.videoWidth, h = f.displayHeight || f.videoHeight;
    const k = Math.min(c.width / w, c.height / h), dw = Math.round(w * k), dh = Math.round(h * k);
    if (dw < c.width || dh < c.height) { this.paint.fillStyle = "#000"; this.paint.fillRect(0, 0, c.width, c.height); }
    this.paint.drawImage(f, (c.width - dw) >> 1, (c.height - dh) >> 1, dw, dh);
    this.shown = id;
    this.drawn?.(t);
  }
}
