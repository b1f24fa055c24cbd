// Exact pictures through WebCodecs: frames asked for in order are decoded a group at a time and kept until passed.
import { Recording } from "./media.js";

const key = (id, n) => `${id}:${n}`;

export class Frames {
  static usable() { return typeof VideoDecoder !== "undefined" && isSecureContext; }

  constructor() {
    this.kept = new Map(); // "recording:frame" -> VideoFrame
    this.wants = [];
    this.wanted = new Set();
    this.decoders = new Map();
    this.busy = false;
    this.failed = null;
    this.exact = true;
  }

  // Ask for [recording, frame] pairs, soonest first. Frames no longer asked for are closed.
  want(pairs) {
    this.wants = pairs;
    this.wanted = new Set(pairs.map(([id, n]) => key(id, n)));
    for (const [k, f] of this.kept) if (!this.wanted.has(k)) { f.close(); this.kept.delete(k); }
    if (!this.busy) this.pump();
  }

  get(id, n) { return this.kept.get(key(id, n)); }

  async pump() {
    this.busy = true;
    let again = 0; // a frame may be given back while nobody wants it, and wanted again after: decode once more before giving up
    try {
      for (;;) {
        const next = this.wants.find(([id, n]) => !this.kept.has(key(id, n)));
        if (!next) break;
        const [id, n] = next;
        const rec = await Recording.of(id);
        const k = Math.floor(n / rec.facts.gop);
        let last = n, ahead = 0, seen = `${id}:${k}`;
        for (const [i, m] of this.wants) {
          const g = Math.floor(m / rec.facts.gop);
          if (i === id && g === k) last = Math.max(last, m);
          else if (`${i}:${g}` !== seen && ahead < 4) { // bytes of the groups after this one
            ahead++; seen = `${i}:${g}`;
            Recording.of(i).then((r) => { if (r.offsets && m < r.offsets.length - 1) r.gop(Math.floor(m / r.facts.gop)).catch(() => {}); });
          }
        }
        const fault = await this.decode(rec, k, last).then(() => null, (e) => e);
        if (fault) this.drop();
        const got = !this.wanted.has(key(id, n)) || this.kept.has(key(id, n));
        again = got && !fault ? 0 : again + 1;
        if (again > 3) throw fault || new Error(`no picture ${n} of recording ${id}`);
      }
      this.failed = null;
    } catch (e) {
      this.failed = e;
      this.drop();
    }
    this.busy = false;
  }

  drop() {
    for (const d of this.decoders.values()) if (d.state !== "closed") d.close();
    this.decoders.clear();
  }

  decoder(rec) {
    let d = this.decoders.get(rec.id);
    if (!d || d.state === "closed") {
      d = new VideoDecoder({
        output: (f) => {
          const k = key(rec.id, Math.round(f.timestamp / 1000));
          if (this.wanted.has(k) && !this.kept.has(k)) this.kept.set(k, f); else f.close();
        },
        error: () => this.decoders.delete(rec.id), // what waits for its pictures hears of it and tries again
      });
      d.configure(rec.config);
      this.decoders.set(rec.id, d);
      if (this.decoders.size > 6) {
        const [old, dec] = this.decoders.entries().next().value;
        if (dec.state !== "closed") dec.close();
        this.decoders.delete(old);
      }
    }
    return d;
  }

  // Decode group k of a recording up to frame `last`. Time stamps carry the frame number (in ms).
  async decode(rec, k, last) {
    const bytes = new Uint8Array(await rec.gop(k));
    const d = this.decoder(rec);
    const a = k * rec.facts.gop;
    for (let i = a; i <= last; i++) {
      const from = rec.offsets[i] - rec.offsets[a];
      d.decode(new EncodedVideoChunk({
        type: i === a ? "key" : "delta", timestamp: i * 1000, duration: 1000,
        data: bytes.subarray(from, from + rec.offsets[i + 1] - rec.offsets[i]),
      }));
    }
    await d.flush();
  }

  clear() { this.want([]); }
}
