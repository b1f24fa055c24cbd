// Sound of a plan: half-second blocks mixed from raw samples exactly as the renderer does, scheduled on the sample.
import { Recording } from "./media.js";

export const RATE = 48000;
const BLOCK = RATE / 2;

// Samples [a, b) of the plan as two Float32Arrays: each sound's samples times its gain and its ramps.
export async function mix(plan, a, b) {
  const out = [new Float32Array(b - a), new Float32Array(b - a)];
  for (const [at, end, source, start, gain] of plan.sounds) {
    const lo = Math.max(a, at), hi = Math.min(b, end);
    if (lo >= hi) continue;
    const rec = await Recording.of(source);
    const ch = rec.facts.channels;
    let x = start + lo - at, i = lo; // recording's sample, plan's sample
    while (i < hi) {
      const s = Math.floor(x / RATE);
      const data = await rec.second(s);
      const n = Math.min(hi - i, (s + 1) * RATE - x);
      for (let k = 0; k < n; k++) {
        const j = (x + k - s * RATE) * ch, q = i + k - at;
        if (j >= data.length) break;
        const g = Math.min(Math.min(q, end - at - q) / plan.ramp, 1) * gain;
        out[0][i + k - a] += (data[j] / 32768) * g;
        out[1][i + k - a] += (data[j + ch - 1] / 32768) * g;
      }
      i += n; x += n;
    }
  }
  return out;
}

export class Sound {
  constructor() { this.context = null; this.nodes = []; this.run = 0; }

  // Audio contexts must be opened by a gesture; the first press of play is one.
  async open() {
    if (!this.context) this.context = new AudioContext({ sampleRate: RATE, latencyHint: "interactive" });
    if (this.context.state !== "running") await Promise.race([this.context.resume(), new Promise((r) => setTimeout(r, 250))]);
    return this.context.state === "running";
  }

  // Mix the first block from sample `from` on, so that `start` can begin at once.
  async ready(plan, from) {
    this.stop();
    this.plan = plan; this.next = from;
    this.first = from < plan.samples ? await mix(plan, from, Math.min(plan.samples, from + BLOCK)) : null;
  }

  // Begin at context time `when` (seconds, on a sample) with `speed`; keeps a second and a half ahead.
  start(when, from, speed) {
    const run = ++this.run;
    const put = (pair, at) => {
      const buffer = this.context.createBuffer(2, pair[0].length, RATE);
      buffer.copyToChannel(pair[0], 0); buffer.copyToChannel(pair[1], 1);
      const node = this.context.createBufferSource();
      node.buffer = buffer; node.playbackRate.value = speed;
      node.connect(this.context.destination);
      const t = when + (at - from) / RATE / speed;
      if (t >= this.context.currentTime) node.start(t);
      else node.start(0, (this.context.currentTime - t) * speed);
      node.onended = () => { this.nodes = this.nodes.filter((n) => n !== node); };
      this.nodes.push(node);
    };
    if (this.first) put(this.first, from);
    let at = from + (this.first ? this.first[0].length : 0);
    const fill = async () => {
      while (run === this.run && at < this.plan.samples) {
        const due = when + (at - from) / RATE / speed;
        if (due > this.context.currentTime + 1.5) { await new Promise((r) => setTimeout(r, 100)); continue; }
        const end = Math.min(this.plan.samples, at + BLOCK);
        const pair = await mix(this.plan, at, end);
        if (run !== this.run) return;
        put(pair, at);
        at = end;
      }
    };
    fill().catch(() => {});
  }

  stop() {
    this.run++;
    for (const n of this.nodes) { n.onended = null; try { n.stop(); } catch { /* not started */ } n.disconnect(); }
    this.nodes = [];
  }
}
