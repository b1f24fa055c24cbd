// Draws the layers of a frame on the player's canvas, as the renderer does; fetches what titles and cards look like.
import { EVERYWHERE, WHOLE, around, drawPart, drifted } from "./framing.js";
import { Recording } from "./media.js";
import { imageOf } from "./nested.js";

export class Drawing {
  /** Titles and cards as pictures, by address. @type {Map<string, ImageBitmap|null>} */ cards = new Map();

  /** @param {import("./player.js").Player} player */
  constructor(player) {
    this.player = player;
    this.canvas = player.canvas;
    this.paint = player.paint;
  }

  // The left half without looks, beside the right one with them.
  /** @param {any} layers @param {Map<any, any>} images */
  half(layers, images) {
    const c = this.canvas,
      g = this.paint;
    g.save();
    g.beginPath();
    g.rect(0, 0, c.width / 2, c.height);
    g.clip();
    for (const l of layers) this.layer(imageOf(this.player, images, l, true), { ...l, look: undefined });
    g.restore();
    g.globalAlpha = 1;
    g.fillStyle = "#ece4d5";
    g.fillRect(c.width / 2 - 1, 0, 2, c.height);
  }

  // Until a picture is made: the small frame nearest to it, with a quiet mark.
  /** @param {any} layer */
  nearest({ id, n }) {
    const rec = Recording.here(id),
      small = rec && !rec.facts.whole && rec.near(n),
      key = `near ${id} ${small && small.image.src} ${small && small.x} ${small && small.y}`;
    if (!small || this.player.shown === key) return;
    const c = this.canvas,
      g = this.paint,
      k = Math.min(c.width / small.width, c.height / small.height),
      [w, h] = [small.width * k, small.height * k];
    g.fillStyle = "#000";
    g.fillRect(0, 0, c.width, c.height);
    g.drawImage(
      small.image,
      small.x,
      small.y,
      small.width,
      small.height,
      (c.width - w) / 2,
      (c.height - h) / 2,
      w,
      h,
    );
    this.waiting();
    this.player.shown = key;
  }

  // Three dots in the corner: the picture is not here yet.
  waiting() {
    const c = this.canvas,
      g = this.paint;
    g.fillStyle = "rgba(25, 24, 22, 0.72)";
    g.fillRect(c.width - 66, 14, 52, 26);
    g.fillStyle = "#ece4d5";
    for (let i = 0; i < 3; i++) g.fillRect(c.width - 54 + i * 12, 25, 5, 5);
  }

  // One layer over what is there, by its opacity, as the renderer draws it.
  /** @param {any} f @param {import("./plan.js").SeenLayer} seen */
  layer(f, { share, part, place, look, k, title }, g = this.paint) {
    const c = g.canvas;
    if (!share) return;
    g.globalAlpha = share;
    if (f === "black") {
      g.fillStyle = "#000";
      g.fillRect(place[0] * c.width, place[1] * c.height, place[2] * c.width, place[3] * c.height);
      return;
    }
    if (title) {
      const [dx, dy] = drifted(part, k);
      g.drawImage(f, Math.round(dx * c.width), Math.round(dy * c.height));
      return;
    }
    const fw = f.displayWidth || f.videoWidth || f.width,
      fh = f.displayHeight || f.videoHeight || f.height;
    const image = look ? this.player.looks.drawn(f, fw, fh, look, c.width * (part.zoom / 100)) : f;
    if (part !== WHOLE || place !== EVERYWHERE) {
      const size = image === f ? [fw, fh] : [image.width, image.height];
      drawPart(g, image, size[0], size[1], part, place, k);
      return;
    }
    const fit = Math.min(c.width / fw, c.height / fh),
      dw = Math.round(fw * fit),
      dh = Math.round(fh * fit);
    const [x, y] = [(c.width - dw) >> 1, (c.height - dh) >> 1];
    if (dw < c.width || dh < c.height) {
      const hole = [x, y, x + dw, y, x + dw, y + dh, x, y + dh];
      around(g, [0, 0, c.width, c.height], [hole.slice(0, 2), hole.slice(2, 4), hole.slice(4, 6), hole.slice(6)]);
    }
    g.drawImage(image, x, y, dw, dh);
  }

  // The picture of a title at the canvas's size, as many letters of it as are written; null until it is there.
  /** @param {any} layer */
  title({ title, letters, k }) {
    const all = title.text.replaceAll("\n", "").length,
      n = letters
        ? Math.floor(all * Math.min(1, Math.max(0, (letters[0] + k * letters[1]) / letters[2])) + 1e-9)
        : null;
    const { width, height } = this.canvas,
      of = JSON.stringify(title);
    const ask = (/** @type {number|null} */ m) => {
      const asked = new URLSearchParams({ of, width: String(width), height: String(height) });
      if (m !== null) asked.set("letters", String(m));
      return this.fetched(`/p/${this.player.plan.project}/title.png?${asked}`);
    };
    if (n !== null) for (let m = n; m <= Math.min(all, n + 8); m++) ask(m);
    return ask(n);
  }

  /** The image of what is no recording's: a title, a card, black; null until it is there. @param {any} layer */
  made(layer) {
    if (layer.title) return this.title(layer);
    return layer.card ? this.card(layer.card) : "black";
  }

  /** That there is nothing to show. @param {string} text */
  told(text) {
    const { canvas, paint } = this;
    paint.fillStyle = "#191816";
    paint.fillRect(0, 0, canvas.width, canvas.height);
    paint.fillStyle = "#ece4d5";
    paint.font = "28px sans-serif";
    paint.textAlign = "center";
    paint.fillText(text, canvas.width / 2, canvas.height / 2);
  }

  /** @param {string} url */
  fetched(url) {
    if (!this.cards.has(url)) {
      this.cards.set(url, null);
      fetch(url)
        .then((r) => (r.ok ? r.blob() : Promise.reject(new Error(r.statusText))))
        .then(createImageBitmap)
        .then((b) => this.cards.set(url, b))
        .catch(() => setTimeout(() => this.cards.delete(url), 2000)); // another try, but not with every frame
    }
    return this.cards.get(url);
  }

  // The picture of a card, made by the server; null until it is there.
  /** @param {any[]} card */
  card(card) {
    return this.fetched(
      `/p/${this.player.plan.project}/card.png?${new URLSearchParams({ colour: card[0], text: card[1] })}`,
    );
  }
}
