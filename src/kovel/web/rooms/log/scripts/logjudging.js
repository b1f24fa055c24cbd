// Slices cut while it plays, and the walk from subclip to subclip that judges them.
import { $$, byId } from "/static/js/dom.js";
import { post, say } from "/static/js/base.js";
import { timecode } from "/static/js/transport.js";

/** Sends what changes the list of subclips. @param {string} url @param {Record<string, any>} values */
export const keep = (url, values) => post(url, { target: "#clips", swap: "outerHTML", values });

/** @param {{base: string, here: string, player: import("/static/js/player.js").Player, rate: [number, number],
 *   marks: () => {in: number|null, out: number|null}, open: (clip: HTMLElement) => void}} log */
export function judging({ base, here, player, rate, marks, open }) {
  /** @type {string|null} */ let walking = null; // id of the subclip being walked through
  /** @type {number|null} */ let slice = null;
  function boundary() {
    const f = player.frame;
    if (slice === null) {
      slice = f;
      say("Slicing: S at each boundary, Shift S to end.");
    } else if (f > slice) {
      keep(`${here}/subclips`, { start: slice, end: f, verdict: "open" });
      slice = f;
    }
    tellSlice();
  }
  function endSlices() {
    if (slice !== null && player.frame > slice) boundary();
    slice = null;
    tellSlice();
  }
  const tellSlice = () => {
    byId("slicing").textContent = slice === null ? "" : `Slicing from ${timecode(slice, rate)}`;
  };
  const rows = () => $$("#clips [data-clip]", document);
  const stand = () => {
    for (const c of rows()) c.classList.toggle("is-here", c.dataset.clip === walking);
  };
  /** @param {number} by */
  function walk(by, play = false) {
    const all = rows();
    if (!all.length) return;
    const i = all.findIndex((c) => c.dataset.clip === walking);
    const c = all[Math.max(0, Math.min(all.length - 1, i < 0 ? (by > 0 ? 0 : all.length - 1) : i + by))];
    walking = c.dataset.clip;
    stand();
    c.scrollIntoView({ block: "nearest" });
    open(c);
    if (play) player.play(1, marks().out);
  }
  let before = Promise.resolve(); // a verdict is for the subclip the one before led to, however fast they come
  const judge = (/** @type {any} */ verdict) => {
    before = before.then(() => judged(verdict));
  };
  /** @param {any} verdict */
  async function judged(verdict) {
    if (!rows().some((c) => c.dataset.clip === walking)) {
      const unjudged = rows().find((c) => !c.dataset.verdict);
      if (!unjudged) {
        say("Choose a subclip first: ↓ and ↑.", true);
        return;
      }
      walking = unjudged.dataset.clip;
    }
    const was = player.playing;
    await keep(`${base}/subclips/${walking}`, { verdict });
    const all = rows(),
      i = all.findIndex((c) => c.dataset.clip === walking);
    const next = [...all.slice(i + 1), ...all.slice(0, i)].find((c) => !c.dataset.verdict);
    if (next) {
      walking = next.dataset.clip;
      player.stop();
      open(next);
      if (was) player.play(1, marks().out);
      next.scrollIntoView({ block: "nearest" });
    }
    stand();
  }
  return {
    boundary,
    endSlices,
    walk,
    judge,
    stand,
    /** Stands at a subclip that was opened. @param {string} id */
    standAt: (id) => {
      walking = id;
      stand();
    },
  };
}
