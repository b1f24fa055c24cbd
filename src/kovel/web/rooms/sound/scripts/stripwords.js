// The words under the strip's dialogue: fetched by stretches as they come into view, drawn where they are said.

export const WORDS = 17; // pixels they take

export class Said {
  /** By stretch; null while it is asked for. @type {Map<number, [number, number, string][]|null>} */ stretches =
    new Map();

  /** @param {import("./strip.js").Strip} strip */
  constructor(strip) {
    this.strip = strip;
  }

  /** @param {number} w @param {number} a @param {number} b */
  paint(w, a, b) {
    const { g, tall, ink, px } = this.strip,
      y = tall.dialogue.y + tall.dialogue.size - WORDS;
    g.fillStyle = ink.sheet;
    g.fillRect(0, y, w, WORDS - 1);
    if (px < 0.55) return;
    g.font = "12.5px 'Kovel Serif', serif";
    g.fillStyle = ink.ink;
    let last = -1e9,
      left = false; // a word since the last one that was left out
    for (const [f, , text] of this.between(a, b)) {
      const x = this.strip.x(f);
      if (x < last) {
        if (left) g.fillText("…", last - 3, y + 8);
        left = false;
        continue;
      }
      g.fillText(text, x, y + 8);
      last = x + g.measureText(text).width + 4;
      left = true;
    }
  }

  /**
   * Words that begin in story frames [a, b), as far as they are here; the rest is asked for.
   * @param {number} a @param {number} b
   */
  between(a, b) {
    const out = [],
      step = 2000;
    for (let k = Math.max(0, Math.floor(a / step)); k * step < Math.min(b, this.strip.data.length); k++) {
      const rows = this.stretches.get(k);
      if (rows) out.push(...rows);
      else if (rows === undefined) {
        this.stretches.set(k, null);
        fetch(`${this.strip.base}/words?a=${k * step}&b=${(k + 1) * step}`)
          .then((r) => r.json())
          .then((got) => {
            this.stretches.set(
              k,
              got.filter((/** @type {[number, string]} */ [f]) => f >= k * step),
            );
            this.strip.draw();
          })
          .catch(() => this.stretches.delete(k));
      }
    }
    return out;
  }
}
