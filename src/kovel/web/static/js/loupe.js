// A loupe: a few seconds of waveform and words around the in or the out point, whatever the recording's length.
// Dragging moves the edge by frames; the wheel or + and - change how much is seen.
import { peaks } from "./peaks.js";
import { timecode } from "./transport.js";

const PAIRS = 100; // peak pairs a second, finest level

export class Loupe {
  constructor(el, { recording, fps, rate, total, words, get, set, go, near = (f) => f }) {
    Object.assign(this, { el, recording, fps, rate, total, words, get, set, go, near });
    this.seconds = 4;
    this.centre = 0;
    this.canvas = el.querySelector("canvas");
    el.addEventListener("wheel", (e) => { e.preventDefault(); this.widen(e.deltaY > 0 ? 1.25 : 0.8); }, { passive: false });
    el.addEventListener("pointerdown", (e) => { el.setPointerCapture(e.pointerId); this.held = true; this.move(e); });
    el.addEventListener("pointermove", (e) => { if (this.held && e.buttons) this.move(e); });
    el.addEventListener("pointerup", () => { if (this.held) { this.held = false; this.centre = this.get() ?? this.centre; this.draw(); } });
    el.addEventListener("keydown", (e) => {
      const by = { ArrowLeft: -1, ArrowRight: 1 }[e.key];
      if (by) { this.set((this.get() ?? this.centre) + by * (e.shiftKey ? 5 : 1)); this.go(this.get()); }
      else if (e.key === "+" || e.key === "=") this.widen(0.8);
      else if (e.key === "-") this.widen(1.25);
      else return;
      e.preventDefault(); e.stopPropagation();
    });
    new ResizeObserver(() => this.draw()).observe(el);
  }

  widen(k) { this.seconds = Math.max(1, Math.min(30, this.seconds * k)); this.draw(); }

  // Frame under a pointer: the frame boundary nearest to it.
  move(e) {
    const r = this.el.getBoundingClientRect();
    const per = (this.seconds * this.fps) / r.width;
    const f = this.near(Math.round(this.centre + (e.clientX - r.left - r.width / 2) * per), Math.ceil(10 * per));
    this.set(Math.max(0, Math.min(this.total, f)));
    this.go(this.get() ?? f);
    this.draw();
  }

  // Show the edge in the middle; while none is set, the playhead.
  show(playhead) {
    const at = this.get();
    if (!this.held) this.centre = at ?? playhead;
    this.el.classList.toggle("is-empty", at === null);
    this.el.setAttribute("aria-valuenow", at ?? 0);
    this.el.setAttribute("aria-valuetext", at === null ? "not set" : timecode(at, this.rate));
    this.draw();
  }

  draw() { if (!this.due) { this.due = true; requestAnimationFrame(() => { this.due = false; this.paint(); }); } }

  async paint() {
    const c = this.canvas, k = devicePixelRatio || 1, w = Math.round(c.clientWidth * k), h = Math.round(c.clientHeight * k);
    if (!w || !h) return;
    let data;
    try { data = (await peaks(this.recording))[0]; } catch { data = new Int8Array(0); }
    if (c.width !== w || c.height !== h) { c.width = w; c.height = h; }
    const g = c.getContext("2d"), style = getComputedStyle(document.documentElement), colour = (n) => style.getPropertyValue(n).trim();
    const a = this.centre / this.fps - this.seconds / 2, x = (s) => ((s - a) / this.seconds) * w;
    g.clearRect(0, 0, w, h);
    const at = this.get(), inside = this.el.dataset.which === "in" ? [at, Infinity] : [-Infinity, at];
    if (at !== null) { // the side that is kept
      g.fillStyle = colour("--mark"); g.globalAlpha = 0.45;
      const l = Math.max(0, x(inside[0] / this.fps)), r = Math.min(w, x(inside[1] / this.fps));
      g.fillRect(l, 0, r - l, h); g.globalAlpha = 1;
    }
    if ((w / this.seconds / this.fps) > 5 * k) { // a tick a frame when they can be told apart
      g.fillStyle = colour("--rule");
      for (let f = Math.ceil(a * this.fps); f <= (a + this.seconds) * this.fps; f++) g.fillRect(Math.round(x(f / this.fps)), h - (f % Math.round(this.fps) ? 5 : 12) * k, 1, 12 * k);
    }
    g.fillStyle = colour("--soft");
    for (let i = 0; i < w; i++) {
      const p = Math.floor((a + (i / w) * this.seconds) * PAIRS), q = Math.max(p + 1, Math.floor((a + ((i + 1) / w) * this.seconds) * PAIRS));
      let lo = 0, hi = 0;
      for (let j = Math.max(0, p); j < q && j * 2 + 1 < data.length; j++) { lo = Math.min(lo, data[j * 2]); hi = Math.max(hi, data[j * 2 + 1]); }
      const y = (v) => Math.sign(v) * (Math.max(0, Math.abs(v) - 1) / 127) ** 0.6 * h * 0.48;
      g.fillRect(i, h / 2 - y(hi), 1, Math.max(k, y(hi) - y(lo)));
    }
    if (at !== null) { g.fillStyle = colour("--ink"); g.fillRect(Math.round(x(at / this.fps)) - k, 0, 2 * k, h); }
    const box = this.el.querySelector(".loupe-words"), per = this.el.clientWidth / this.seconds;
    let lo = 0, hi = this.words.length;
    while (lo < hi) { const m = (lo + hi) >> 1; if (this.words[m].b / this.fps <= a) lo = m + 1; else hi = m; }
    const rows = [];
    for (let i = lo; i < this.words.length && this.words[i].a / this.fps < a + this.seconds && rows.length < 120; i++) {
      const s = document.createElement("span"), word = this.words[i];
      s.textContent = word.el.textContent;
      s.style.left = `${(word.a / this.fps - a) * per}px`; s.style.width = `${Math.max(8, ((word.b - word.a) / this.fps) * per)}px`;
      rows.push(s);
    }
    box.replaceChildren(...rows);
    this.el.querySelector(".loupe-wide").textContent = `${at === null ? "" : timecode(at, this.rate) + " · "}${this.seconds < 10 ? this.seconds.toFixed(1) : Math.round(this.seconds)} s`;
  }
}
