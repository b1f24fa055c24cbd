// What the player needs of each recording: facts, packet index, raw sound by range. Fetched once, kept.
const known = new Map();

/**
 * @typedef {object} Facts what the server says of a recording
 * @property {[number, number]} rate
 * @property {number|null} frames
 * @property {boolean} picture
 * @property {number} first offset of the first packet
 * @property {string} codec
 * @property {number} width
 * @property {number} height
 * @property {string} avcc
 * @property {number} gop frames a group
 * @property {number} channels
 * @property {number} samples at 48 kHz
 */

export class Recording {
  /** @type {number} */ id;
  /** @type {Facts} */ facts;
  /** Frames a second. */ rate = 0;
  /** Frames there are. */ frames = 1;
  /** @type {Float64Array} */ offsets;
  /** @type {VideoDecoderConfig} */ config;
  /** @type {Map<number, Promise<ArrayBuffer>>} */ gops = new Map();
  /** @type {Map<number, Promise<Int16Array>>} */ seconds = new Map();

  static of(id) {
    if (!known.has(id)) {
      const p = Recording.load(id);
      known.set(id, p);
      p.catch(() => known.delete(id));
    }
    return known.get(id);
  }

  static async load(id) {
    const r = new Recording();
    r.id = id;
    const answer = await fetch(`/media/${id}/media.json`);
    if (!answer.ok) throw new Error("not ready");
    r.facts = await answer.json();
    r.rate = r.facts.rate[0] / r.facts.rate[1];
    r.frames = r.facts.frames ?? 1;
    if (r.facts.picture) {
      const sizes = new Uint32Array(await (await fetch(`/media/${id}/proxy.idx`)).arrayBuffer());
      r.offsets = new Float64Array(sizes.length + 1);
      r.offsets[0] = r.facts.first;
      for (let i = 0; i < sizes.length; i++) r.offsets[i + 1] = r.offsets[i] + sizes[i];
      r.config = {
        codec: r.facts.codec,
        codedWidth: r.facts.width,
        codedHeight: r.facts.height,
        optimizeForLatency: true,
        description: Uint8Array.from(atob(r.facts.avcc), (c) => c.charCodeAt(0)),
      };
    }
    return r;
  }

  clamp(n) {
    return Math.max(0, Math.min(n, this.offsets.length - 2));
  }

  // The packets of one group of pictures: a promise of bytes. About 200 are kept.
  gop(k) {
    let p = this.gops.get(k);
    if (!p) {
      const a = this.offsets[k * this.facts.gop];
      const b = this.offsets[Math.min((k + 1) * this.facts.gop, this.offsets.length - 1)];
      p = range(`/media/${this.id}/proxy.mp4`, a, b);
      p.catch(() => this.gops.delete(k));
      this.gops.set(k, p);
      if (this.gops.size > 200) this.gops.delete(this.gops.keys().next().value);
    }
    return p;
  }

  // One second of raw sound: a promise of Int16Array, shorter at the end. About 60 are kept.
  second(s) {
    let p = this.seconds.get(s);
    if (!p) {
      const step = 48000 * 2 * this.facts.channels;
      const end = Math.min((s + 1) * step, this.facts.samples * 2 * this.facts.channels);
      p =
        s * step < end && s >= 0
          ? range(`/media/${this.id}/sound.pcm`, s * step, end).then((b) => new Int16Array(b))
          : Promise.resolve(new Int16Array(0));
      p.catch(() => this.seconds.delete(s));
      this.seconds.set(s, p);
      if (this.seconds.size > 60) this.seconds.delete(this.seconds.keys().next().value);
    }
    return p;
  }
}

async function range(url, a, b) {
  const r = await fetch(url, { headers: { Range: `bytes=${a}-${b - 1}` } });
  if (!r.ok) throw new Error(`${url}: ${r.status}`);
  return r.arrayBuffer();
}
