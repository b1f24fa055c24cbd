// Lays what is picked up in the shelf: what is held, and where, goes to the server, which says by which edit.
import { $, $$, num } from "/static/js/dom.js";
import { say } from "/static/js/base.js";

/** @param {{sheet: () => HTMLElement,
 *   choice: import("./storychoice.js").Choice, hand: import("./storyshelf.js").Hand,
 *   send: (where: string, body: object) => any}} story */
export function laying({ sheet, choice, hand, send }) {
  // What is in hand, over the chosen words, else at a frame; `how`: what is done with it, and on which lane.
  /** @param {number} at @param {{how?: string, lane?: number}} [said] */
  return function coverAt(at, { how, lane } = {}) {
    const chosen = choice.what;
    if (!hand.all.length) return say("Pick a shot up first: Enter on it in the shelf.", true);
    return send("lay", {
      hand: hand.all.map(({ dataset }) => ({
        kind: dataset.kind,
        id: num(dataset.cover || dataset.sound || 0),
        source: num(dataset.source || 0),
        start: num(dataset.from || 0),
        length: num(dataset.length || 0),
        sound: dataset.soundKind || "",
      })),
      place: {
        at: Math.max(0, Math.round(at)),
        how: how ?? null,
        lane: lane ?? null,
        words: chosen?.kind === "words" ? [chosen.a, chosen.b] : null,
        is_one_word: chosen?.kind === "words" && $$(".w.is-on", sheet()).length === 1,
        span: choice.range(),
        is_chosen: Boolean(chosen),
      },
      length: $("#cover-length").value,
      revision: null,
    });
  };
}
