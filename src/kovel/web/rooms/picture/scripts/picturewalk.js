// From shot to shot of the strip, all of one recording, and framing and look carried from one to others.
import { $$ } from "/static/js/dom.js";
import { say } from "/static/js/base.js";

/** @param {any} room what the Picture room lends */
export function walking({ base, place, player, strip, first, choose, showPanel, need, edit }) {
  const { shots, shot, about, mark, chosen } = strip;
  /** @type {null} */ let copiedFrom = null;
  /** @param {any} kind */
  function next(kind) {
    const rows = shots()
      .map(about)
      .filter((/** @type {Block} */ b) => b.kind === kind && b.at <= player.frame && player.frame < b.at + b.length);
    if (!rows.length) return say(`There is no ${kind} at the playhead.`, true);
    const i = rows.findIndex((/** @type {Block} */ b) => chosen.has(b.id));
    return choose(rows[(i + 1) % rows.length].id);
  }
  /** @param {number} by */
  function along(by) {
    const b = first(),
      lane = b ? b.lane : "dialogue",
      rows = $$(`.film-row[data-lane="${lane}"] .film-shot`, place).map(about),
      i = b ? rows.findIndex((x) => x.id === b.id) : by > 0 ? -1 : rows.length;
    const to = rows[i + by];
    if (!to) return say(`There is nothing ${by > 0 ? "after" : "before"} it in its lane.`);
    player.stop();
    player.seek(to.at);
    choose(to.id);
    return shot(to.id)?.scrollIntoView({ block: "nearest", inline: "nearest" });
  }
  async function alike() {
    const b = first();
    if (!b) return say("Choose a piece or a cover first (G, V).", true);
    const r = await fetch(`${base}/alike?item=${b.id}`);
    for (const id of await r.json()) chosen.add(id);
    mark();
    return showPanel();
  }
  async function paste() {
    if (copiedFrom === null) return say("Nothing was copied yet: choose something and press Ctrl C.", true);
    if (!need()) return undefined;
    const to = [...chosen].filter((id) => id !== copiedFrom);
    if (!to.length) return say("Choose what is to get it, then press Ctrl V.", true);
    const r = await fetch(`${base}/own?item=${copiedFrom}`);
    const names = await r.json();
    if (!names.length) return say("Nothing is set on what was copied itself.", true);
    return edit("copy_values", { source: copiedFrom, to, settings: names });
  }
  function copy() {
    if (!chosen.size) return false;
    copiedFrom = [...chosen][0];
    return say("Copied: Ctrl V gives its framing and look to what is chosen then.");
  }
  return { next, along, alike, copy, paste };
}
