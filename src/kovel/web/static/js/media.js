// What the player needs of each recording: facts, pieces of its picture, raw sound by range. Fetched once, kept.
import { say } from "./base.js";
import { Kept } from "./kept.js";

/**
 * @typedef {object} Small small frames there are, on sheets of ten by ten
 * @property {number} every frames between two
 * @property {number} count
 * @property {number} width
 * @property {number} height
 * @property {string} name of the sheets
 */
/**
 * @typedef {object} Facts what the server says of a recording, as far as it is made
 * @property {[number, number]} rate
 * @property {number|null} frames
 * @property {boolean} picture
 * @property {boolean} whole
 * @property {boolean} sounded
 * @property {number} gop frames a group
 * @property {number} piece frames a piece
 * @property {number} channels
 * @property {number} samples at 48 kHz
 * @property {Small} [small]
 * @property {string} mended what was found short of it and is being made again
 */

/** @type {Map<number, Promise<Recording>>} */ const known = new Map();
/** @type {Map<number, Recording>} */ const loaded = new Map();
const PICTURES = new Kept(80_000_000);
const SOUNDS = new Kept(40_000_000);
const STAYS = 300; // ms after which somebody is taken to stay where he is

/** A piece of a recording's picture (media/pieces.py): frames from `first` on. */
export class Piece {
  /** @param {ArrayBuffer} buffer @param {number} first */
  constructor(buffer, first) {
    const view = new DataView(buffer),
      setup = view.getUint32(12, true);
    this.first = first;
    this.width = view.getUint32(4, true);
    this.height = view.getUint32(8, true);
    this.count = view.getUint32(16, true);
    this.setup = new Uint8Array(buffer, 20, setup);
    this.edges = [20 + setup + 4 * this.count];
    for (let i = 0; i < this.count; i++) this.edges.push(this.edges[i] + view.getUint32(20 + setup + 4 * i, true));
    this.buffer = buffer;
  }

  /** The packet of its i-th frame. @param {number} i */
  packet(i) {
    return new Uint8Array(this.buffer, this.edges[i], this.edges[i + 1] - this.edges[i]);
  }

  /** @returns {VideoDecoderConfig} */
  get config() {
    const hex = [...this.setup.subarray(1, 4)].map((x) => x.toString(16).padStart(2, "0"));
    return {
      codec: `avc1.${hex.join("")}`,
      codedWidth: this.width,
      codedHeight: this.height,
      optimizeForLatency: true,
      description: this.setup,
      colorSpace: { matrix: "bt709", primaries: "bt709", transfer: "bt709", fullRange: false },
    };
  }
}

export class Recording {
  /** @type {number} */ id = 0;
  /** @type {Facts} */ facts = /** @type {any} */ (null);
  /** Frames a second. */ rate = 0;
  /** Frames there are, as far as known. */ frames = 1;
  /** What was said of it last. */ told = "";
  /** @type {Map<number, Promise<Piece>>} */ pieces = new Map();
  /** Pieces that are asked for and not there yet. @type {Map<number, AbortController>} */ coming = new Map();
  /** The piece asked for last. */ latest = -1;
  /** By what it is a second of. @type {Map<string, Promise<Int16Array>>} */ seconds = new Map();
  /** Sheets of small frames. @type {Map<number, HTMLImageElement>} */ sheets = new Map();

  /** @returns {Promise<Recording>} @param {number} id */
  static of(id) {
    if (!known.has(id)) {
      const p = Recording.load(id);
      known.set(id, p);
      p.catch(() => known.delete(id));
    }
    return /** @type {Promise<Recording>} */ (known.get(id));
  }

  /** A recording whose facts are here already. @param {number} id */
  static here(id) {
    return loaded.get(id);
  }

  /** @param {number} id */
  static async load(id) {
    const r = new Recording();
    r.id = id;
    await r.learn();
    loaded.set(id, r);
    return r;
  }

  /** The facts as they are now. */
  async learn() {
    const answer = await fetch(`/media/${this.id}/media.json`);
    if (!answer.ok) throw new Error("not ready");
    this.facts = await answer.json();
    this.rate = this.facts.rate[0] / this.facts.rate[1];
    this.frames = this.facts.frames ?? 1;
    if (this.facts.mended && this.facts.mended !== this.told) say((this.told = this.facts.mended), true);
  }

  /** @param {number} n */
  clamp(n) {
    return Math.max(0, Math.min(n, this.frames - 1));
  }

  /**
   * Piece k: a promise. One that is not made yet is made for whoever asks; the one after it is asked for as well.
   * @param {number} k
   */
  piece(k, ahead = true) {
    const key = `${this.id} ${k}`;
    let p = this.pieces.get(k);
    if (p) PICTURES.use(key);
    else {
      const stop = new AbortController();
      this.coming.set(k, stop);
      p = this.fetch(k, stop.signal).finally(() => this.coming.delete(k));
      p.catch(() => this.pieces.delete(k));
      this.pieces.set(k, p);
      p.then(
        (piece) => PICTURES.add(key, piece.buffer.byteLength, () => this.pieces.delete(k)),
        () => {},
      );
    }
    if (ahead && !this.facts.whole) {
      this.latest = k;
      p.then(
        () => setTimeout(() => this.after(k), STAYS),
        () => {},
      );
    }
    return p;
  }

  // Whoever stays where piece k is will want the next one.
  /** @param {number} k */
  after(k) {
    if (this.latest === k && (k + 1) * this.facts.piece < this.frames) this.piece(k + 1, false).catch(() => {});
  }

  /** @param {number} k @param {AbortSignal} signal */
  async fetch(k, signal) {
    const r = await fetch(`/media/${this.id}/pieces/${k}`, { signal });
    if (!r.ok) throw new Error(`piece ${k} of recording ${this.id}: ${r.status}`);
    const piece = new Piece(await r.arrayBuffer(), k * this.facts.piece);
    if (piece.count < this.facts.piece) this.frames = piece.first + piece.count; // it is the last one
    return piece;
  }

  /** Whoever asked for other pieces than these is elsewhere now. @param {Set<number>} wanted */
  onlyWanted(wanted) {
    for (const [k, stop] of this.coming) if (!wanted.has(k) && !wanted.has(k - 1)) stop.abort();
  }

  /**
   * The small frame nearest to frame n, if its sheet is here: what is drawn until the picture is there.
   * @param {number} n
   */
  near(n) {
    const s = this.facts.small;
    if (!s?.count) return null;
    const i = Math.min(Math.floor(n / s.every), s.count - 1),
      sheet = Math.floor(i / 100),
      at = i % 100;
    let image = this.sheets.get(sheet);
    if (!image) {
      image = new Image();
      image.src = `/media/${this.id}/${s.name || "small"}-${sheet}.jpg`;
      this.sheets.set(sheet, image);
    }
    if (!image.complete || !image.naturalWidth) return null;
    return { image, x: (at % 10) * s.width, y: Math.floor(at / 10) * s.height, width: s.width, height: s.height };
  }

  // One second of sound, raw or (`made`) of one made of it: a promise of Int16Array, shorter at the end. While a made
  // sound is not there yet, the raw one is heard.
  /** @param {number} s */
  second(s, made = "") {
    const key = `${made} ${s}`;
    let p = this.seconds.get(key);
    if (p) SOUNDS.use(`${this.id} ${key}`);
    else {
      p = this.heard(s, made);
      this.seconds.set(key, p);
      p.then(
        (x) => SOUNDS.add(`${this.id} ${key}`, x.byteLength, () => this.seconds.delete(key)),
        () => this.seconds.delete(key),
      );
    }
    return p;
  }

  /** @param {number} s @param {string} made */
  async heard(s, made) {
    const step = 48000 * 2 * this.facts.channels,
      a = s * step,
      key = `${made} ${s}`;
    if (made.startsWith("pace-")) return new Int16Array(a < 0 ? [] : await this.paced(made, a, a + step, key));
    let b = Math.min(a + step, this.facts.samples * 2 * this.facts.channels);
    if (b - a < step && !this.facts.sounded) {
      await this.learn(); // it grows
      b = Math.min(a + step, this.facts.samples * 2 * this.facts.channels);
      if (b - a < step && !this.facts.sounded) this.seconds.delete(key); // not all of it yet: asked for again
    }
    if (a < 0 || b <= a) return new Int16Array(0);
    let bytes = new ArrayBuffer(0);
    try {
      bytes = await (made ? this.ofMade(made, a, b, key) : range(`/media/${this.id}/sound.pcm`, a, b));
    } catch {
      // less than was promised
    }
    if (bytes.byteLength < b - a) {
      await this.learn(); // says what is made again
      setTimeout(() => this.seconds.delete(key), 1000); // it may be there then
    }
    return new Int16Array(bytes, 0, bytes.byteLength >> 1);
  }

  // A second of a sound that is retimed: longer or shorter than the recording's own, and silent until it is made.
  /** @param {any} made @param {number} a @param {number} b @param {string} key */
  async paced(made, a, b, key) {
    try {
      return await range(`/media/${this.id}/made/${made}.pcm`, a, b);
    } catch (e) {
      if (!String(e).endsWith(" 416")) setTimeout(() => this.seconds.delete(key), 700); // it may be there then
      return new ArrayBuffer(0); // or behind its end
    }
  }

  /** @param {any} made @param {number} a @param {number} b @param {string} key */
  async ofMade(made, a, b, key) {
    try {
      return await range(`/media/${this.id}/made/${made}.pcm`, a, b);
    } catch {
      setTimeout(() => this.seconds.delete(key), 2000); // it may be there then
      return range(`/media/${this.id}/sound.pcm`, a, b);
    }
  }
}

/** @param {RequestInfo | URL} url @param {number} a @param {number} b */
async function range(url, a, b) {
  const r = await fetch(url, { headers: { Range: `bytes=${a}-${b - 1}` } });
  if (!r.ok) throw new Error(`${url}: ${r.status}`);
  return r.arrayBuffer();
}
