// A frame drawn around clips selects them: on the page, the strip and the film strip.

const FAR = 5; // pixels until it is a frame and no click
const EDGE = 24; // pixels from the edge where it scrolls on
const STEP = 12;

/**
 * @typedef {{left: number, top: number, right: number, bottom: number}} Rect in pixels of the window
 * @param {HTMLElement} host what scrolls
 * @param {object} own
 * @param {(e: PointerEvent) => boolean} own.begins whether a frame may begin there
 * @param {(rect: Rect) => Iterable<[id: number, inside: boolean]>} own.clips those that are drawn, and whether they
 *   are touched
 * @param {(ids: number[], more: boolean) => void} own.select `more`: beside those that were selected
 */
export function frameSelect(host, { begins, clips, select }) {
  /** @type {any} */ let drawn = null;

  host.addEventListener("pointerdown", (e) => {
    if (e.button || e.pointerType === "touch" || !begins(e)) return;
    drawn = { x: e.clientX + host.scrollLeft, y: e.clientY + host.scrollTop, ids: new Set(), box: null };
    drawn.more = e.shiftKey || e.ctrlKey || e.metaKey;
  });
  addEventListener("pointermove", (e) => {
    if (!drawn) return;
    if (!e.buttons) return void away();
    drawn.to = e;
    if (!drawn.box) {
      if (Math.hypot(drawn.x - host.scrollLeft - e.clientX, drawn.y - host.scrollTop - e.clientY) < FAR) return;
      drawn.box = document.createElement("div");
      drawn.box.className = "frame-select";
      document.body.append(drawn.box);
      getSelection()?.removeAllRanges();
      follow();
    }
    show();
  });
  addEventListener("pointerup", () => {
    if (!drawn?.box) return void away();
    const { ids, more } = drawn;
    away();
    // the click that ends it selects nothing else
    const swallow = (/** @type {Event} */ e) => e.stopPropagation();
    addEventListener("click", swallow, { capture: true, once: true });
    setTimeout(() => removeEventListener("click", swallow, true));
    select([...ids], more);
  });
  addEventListener("pointercancel", away);
  addEventListener(
    "keydown",
    (e) => {
      if (e.key !== "Escape" || !drawn?.box) return;
      e.stopPropagation();
      away();
    },
    true,
  );

  function away() {
    drawn?.box?.remove();
    drawn = null;
  }

  function show() {
    const { to, box, ids } = drawn,
      x = drawn.x - host.scrollLeft,
      y = drawn.y - host.scrollTop,
      rect = {
        left: Math.min(x, to.clientX),
        top: Math.min(y, to.clientY),
        right: Math.max(x, to.clientX),
        bottom: Math.max(y, to.clientY),
      },
      seen = host.getBoundingClientRect();
    for (const [id, inside] of clips(rect)) {
      if (inside) ids.add(id);
      else ids.delete(id);
    }
    const left = Math.max(rect.left, seen.left),
      top = Math.max(rect.top, seen.top);
    Object.assign(box.style, {
      left: `${left}px`,
      top: `${top}px`,
      width: `${Math.max(0, Math.min(rect.right, seen.right) - left)}px`,
      height: `${Math.max(0, Math.min(rect.bottom, seen.bottom) - top)}px`,
    });
  }

  /** At the edge of what scrolls it goes on. */
  function follow() {
    if (!drawn?.box) return;
    const { clientX: x, clientY: y } = drawn.to,
      seen = host.getBoundingClientRect(),
      step = (/** @type {number} */ at, /** @type {number} */ low, /** @type {number} */ high) =>
        at < low + EDGE ? -STEP : at > high - EDGE ? STEP : 0;
    host.scrollTop += step(y, seen.top, seen.bottom);
    host.scrollLeft += step(x, seen.left, seen.right);
    show();
    requestAnimationFrame(follow);
  }
}

/** Whether two rectangles touch. @param {Rect} a @param {Rect} b */
export const touches = (a, b) => a.left < b.right && b.left < a.right && a.top < b.bottom && b.top < a.bottom;
