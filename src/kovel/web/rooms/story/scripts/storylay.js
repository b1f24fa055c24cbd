// Lays what is picked up in the shelf: shots as covers, sounds, what was loose.
import { $, $$, num } from "/static/js/dom.js";
import { say } from "/static/js/base.js";
import { readTime } from "/static/js/times.js";

/** @param {{sheet: () => HTMLElement,
 *   choice: import("./storychoice.js").Choice, hand: import("./storyshelf.js").Hand,
 *   edit: (command: string, params: object) => any}} story */
export function laying({ sheet, choice, hand, edit }) {
  // Lays what is in hand: over the chosen words, else at a frame, up to another.
  /** @param {number} at @param {number} [until] */
  async function coverAt(at, until) {
    const p = hand.picked?.dataset,
      chosen = choice.what;
    if (!p) return say("Pick a shot up first: Enter on it in the shelf.", true);
    if (p.kind === "loose") return edit("move_cover", { cover: num(p.cover), at });
    if (p.kind === "loose-sound") return edit("move_sound", { sound: num(p.cover), at });
    const most = num(p.length),
      source = num(p.source);
    if (p.kind === "sound") {
      const r = choice.range(),
        from = r && chosen ? r[0] : at,
        end = r ? Math.max(r[1], from + 1) : num(sheet().dataset.length),
        kind = p.soundKind;
      return edit("lay_sound", {
        source,
        at: from,
        until: Math.min(from + most, end),
        start: 0,
        kind,
        clock_bound: kind === "music",
      });
    }
    const swept = chosen?.kind === "words" ? chosen : null,
      one = swept && $$(".w.is-on", sheet()).length === 1; // a word that was clicked says where, not how long
    if (one && until === undefined) at = swept.a;
    const r = one ? null : swept;
    const each = r ? 0 : await typedLength($("#cover-length"));
    if (each === null) return null;
    if (hand.all.length > 1) {
      const ranges = hand.ranges().map(([s, a, n]) => [s, a, Math.min(n, each || n)]);
      return edit("lay_several", { at: r ? r.a : at, ranges });
    }
    let end = until ?? (r ? r.b : at + Math.min(most, each));
    if (r) at = r.a;
    if (end - at > most && p.kind === "shot") end = at + most;
    return edit("lay_cover", { source, at, until: end, start: num(p.from) });
  }
  // A typed length in frames; null where it cannot be read: it says so, field and text stay.
  /** @param {HTMLInputElement} field */
  async function typedLength(field) {
    const got = await readTime(field.value, "length");
    if (!got.error) return got.frame;
    say(got.error, true);
    field.focus();
    field.select();
    return null;
  }
  return coverAt;
}
