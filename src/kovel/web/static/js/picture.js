// Exact pictures through WebCodecs: whole groups of pictures are decoded in the order asked for, kept until passed.
import { Recording } from "./media.js";

export class Frames {
  static usable() {
    return typeof VideoDecoder !== "undefined" && isSecureContext;
  }

  constructor() {
    this.kept = new Map(); // "recording:group" -> Map of frame number -> VideoFrame
    this.wants = [];
    this.wanted = new Set(); // the groups of what is asked for
    this.sizes = new Map(); // recording -> frames in a group
    this.decoders = new Map();
    this.busy = false;
    this.failed = null;
    this.exact = true;
  }

  group(id, n) {
    return `${id}:${Math.floor(n / (this.sizes.get(id) || 1))}`;
  }

  // Ask for [recording, frame] pairs, soonest first. Groups in which nothing is asked for any more are closed.
  want(pairs) {
    this.wants = pairs;
    this.wanted = new Set(pairs.map(([id, n]) => this.group(id, n)));
    for (const [g, frames] of this.kept)
      if (!this.wanted.has(g)) {
        for (const f of frames.values()) f.close();
        this.kept.delete(g);
      }
    if (!this.busy) this.pump();
  }

  get(id, n) {
    return this.kept.get(this.group(id, n))?.get(n);
  }

  async pump() {
    this.busy = true;
    let again = 0; // a group may be let go while it is decoded, and wanted again: decode once more before giving up
    try {
      for (;;) {
        const next = this.wants.find(([id, n]) => !this.get(id, n));
        if (!next) break;
        const [id, n] = next,
          rec = await Recording.of(id);
        if (!this.sizes.has(id)) {
          this.sizes.set(id, rec.facts.gop);
          this.want(this.wants);
        }
        const g = this.group(id, n),
          soon = new Set();
        for (const [i, m] of this.wants) {
          // bytes of the groups after this one
          const other = this.group(i, m);
          if (other === g || soon.has(other) || soon.size > 3) continue;
          soon.add(other);
          Recording.of(i)
            .then((r) => {
              if (r.offsets && m < r.offsets.length - 1) r.gop(Math.floor(m / r.facts.gop));
            })
            .catch(() => {});
        }
        const fault = await this.decode(rec, Math.floor(n / rec.facts.gop)).then(
          () => null,
          (e) => e,
        );
        if (fault) this.drop();
        const got = !this.wanted.has(g) || this.get(id, n);
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
          const n = Math.round(f.timestamp / 1000),
            g = this.group(rec.id, n);
          if (!this.kept.has(g) && this.wanted.has(g)) this.kept.set(g, new Map());
          if (this.wanted.has(g) && !this.kept.get(g).has(n)) this.kept.get(g).set(n, f);
          else f.close();
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

  // Decode group k of a recording. Time stamps carry the frame number (in ms).
  async decode(rec, k) {
    const bytes = new Uint8Array(await rec.gop(k));
    const d = this.decoder(rec);
    const a = k * rec.facts.gop,
      end = Math.min(a + rec.facts.gop, rec.offsets.length - 1);
    for (let i = a; i < end; i++) {
      const from = rec.offsets[i] - rec.offsets[a];
      d.decode(
        new EncodedVideoChunk({
          type: i === a ? "key" : "delta",
          timestamp: i * 1000,
          duration: 1000,
          data: bytes.subarray(from, from + rec.offsets[i + 1] - rec.offsets[i]),
        }),
      );
    }
    await d.flush();
  }

  clear() {
    this.want([]);
  }
}
