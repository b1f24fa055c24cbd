// The whole recording as one line: click or drag to go, drag the edges of the range.
import { $, inside, num, target } from "/static/js/dom.js";
import { forget, wave } from "/static/js/peaks.js";

/** @param {{overview: HTMLElement, total: number, fps: number, recording: string,
 *   player: import("/static/js/player.js").Player, mark: (which: string, frame: number) => void,
 *   edge: (which: string) => number|null, redrawn: () => void, grown: () => void}} log */
export function overviewOf({ overview, total, fps, recording, player, mark, edge, redrawn, grown }) {
  const frameAt = (/** @type {PointerEvent} */ e) => {
    const r = overview.getBoundingClientRect();
    return ((e.clientX - r.left) / r.width) * total;
  };
  /** @type {string|null} */ let held = null;
  overview.addEventListener("pointerdown", (e) => {
    if (inside(e, ".kept, .marker, .used")) return;
    held = target(e).id === "edge-in" ? "in" : target(e).id === "edge-out" ? "out" : "head";
    overview.setPointerCapture(e.pointerId);
    if (held === "head") player.seek(frameAt(e));
  });
  overview.addEventListener("pointermove", (e) => {
    if (!held || !e.buttons) return;
    if (held === "head") player.seek(frameAt(e));
    else {
      mark(held, frameAt(e));
      player.seek(edge(held) ?? player.frame);
    }
  });
  overview.addEventListener("pointerup", () => {
    held = null;
  });
  const draw = () => wave($("canvas", overview), num(recording), 0, total / fps);
  draw();
  new ResizeObserver(draw).observe(overview);
  const again = () => {
    draw();
    redrawn();
  };
  document.addEventListener("look", again);
  // There is more of its sound, or all of it.
  document.body.addEventListener("grown", () => {
    forget(num(recording));
    again();
    grown();
  });
}
