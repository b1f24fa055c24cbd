// Exact pictures through WebCodecs: whole groups of pictures are decoded in the order asked for, kept until passed.
import { Recording } from "./media.js";

const DECODERS = 4; // each holds some 30 MB

export class Frames {
  static usable() {
    return typeof VideoDecoder !== "undefined" && isSecureContext;
  }

  constructor() {
    this.kept = new Map(); // "recording:group" -> Map of frame number -> VideoFrame
    /** @type {any[]} */
    this.wants = [];
    this.wanted = new Map(); // the groups of what is asked for -> the first frame of each that is
    this.onwards = false; // it plays forwards
    this.sizes = new Map(); // recording -> frames in a group
    this.ends = new Map(); // recording -> its last frame, once that was met
    this.decoders = new Map();
    this.setups = new WeakMap(); // decoder -> what it is set up for
    this.busy = false;
    this.failed = null;
    this.exact = true;
  }

  /** @param {number} id @param {number} n */
  group(id, n) {
    return `${id}:${Math.floor(n / (this.sizes.get(id) || 1))}`;
  }

  // Ask for [recording, frame] pairs, soonest first. Groups in which nothing is asked for any more are closed; and
  // where it plays on, those of a group's frames that lie before all that are asked for.
  /** @param {[number, number][]} pairs @param {any} [onwards] it plays forwards */
  want(pairs, onwards = false) {
    this.wants = pairs;
    this.onwards = onwards;
    this.wanted = new Map();
    for (const [id, m] of pairs) {
      const n = Math.min(m, this.ends.get(id) ?? m),
        g = this.group(id, n);
      this.wanted.set(g, Math.min(n, this.wanted.get(g) ?? n));
    }
    this.letGo(pairs);
    for (const [g, frames] of this.kept) {
      for (const [n, f] of frames)
        if (!this.useful(g, n)) {
          f.close();
          frames.delete(n);
        }
      if (!this.wanted.has(g)) this.kept.delete(g);
    }
    if (!this.busy) this.pump();
  }

  /** @param {string} g @param {number} n */
  useful(g, n) {
    const first = this.wanted.get(g);
    return first !== undefined && (!this.onwards || n >= first);
  }

  /** @param {any} id @param {number} n */
  get(id, n) {
    const last = this.ends.get(id); // the recording turned out to end before that
    if (last !== undefined && n > last) n = last;
    return this.kept.get(this.group(id, n))?.get(n);
  }

  // Pieces that are being made for nobody any more need not be waited for.
  /** @param {[number, number][]} pairs */
  letGo(pairs) {
    const wanted = new Map();
    for (const [id, n] of pairs) {
      const rec = Recording.here(id);
      if (!rec || rec.facts.whole) continue;
      if (!wanted.has(rec)) wanted.set(rec, new Set());
      wanted.get(rec).add(Math.floor(n / rec.facts.piece));
    }
    for (const [rec, pieces] of wanted) rec.onlyWanted(pieces);
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
          this.want(this.wants, this.onwards);
        }
        const g = this.group(id, n),
          soon = new Set();
        for (const [i, m] of this.wants) {
          // bytes of the groups after this one
          const other = this.group(i, m);
          if (other === g || soon.has(other) || soon.size > 3) continue;
          soon.add(other);
          Recording.of(i)
            .then((r) => (r.facts.picture && m < r.frames ? r.piece(Math.floor(m / r.facts.piece)) : undefined))
            .catch(() => {});
        }
        const fault = await this.decode(rec, Math.floor(n / rec.facts.gop)).then(
          () => null,
          (e) => e,
        );
        if (fault?.name === "AbortError") continue; // somebody went elsewhere
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

  /** @param {Recording} rec @param {import("./media.js").Piece} piece */
  decoder(rec, piece) {
    let d = this.decoders.get(rec.id);
    if (!d || d.state === "closed" || this.setups.get(d) !== String(piece.setup)) {
      if (d && d.state !== "closed") d.close();
      d = new VideoDecoder({
        output: (f) => {
          const n = Math.round(f.timestamp / 1000),
            g = this.group(rec.id, n);
          if (!this.kept.has(g) && this.wanted.has(g)) this.kept.set(g, new Map());
          if (this.useful(g, n) && !this.kept.get(g).has(n)) this.kept.get(g).set(n, f);
          else f.close();
        },
        error: () => this.decoders.delete(rec.id), // what waits for its pictures hears of it and tries again
      });
      d.configure(piece.config);
      this.setups.set(d, String(piece.setup));
      this.decoders.set(rec.id, d);
      if (this.decoders.size > DECODERS) {
        const [old, dec] = [...this.decoders][0];
        if (dec.state !== "closed") dec.close();
        this.decoders.delete(old);
      }
    }
    return d;
  }

  // Decode group k of a recording. Time stamps carry the frame number (in ms).
  /** @param {Recording} rec @param {number} k */
  async decode(rec, k) {
    const { gop, piece: size } = rec.facts,
      piece = await rec.piece(Math.floor((k * gop) / size));
    if (piece.count < size && !this.ends.has(rec.id)) {
      this.ends.set(rec.id, piece.first + piece.count - 1);
      this.want(this.wants, this.onwards);
    }
    const d = this.decoder(rec, piece),
      a = k * gop - piece.first,
      end = Math.min(a + gop, piece.count);
    for (let i = a; i < end; i++) {
      const timestamp = (piece.first + i) * 1000,
        type = i === a ? "key" : "delta";
      d.decode(new EncodedVideoChunk({ type, timestamp, duration: 1000, data: piece.packet(i) }));
    }
    await d.flush();
  }

  clear() {
    this.want([]);
  }
}
