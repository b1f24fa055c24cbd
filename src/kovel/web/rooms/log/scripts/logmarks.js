// What is marked along the whole recording: subclips kept, markers, who speaks, what the story uses.
import { $, $$, byId } from "/static/js/dom.js";

/**
 * @param {string} here address of the recording @param {number} total its frames
 * @param {{choose: (a: number, b: number) => void, open: (clip: HTMLElement) => void,
 *   seek: (frame: number) => void}} room
 */
export function alongTheRecording(here, total, { choose, open, seek }) {
  /** @type {Record<string, any[]>} */ let along = { speakers: [], pauses: [], used: [] };
  const pc = (/** @type {number} */ f) => `${(100 * f) / total}%`;
  /**
   * @param {string} kind @param {number} a @param {number|null} b @param {string} label
   * @param {() => void} [click]
   */
  function bar(kind, a, b, label, click) {
    /** @type {any} */ const el = document.createElement(click ? "button" : "span");
    if (click) {
      el.type = "button";
      el.addEventListener("click", click);
      el.setAttribute("aria-label", label);
    }
    el.className = kind;
    el.title = label;
    el.style.left = pc(a);
    if (b !== null) el.style.width = pc(b - a);
    return el;
  }
  function keptMarks() {
    const clips = $$("#clips [data-clip]", document).map((c) => [Number(c.dataset.start), Number(c.dataset.end), c]);
    const flags = $$("#clips [data-marker]", document).map((m) => [
      Number(m.dataset.frame),
      $("input", m).value || "Marker",
    ]);
    byId("kept-marks").replaceChildren(
      ...clips.map(([a, b, c]) => bar("kept", a, b, `Open ${c.dataset.name}`, () => open(c))),
      ...flags.map(([f, name]) => {
        const el = bar("marker", f, null, `Go to the marker ${name}`, () => seek(f));
        el.textContent = "▾";
        return el;
      }),
    );
  }
  function drawAlong() {
    const names = [...new Set(along.speakers.map((x) => x[2]))];
    byId("who-marks").replaceChildren(
      ...along.speakers.map(([a, b, name]) => {
        const el = bar("speaks", a, b, name || "somebody");
        el.dataset.n = String(names.indexOf(name) % 4);
        return el;
      }),
    );
    byId("used-marks").replaceChildren(
      ...along.used.map(([a, b]) => bar("used", a, b, "Used in the story: set in and out to it", () => choose(a, b))),
    );
  }
  async function loadAlong() {
    const r = await fetch(`${here}/marks`);
    if (r.ok) {
      along = await r.json();
      drawAlong();
    }
  }

  return {
    /** Who speaks, where pauses are, what of it is used; as it was last fetched. */ get known() {
      return along;
    },
    keptMarks,
    loadAlong,
  };
}
