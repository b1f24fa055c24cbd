// Sound of a plan: half-second blocks mixed from raw samples exactly as the renderer does, scheduled on the sample.
import { Recording } from "./media.js";

export const RATE = 48000;
const BLOCK = RATE / 2;
const SOON = 0.08; // seconds until another plan is heard

// How far a sound has come in after q samples of a ramp: straight when short, a quarter sine (equal power) when longer.
const slope = (/** @type {number} */ q, /** @type {number} */ length, /** @type {number} */ short) => {
  const x = Math.min(q / length, 1);
  return length > short ? Math.sin((x * Math.PI) / 2) : x;
};

// What a gain line multiplies by at sample q: its moments are [sample, dB], straight in dB between them.
/** @param {number[][]} line @param {number} q */
function onLine(line, q) {
  const i = line.findIndex(([at]) => at > q);
  let db = line[i < 0 ? line.length - 1 : Math.max(0, i - 1)][1];
  if (i > 0) {
    const [[a, from], [b, to]] = [line[i - 1], line[i]];
    db = from + ((to - from) * (q - a)) / (b - a);
  }
  return 10 ** (db / 20);
}

// Samples [a, b) of the plan as two Float32Arrays: each sound's samples times its gain and its ramps.
/** @param {Plan} plan @param {number} a @param {number} b */
export async function mix(plan, a, b) {
  const out = [new Float32Array(b - a), new Float32Array(b - a)];
  for (const [at, end, source, start, gain, rise, fall, , more] of plan.sounds) {
    const lo = Math.max(a, at),
      hi = Math.min(b, end);
    if (lo >= hi) continue;
    const rec = await Recording.of(source);
    const ch = rec.facts.channels,
      { line, straight, mix: sides, made } = more || {},
      short = straight ? Infinity : plan.ramp;
    let x = start + lo - at,
      i = lo; // recording's sample, plan's sample
    if (x < 0) {
      i -= x;
      x = 0;
    }
    while (i < hi) {
      const s = Math.floor(x / RATE);
      const data = await rec.second(s, made);
      const n = Math.min(hi - i, (s + 1) * RATE - x);
      for (let k = 0; k < n; k++) {
        const j = (x + k - s * RATE) * ch,
          q = i + k - at;
        if (j >= data.length) break;
        const g =
          Math.min(slope(q, rise, short), slope(end - at - q, fall, short)) * gain * (line ? onLine(line, q) : 1);
        const l = data[j] / 32768,
          r = data[j + ch - 1] / 32768;
        out[0][i + k - a] += (sides ? l * sides[0] + r * sides[1] : l) * g;
        out[1][i + k - a] += (sides ? l * sides[2] + r * sides[3] : r) * g;
      }
      i += n;
      x += n;
    }
  }
  if (plan.dips?.length)
    for (let i = 0; i < b - a; i++) {
      const g = onLine(plan.dips, a + i);
      out[0][i] *= g;
      out[1][i] *= g;
    }
  return out;
}

// Faster without a higher pitch: short windows of the sound are laid closer together, each moved by up to SEEK samples
// to where it fits best what is already there (waveform-similarity overlap-add, Verhelst and Roelands 1993).
const WINDOW = 1440,
  HALF = WINDOW / 2,
  SEEK = 360,
  MANY = Math.floor(BLOCK / HALF);
export class Stretch {
  // `read(a, b)` gives samples [a, b) as two Float32Arrays; `from` is where it begins, `speed` how much faster.
  /**
   * @param {(a: any, b: any) => Promise<Float32Array<ArrayBuffer>[]>} read @param {any} from
   * @param {number} speed
   */
  constructor(read, from, speed) {
    this.read = read;
    this.from = from;
    this.speed = speed;
    this.done = 0;
    this.last = from;
    this.tail = null;
  }

  // The next `count` windows of output, HALF samples each.
  /** @param {number} count */
  async next(count) {
    const first = Math.round(this.from + this.done * HALF * this.speed) - SEEK;
    const a = Math.min(first, this.last + HALF),
      b = Math.round(this.from + (this.done + count) * HALF * this.speed) + WINDOW + SEEK;
    const x = await this.read(a, b),
      out = [new Float32Array(count * HALF), new Float32Array(count * HALF)];
    for (let n = 0; n < count; n++, this.done++) {
      const want = Math.round(this.from + this.done * HALF * this.speed);
      const at = this.done ? this.fit(x[0], x[1], a, want) : want;
      for (let c = 0; c < 2; c++)
        for (let i = 0; i < HALF; i++) {
          const up = this.tail ? i / HALF : 1;
          out[c][n * HALF + i] = x[c][at - a + i] * up + (this.tail ? x[c][this.last + HALF - a + i] * (1 - up) : 0);
        }
      this.last = at;
      this.tail = true;
    }
    return out;
  }

  // Where near `want` the sound goes on most like what follows the last window.
  /** @param {Float32Array} l @param {Float32Array} r @param {number} a @param {number} want */
  fit(l, r, a, want) {
    const goal = this.last + HALF - a;
    let best = 0,
      high = -Infinity;
    for (let d = -SEEK; d <= SEEK; d += 6) {
      const p = want + d - a;
      let dot = 0,
        energy = 1e-9;
      for (let i = 0; i < HALF; i += 6) {
        const v = l[p + i] + r[p + i];
        dot += v * (l[goal + i] + r[goal + i]);
        energy += v * v;
      }
      const score = dot / Math.sqrt(energy);
      if (score > high) {
        high = score;
        best = d;
      }
    }
    return want + best;
  }
}

// Samples [a, b) of a plan where a may lie before its start and b after its end.
/** @param {Plan} plan @param {number} a @param {number} b */
async function padded(plan, a, b) {
  const lo = Math.max(0, a),
    hi = Math.min(plan.samples, b),
    out = [new Float32Array(b - a), new Float32Array(b - a)];
  if (hi > lo) {
    const x = await mix(plan, lo, hi);
    out[0].set(x[0], lo - a);
    out[1].set(x[1], lo - a);
  }
  return out;
}

export class Sound {
  constructor() {
    /** @type {any} the AudioContext, once it is open */ this.context = null;
    /** Everything that is heard goes through here. @type {GainNode|null} */
    this.out = null;
    /** @type {any[]} */
    this.nodes = [];
    this.run = 0;
    /** How often it was begun, stopped or given another plan. */ this.changes = 0;
    /** When it began (context time), from which sample of the plan, how fast. */ this.began = {
      when: 0,
      from: 0,
      speed: 1,
    };
  }

  // Audio contexts must be opened by a gesture; the first press of play is one.
  async open() {
    if (!this.context) {
      this.context = new AudioContext({ sampleRate: RATE, latencyHint: "interactive" });
      const out = this.context.createGain();
      this.out = out;
      out.connect(this.context.destination);
    }
    if (this.context.state !== "running")
      await Promise.race([this.context.resume(), new Promise((r) => setTimeout(r, 250))]);
    return this.context.state === "running";
  }

  // Mix the first block from sample `from` on, so that `start` can begin at once.
  /** @param {Plan} plan @param {number} from */
  async ready(plan, from, speed = 1) {
    this.stop();
    this.plan = plan;
    this.stretch =
      speed === 1
        ? null
        : new Stretch((/** @type {any} */ a, /** @type {any} */ b) => padded(plan, a, b), from, speed);
    if (this.stretch) this.first = await this.stretch.next(MANY);
    else this.first = from < plan.samples ? await mix(plan, from, Math.min(plan.samples, from + BLOCK)) : null;
  }

  // Begin at context time `when` (seconds, on a sample) with `speed`; keeps a second and a half ahead.
  /** @param {number} when @param {number} from @param {number} speed */
  start(when, from, speed) {
    this.began = { when, from, speed };
    this.changes++;
    this.go(this.first ?? null, 0, when);
  }

  // From sample `at` of the output on (`first` is mixed already), at context time `t` or as soon as it can be.
  /** @param {Float32Array<ArrayBuffer>[]|null} first @param {number} at @param {number} t */
  go(first, at, t) {
    const run = ++this.run,
      { when, from, speed } = this.began,
      { stretch } = this,
      plan = /** @type {Plan} */ (this.plan);
    const put = (
      /** @type {Float32Array<ArrayBuffer>[]} */ pair,
      /** @type {number} */ at,
      /** @type {number} */ t,
    ) => {
      const buffer = this.context.createBuffer(2, pair[0].length, RATE);
      buffer.copyToChannel(pair[0], 0);
      buffer.copyToChannel(pair[1], 1);
      const node = this.context.createBufferSource();
      node.buffer = buffer;
      node.connect(this.out ?? this.context.destination);
      const begin = Math.max(t, this.context.currentTime);
      node.start(begin, Math.max(0, begin - when - at / RATE));
      node.onended = () => {
        this.nodes = this.nodes.filter((n) => n !== node);
      };
      this.nodes.push(node);
    };
    if (first) put(first, at, t);
    at += first ? first[0].length : 0;
    const total = Math.floor((plan.samples - from) / speed);
    const fill = async () => {
      while (run === this.run && at < total) {
        if (when + at / RATE > this.context.currentTime + 1.5) {
          await new Promise((r) => setTimeout(r, 100));
          continue;
        }
        const pair = await (stretch
          ? stretch.next(MANY)
          : mix(plan, from + at, Math.min(plan.samples, from + at + BLOCK)));
        if (run !== this.run) return;
        put(pair, at, when + at / RATE);
        at += pair[0].length;
      }
    };
    fill().catch(() => {});
  }

  // Another plan while it plays: what is heard goes over to it within a tenth of a second, on the sample; what was
  // scheduled plays until then.
  /** @param {Plan} plan */
  async change(plan) {
    const mine = ++this.changes,
      { when, from } = this.began,
      at = Math.ceil((this.context.currentTime + SOON - when) * RATE),
      end = Math.min(plan.samples, from + at + BLOCK);
    const pair = from + at < end ? await mix(plan, from + at, end) : null;
    if (mine !== this.changes) return; // stopped, begun anew or changed once more since
    const t = Math.max(when + at / RATE, this.context.currentTime + 0.005);
    for (const n of this.nodes) n.stop(t);
    this.plan = plan;
    this.go(pair, at, t);
  }

  stop() {
    this.run++;
    this.changes++;
    for (const n of this.nodes) {
      n.onended = null;
      try {
        n.stop();
      } catch {
        /* not started */
      }
      n.disconnect();
    }
    this.nodes = [];
  }
}
