// Peak and momentary loudness of what is played. The weighting's figures come from the server (ITU-R BS.1770).
import { brush } from "/static/js/dom.js";
import { RATE } from "/static/js/sound.js";

const FLOOR = -60;

export class Meter {
  /** @param {HTMLCanvasElement} canvas @param {HTMLElement} text @param {number[][]} weighting second-order sections */
  constructor(canvas, text, weighting) {
    this.canvas = canvas;
    this.text = text;
    this.weighting = weighting;
    this.top = FLOOR;
    this.topAt = 0;
    this.short = new Float32Array(2048);
    this.long = new Float32Array(32768);
  }

  /** Listens to a player's sound from its first play on. @param {import("/static/js/sound.js").Sound} sound */
  listen(sound) {
    const { context } = sound;
    if (!context || this.context === context) return;
    /** @type {AudioContext|undefined} */ this.context = context;
    const split = context.createChannelSplitter(2);
    sound.out?.connect(split);
    this.taps = [0, 1].map((k) => {
      const raw = context.createAnalyser();
      raw.fftSize = 2048;
      split.connect(raw, k);
      let node = /** @type {AudioNode} */ (split);
      let port = k;
      for (const s of this.weighting) {
        const f = context.createIIRFilter(s.slice(0, 3), s.slice(3));
        node.connect(f, port);
        node = f;
        port = 0;
      }
      const weighted = context.createAnalyser();
      weighted.fftSize = 32768;
      node.connect(weighted);
      return { raw, weighted };
    });
  }

  /** @param {boolean} playing */
  show(playing) {
    if (!this.taps) return;
    const peaks = this.taps.map((t) => {
      t.raw.getFloatTimeDomainData(this.short);
      return this.short.reduce((m, x) => Math.max(m, Math.abs(x)), 0);
    });
    let power = 0;
    const n = 0.4 * RATE;
    for (const t of this.taps) {
      t.weighted.getFloatTimeDomainData(this.long);
      for (let i = this.long.length - n; i < this.long.length; i++) power += this.long[i] ** 2 / n;
    }
    const momentary = power > 0 ? -0.691 + 10 * Math.log10(power) : -120;
    this.draw(
      peaks.map((p) => (p > 0 ? 20 * Math.log10(p) : -120)),
      momentary,
      playing,
    );
  }

  /** @param {any[]} peaks @param {number} momentary @param {any} playing */
  draw(peaks, momentary, playing) {
    const c = this.canvas,
      g = brush(c),
      css = getComputedStyle(c),
      at = (/** @type {number} */ db) => Math.max(0, Math.min(1, (db - FLOOR) / -FLOOR)) * c.width;
    g.clearRect(0, 0, c.width, c.height);
    g.fillStyle = css.getPropertyValue("--tint");
    g.fillRect(0, 0, c.width, c.height);
    g.fillStyle = css.getPropertyValue("--soft");
    peaks.forEach((/** @type {any} */ db, /** @type {number} */ k) => g.fillRect(0, 2 + k * 7, at(db), 5));
    g.fillStyle = css.getPropertyValue("--cover");
    g.fillRect(0, 18, at(momentary), 6);
    const high = Math.max(...peaks),
      now = performance.now();
    if (high > this.top || now - this.topAt > 1500) {
      this.top = high;
      this.topAt = now;
    }
    g.fillStyle = css.getPropertyValue(this.top > -1 ? "--pencil" : "--ink");
    g.fillRect(at(this.top) - 2, 1, 2, 14);
    this.text.textContent = playing ? `${momentary < -99 ? "−∞" : momentary.toFixed(1)} LUFS` : "not playing";
  }
}
