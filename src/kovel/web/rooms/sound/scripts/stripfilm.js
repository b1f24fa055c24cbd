// The row of small frames over the strip: which are wanted, fetched as they come into view.

export const RULER = 20,
  FRAMES = 42;

export class Film {
  /** By story frame; null while it is asked for, or where there is none. @type {Map<number, any>} */ faces =
    new Map();
  /** @type {Map<string, HTMLImageElement>} */ images = new Map();

  /** @param {import("./strip.js").Strip} strip */
  constructor(strip) {
    this.strip = strip;
  }

  /** @param {number} a @param {number} b */
  paint(a, b) {
    const { g, px, left, data } = this.strip,
      wide = Math.round((FRAMES - 4) * (16 / 9)),
      wanted = [];
    for (let k = Math.max(0, Math.floor((a * px) / wide)); k * wide < Math.min(b, data.length) * px; k++) {
      const t = Math.floor((k * wide) / px),
        f = this.faces.get(t);
      if (f === undefined) wanted.push(t);
      if (!f) continue;
      const image = this.image(f.url);
      if (image.complete && image.naturalWidth) g.drawImage(image, k * wide - left, RULER + 2, wide - 1, FRAMES - 4);
    }
    if (wanted.length) this.askFaces(wanted);
  }

  /** @param {string} url */
  image(url) {
    let image = this.images.get(url);
    if (!image) {
      image = new Image();
      image.onload = () => this.strip.draw();
      image.src = url;
      this.images.set(url, image);
    }
    return image;
  }

  /** @param {any[]} wanted */
  async askFaces(wanted) {
    for (const t of wanted) this.faces.set(t, null);
    const r = await fetch(`${this.strip.base}/faces?at=${wanted.slice(0, 200).join(",")}`);
    if (!r.ok) return;
    for (const [t, face] of await r.json()) this.faces.set(t, face);
    this.strip.draw();
  }
}
