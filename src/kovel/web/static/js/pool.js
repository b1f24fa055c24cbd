// The picture without WebCodecs: a few <video> elements a recording, made ready ahead of each cut. Within one frame.
import { Recording } from "./media.js";

const EACH = 3;

export class VideoPool {
  constructor() {
    /** @type {any[]} */
    this.elements = [];
    this.exact = false;
    this.failed = null;
    /** @type {any[]} */
    this.wants = [];
    this.playing = false;
    this.speed = 1;
  }

  // `pairs` as in Frames; `runs` are the plan's next picture runs [recording, first frame, seconds until it starts].
  /** @param {any[]} pairs @param {any[]} runs */
  want(pairs, runs = [], playing = false, speed = 1) {
    this.wants = pairs;
    this.playing = playing && speed > 0;
    this.speed = speed;
    if (pairs.length && !runs.length) runs = [[pairs[0][0], pairs[0][1], 0]];
    const due = new Set(runs.map(([id, n]) => `${id}:${n}`));
    for (const e of this.elements)
      if (e.run && !due.has(e.run) && !e.current) {
        e.run = null;
        e.video.pause();
      }
    for (const [id, n, wait] of runs) this.prepare(id, n, wait);
  }

  /** @param {number} id @param {number} n @param {number} wait */
  async prepare(id, n, wait) {
    const run = `${id}:${n}`;
    let e = this.elements.find((x) => x.run === run);
    if (!e) {
      e = this.elements.find((x) => x.id === id && !x.run);
      if (!e) {
        const mine = this.elements.filter((x) => x.id === id);
        if (mine.length >= EACH) return;
        const video = document.createElement("video");
        video.muted = true;
        video.preload = "auto";
        video.src = `/media/${id}/proxy.mp4`;
        e = { id, video };
        this.elements.push(e);
      }
      e.run = run;
      e.ready = false;
      const rec = await Recording.of(id);
      e.rate = rec.rate;
      e.video.playbackRate = Math.min(this.speed, 4) || 1;
      e.video.currentTime = (rec.clamp(n) + 0.5) / rec.rate;
      await new Promise((r) => e.video.addEventListener("seeked", r, { once: true }));
      e.ready = true;
    }
    if (e.ready && this.playing && wait < 0.06 && e.video.paused) e.video.play().catch(() => {});
    if (!this.playing && !e.video.paused) e.video.pause();
  }

  /** @param {any} id @param {number} n */
  get(id, n) {
    const fit = this.elements.filter((e) => e.id === id && e.ready && e.run && e.video.readyState >= 2);
    let best = null,
      off = Infinity; // seconds ahead of where it should be
    for (const e of fit) {
      const d = e.video.currentTime - (n + 0.5) / e.rate;
      if (Math.abs(d) < Math.abs(off)) {
        off = d;
        best = e;
      }
    }
    for (const e of this.elements) e.current = e === best;
    if (!best) return undefined;
    const v = best.video;
    if (this.playing && !v.seeking) {
      if (Math.abs(off) > 0.25) v.currentTime = (n + 1.5) / best.rate;
      else
        v.playbackRate =
          Math.abs(off) < 0.012
            ? this.speed
            : Math.max(0.5, this.speed * (1 - Math.max(-0.3, Math.min(0.3, off * 4))));
    } else if (!this.playing && Math.abs(off) > 0.6 / best.rate && !v.seeking) v.currentTime = (n + 0.5) / best.rate;
    return this.playing || Math.abs(off) <= 1 / best.rate ? v : undefined;
  }

  clear() {
    for (const e of this.elements) {
      e.video.pause();
      e.run = null;
    }
  }
}
