// A loupe: a few seconds of waveform and words around the in or the out point, whatever the recording's length.
// Dragging moves the edge by frames; the wheel or + and - change how much is seen.
import { $, brush } from "./dom.js";
import { peaks } from "./peaks.js";
import { timecode } from "./transport.js";

const PAIRS = 100; // peak pairs a second, finest level
/** The colours of the look. @type {any} */ let inks = null;
document.addEventListener("look", () => {
  inks = null;
});
const pen = brush(document.createElement("canvas"));
/** @type {string|null} */ let font = null;
/** @param {string} text @param {Element} box */
function width(text, box) {
  // in the type the words stand in
  if (!font) pen.font = font = getComputedStyle(box).font;
  return pen.measureText(text).width;
}
const colours = () => {
  const style = getComputedStyle(document.documentElement);
  return Object.fromEntries(["mark", "rule", "soft", "ink"].map((n) => [n, style.getPropertyValue(`--${n}`).trim()]));
};

export class Loupe {
  /** The waveform that is drawn, and of what. @type {any} */ wave;
  /** What is drawn, and what of it lies below. */ view = "";
  under = "";
  /** The words that stand there. */ said = "";
  /** Told how many seconds are seen, when that changes. @type {(seconds: number) => void} */ widened = () => {};

  /**
   * @param {HTMLElement} el
   * @param {any} about what it shows: a recording of `total` frames, its words, and how its edge is read and set
   */
  constructor(
    el,
    {
      recording,
      fps,
      rate,
      total,
      words,
      get,
      set,
      go,
      near = (/** @type {any} */ f, /** @type {any} */ _reach) => f,
    },
  ) {
    this.el = el;
    this.recording = recording;
    this.fps = fps;
    this.rate = rate;
    this.total = total;
    this.words = words;
    this.get = get;
    this.set = set;
    this.go = go;
    this.near = near;
    this.seconds = 4;
    this.centre = 0;
    this.canvas = $("canvas", el);
    this.box = $(".loupe-words", el);
    this.wide = $(".loupe-wide", el);
    this.size = [0, 0];
    el.addEventListener(
      "wheel",
      (e) => {
        e.preventDefault();
        this.widen(e.deltaY > 0 ? 1.25 : 0.8);
      },
      { passive: false },
    );
    el.addEventListener("pointerdown", (e) => {
      el.setPointerCapture(e.pointerId);
      this.held = el.getBoundingClientRect();
      this.move(e);
    });
    el.addEventListener("pointermove", (e) => {
      if (this.held && e.buttons) this.move(e);
    });
    el.addEventListener("pointerup", () => {
      if (this.held) {
        this.held = null;
        this.centre = this.get() ?? this.centre;
        this.draw();
      }
    });
    el.addEventListener("keydown", (e) => {
      const by = { ArrowLeft: -1, ArrowRight: 1 }[e.key];
      if (by) {
        this.set((this.get() ?? this.centre) + by * (e.shiftKey ? 5 : 1));
        this.go(this.get());
      } else if (e.key === "+" || e.key === "=") this.widen(0.8);
      else if (e.key === "-") this.widen(1.25);
      else return;
      e.preventDefault();
      e.stopPropagation();
    });
    new ResizeObserver(() => {
      this.size = [this.canvas.clientWidth, this.canvas.clientHeight];
      this.draw();
    }).observe(this.canvas);
  }

  /** @param {number} k */
  widen(k) {
    this.seconds = Math.max(1, Math.min(30, this.seconds * k));
    this.draw();
    this.widened(this.seconds);
  }

  // Frame under a pointer: the frame boundary nearest to it.
  /** @param {PointerEvent} e */
  move(e) {
    const r = /** @type {DOMRect} */ (this.held),
      per = (this.seconds * this.fps) / r.width;
    const f = this.near(Math.round(this.centre + (e.clientX - r.left - r.width / 2) * per), Math.ceil(10 * per));
    this.set(Math.max(0, Math.min(this.total, f)));
    this.go(this.get() ?? f);
    this.draw();
  }

  // Show the edge in the middle; while none is set, the playhead.
  /** @param {number} playhead */
  show(playhead) {
    const at = this.get();
    if (!this.held) this.centre = at ?? playhead;
    this.el.classList.toggle("is-empty", at === null);
    this.el.setAttribute("aria-valuenow", at ?? 0);
    this.el.setAttribute("aria-valuetext", at === null ? "not set" : timecode(at, this.rate));
    this.draw();
  }

  draw() {
    if (!this.due) {
      this.due = true;
      requestAnimationFrame(() => {
        this.due = false;
        this.paint();
      });
    }
  }

  async paint() {
    let data;
    try {
      data = (await peaks(this.recording))[0];
    } catch {
      data = new Int8Array(0);
    }
    const k = devicePixelRatio || 1,
      c = this.canvas,
      w = Math.round(this.size[0] * k),
      h = Math.round(this.size[1] * k);
    if (!w || !h) return;
    inks ||= colours();
    const at = this.get(),
      a = this.centre / this.fps - this.seconds / 2,
      x = (/** @type {number} */ s) => ((s - a) / this.seconds) * w;
    this.below(data, a, w, h, k, x);
    /** @type {string} */ const view = `${this.under} ${at}`;
    if (view !== this.view) {
      this.view = view;
      if (c.width !== w || c.height !== h) {
        c.width = w;
        c.height = h;
      }
      const g = brush(c),
        inside = this.el.dataset.which === "in" ? [at, Infinity] : [-Infinity, at];
      g.clearRect(0, 0, w, h);
      if (at !== null) {
        // the side that is kept
        g.fillStyle = inks.mark;
        g.globalAlpha = 0.45;
        const l = Math.max(0, x(inside[0] / this.fps)),
          r = Math.min(w, x(inside[1] / this.fps));
        g.fillRect(l, 0, r - l, h);
        g.globalAlpha = 1;
      }
      g.drawImage(this.wave, 0, 0);
      if (at !== null) {
        g.fillStyle = inks.ink;
        g.fillRect(Math.round(x(at / this.fps)) - k, 0, 2 * k, h);
      }
      const wide = `${this.seconds < 10 ? this.seconds.toFixed(1) : Math.round(this.seconds)} s`;
      this.wide.textContent = at === null ? wide : `${timecode(at, this.rate)} · ${wide}`;
    }
    this.say(a);
  }

  // Waveform and frame ticks, drawn once for a stretch: an edge is dragged over them.
  /**
   * @param {string | any[]} data @param {number} a @param {number} w @param {number} h @param {number} k
   * @param {{ (s: any): number; (arg0: number): number; }} x
   */
  below(data, a, w, h, k, x) {
    /** @type {string} */ const under = `${a} ${this.seconds} ${w} ${h} ${data.length}`;
    if (under === this.under && this.inks === inks) return;
    this.under = under;
    this.inks = inks;
    this.view = "";
    this.wave ||= new OffscreenCanvas(w, h);
    this.wave.width = w;
    this.wave.height = h; // empty again
    const g = brush(this.wave);
    if (w / this.seconds / this.fps > 5 * k) {
      // a tick a frame when they can be told apart
      g.fillStyle = inks.rule;
      for (let f = Math.ceil(a * this.fps); f <= (a + this.seconds) * this.fps; f++)
        g.fillRect(Math.round(x(f / this.fps)), h - (f % Math.round(this.fps) ? 5 : 12) * k, 1, 12 * k);
    }
    g.fillStyle = inks.soft;
    const y = (/** @type {number} */ v) => Math.sign(v) * (Math.max(0, Math.abs(v) - 1) / 127) ** 0.6 * h * 0.48;
    for (let i = 0; i < w; i++) {
      const p = Math.floor((a + (i / w) * this.seconds) * PAIRS),
        q = Math.max(p + 1, Math.floor((a + ((i + 1) / w) * this.seconds) * PAIRS));
      let lo = 0,
        hi = 0;
      for (let j = Math.max(0, p); j < q && j * 2 + 1 < data.length; j++) {
        lo = Math.min(lo, data[j * 2]);
        hi = Math.max(hi, data[j * 2 + 1]);
      }
      g.fillRect(i, h / 2 - y(hi), 1, Math.max(k, y(hi) - y(lo)));
    }
  }

  // The words of the stretch, each where it sounds; in the lower row where the one before needs the room above.
  /** @param {number} a */
  say(a) {
    const { words, fps, seconds } = this,
      per = this.size[0] / seconds,
      /** @type {[string, number, number, any][]} */ said = [],
      end = [-1e6, -1e6];
    let lo = 0,
      hi = words.length;
    while (lo < hi) {
      const m = (lo + hi) >> 1;
      if (words[m].b / fps <= a) lo = m + 1;
      else hi = m;
    }
    for (let i = lo; i < words.length && words[i].a / fps < a + seconds && said.length < 120; i++) {
      const text = words[i].el.textContent,
        left = (words[i].a / fps - a) * per,
        row = left >= end[0] || end[0] < end[1] ? 0 : 1;
      if (left < end[row]) {
        const last = said.findLast((x) => x[2] === row);
        if (last) last[3] = Math.max(4, left - last[1] - 2); // cut short, so that none is over another
      }
      said.push([text, left, row, "auto"]);
      end[row] = left + width(text, this.box) + 6;
    }
    /** @type {string} */ const key = said.join();
    if (key === this.said) return;
    this.said = key;
    this.box.replaceChildren(
      ...said.map(([text, left, row, room]) => {
        const s = document.createElement("span");
        s.textContent = text;
        s.style.left = `${left}px`;
        s.style.width = room === "auto" ? room : `${room}px`;
        if (row) s.className = "low";
        return s;
      }),
    );
  }
}
