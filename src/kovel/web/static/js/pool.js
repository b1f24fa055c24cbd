// The picture without WebCodecs: a few <video> elements a recording, made ready ahead of each cut. Within one frame.
import { Recording } from "./media.js";

const EACH = 3;

export class VideoPool {
  constructor() {
    this.elements = [];
    this.exact = false;
    this.failed = null;
    this.wants = [];
    this.playing = false;
    this.speed = 1;
  }

  // `pairs` as in Frames; `runs` are the plan's next picture runs [recording, first frame, seconds until it starts].
  want(pairs, runs = [], playing = false, speed = 1) {
    this.wants = pairs;
    this.playing = playing && speed > 0;
    this.speed = speed;
    if (pairs.length && !runs.length) runs = [[pairs[0][0], pairs[0][1], 0]];
    const due = new Set(runs.map(([id, n]) => `${id}:${n}`));
    for (const e of this.elements) if (e.run && !due.has(e.run) && !e.current) { e.run = null; e.video.pause(); }
    for (const [id, n, wait] of runs) this.prepare(id, n, wait);
  }

  async prepare(id, n, wait) {
    const run = `${id}:${n}`;
    let e = this.elements.find((x) => x.run === run);
    if (!e) {
      e = this.elements.find((x) => x.id === id && !x.run);
      if (!e) {
        const mine = this.elements.filter((x) => x.id === id);
        if (mine.length >= EACH) return;
        const video = document.createElement("video");
        video.muted = true; video.preload = "auto"; video.src = `/media/${id}/proxy.mp4`;
        e = { id, video }; this.elements.push(e);
      }
      e.run = run; e.ready = false;
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

  get(id, n) {
    const fit = this.elements.filter((e) => e.id === id && e.ready && e.run && e.video.readyState >= 2);
    let best = null, off = 1e9;
    for (const e of fit) { const d = Math.abs(e.video.currentTime * e.rate - 0.5 - n); if (d < off) { off = d; best = e; } }
    for (const e of this.elements) e.current = e === best;
    if (best && this.playing && off > 1.5 && off < 12 && !best.video.seeking) best.video.playbackRate = this.speed * (best.video.currentTime * best.rate > n ? 0.9 : 1.1);
    else if (best && this.playing && off >= 12 && !best.video.seeking) best.video.currentTime = (n + 2) / best.rate;
    else if (best && !this.playing && off > 0.6 && !best.video.seeking) best.video.currentTime = (n + 0.5) / best.rate;
    return best && (this.playing || off <= 1) ? best.video : undefined;
  }

  clear() { for (const e of this.elements) { e.video.pause(); e.run = null; } }
}
