// The threshold between speech and pause: a line over the levels that is dragged, or moved by the arrows.
import { byId, inside } from "/static/js/dom.js";

/** @param {() => void} set sends the settings as they stand */
export function thresholdLine(set) {
  let held = false;
  const dbAt = (/** @type {PointerEvent} */ e) => {
    const r = byId("hills").getBoundingClientRect();
    return Math.round(Math.max(-80, Math.min(0, -80 + (80 * (e.clientX - r.left)) / r.width)) * 2) / 2;
  };
  /** @param {number} db */
  function line(db) {
    byId("line").setAttribute("transform", `translate(${(300 * (db + 80)) / 80} 0)`);
    byId("settings").elements.threshold.value = db;
  }
  document.addEventListener("pointerdown", (e) => {
    if (inside(e, "#hills")) {
      held = true;
      line(dbAt(e));
    }
  });
  document.addEventListener("pointermove", (e) => {
    if (held) line(dbAt(e));
  });
  document.addEventListener("pointerup", () => {
    if (held) {
      held = false;
      set();
    }
  });
  document.addEventListener("keydown", (e) => {
    if (!inside(e, "#hills") || !["ArrowLeft", "ArrowRight"].includes(e.key)) return;
    e.preventDefault();
    line(Number(byId("hills").getAttribute("aria-valuenow")) + (e.key === "ArrowLeft" ? -1 : 1));
    set();
  });
}
