// Waveforms from the compact peaks: pick the level that fits, draw min to max.
import { $$, brush } from "./dom.js";
const kept = new Map();

/** @param {any} id */
export function peaks(id) {
  if (!kept.has(id)) {
    const p = fetch(`/media/${id}/peaks.bin`).then(async (r) => {
      if (!r.ok) throw new Error("none");
      const b = await r.arrayBuffer(),
        v = new DataView(b),
        n = v.getUint32(4, true),
        levels = [];
      let at = 8 + 4 * n;
      for (let i = 0; i < n; i++) {
        const c = v.getUint32(8 + 4 * i, true);
        levels.push(new Int8Array(b, at, c * 2));
        at += c * 2;
      }
      return levels;
    });
    p.catch(() => kept.delete(id));
    kept.set(id, p);
  }
  return kept.get(id);
}

/** There is more of a recording's sound than there was: its waveform is fetched anew. @param {number} id */
export function forget(id) {
  kept.delete(id);
}

const PER = [100, 12.5, 100 / 64]; // pairs a second, level by level

// Draw seconds [a, b) along the long side of a canvas; `down` makes time run down the page.
/** @param {any} canvas @param {number} id @param {number} a @param {number} b */
export async function wave(canvas, id, a, b, { down = false, color = "" } = {}) {
  let levels;
  try {
    levels = await peaks(id);
  } catch {
    return;
  }
  const k = devicePixelRatio || 1,
    w = canvas.clientWidth * k,
    h = canvas.clientHeight * k;
  if (!w || !h) return;
  canvas.width = w;
  canvas.height = h;
  const g = brush(canvas),
    long = down ? h : w,
    wide = down ? w : h;
  g.fillStyle = color || getComputedStyle(canvas).color;
  let level = 0;
  while (level < 2 && ((b - a) * PER[level]) / long > 2) level++;
  const data = levels[level],
    per = PER[level];
  for (let i = 0; i < long; i++) {
    const from = Math.floor((a + ((b - a) * i) / long) * per),
      to = Math.max(from + 1, Math.ceil((a + ((b - a) * (i + 1)) / long) * per));
    let lo = 0,
      hi = 0;
    for (let q = Math.max(0, from); q < to && q * 2 + 1 < data.length; q++) {
      lo = Math.min(lo, data[q * 2]);
      hi = Math.max(hi, data[q * 2 + 1]);
    }
    // soft speech stays visible
    const boost = (/** @type {number} */ x) => Math.sign(x) * (Math.max(0, Math.abs(x) - 1) / 127) ** 0.6;
    const y0 = wide / 2 - (boost(hi) * wide) / 2,
      y1 = wide / 2 - (boost(lo) * wide) / 2;
    if (down) g.fillRect(y0, i, Math.max(1, y1 - y0), 1);
    else g.fillRect(i, y0, 1, Math.max(1, y1 - y0));
  }
}

// Fill every canvas[data-wave="recording,from,to"] as it comes near the screen; those drawn already only if `again`.
/** @param {ParentNode | Document} root */
export function waves(root, again = true) {
  const see = new IntersectionObserver(
    (rows) => {
      for (const r of rows)
        if (r.isIntersecting) {
          const el = /** @type {HTMLCanvasElement} */ (r.target),
            [id, a, b] = (el.dataset.wave ?? "").split(",").map(Number);
          see.unobserve(el);
          wave(el, id, a, b, { down: el.dataset.down === "1" });
        }
    },
    { rootMargin: "400px" },
  );
  for (const c of $$("canvas[data-wave]", root))
    if (again || !c.watched) {
      c.watched = true;
      see.observe(c);
    }
}
