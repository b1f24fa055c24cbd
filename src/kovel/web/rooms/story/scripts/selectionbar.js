// The bar under the page: what edits are about, its length and level, and the edits used most on it.
import { redraw, say } from "/static/js/base.js";
import { $, $$, byId, inside, num } from "/static/js/dom.js";
import { press } from "/static/js/keys.js";
import { readTime, readValue } from "/static/js/times.js";

/**
 * @param {{base: string, choice: import("./storychoice.js").Choice, edits: import("/static/js/edits.js").Edits,
 *   edit: (command: string, params: object) => any}} story
 * @returns {() => void} puts the focus into it
 */
export function selectionBar({ base, choice, edits, edit }) {
  const place = byId("selection-bar");
  let asked = 0,
    due = 0,
    empty = false; // it says that nothing is selected

  async function show() {
    const mine = ++asked,
      range = choice.range(),
      ids = choice.clips().map((clip) => clip.id),
      words = choice.marked || !ids.length ? range : null,
      about = new URLSearchParams({ items: ids.join(","), marked: choice.marked ? "1" : "" });
    if (choice.what?.kind === "seam" && !choice.marked) about.set("seam", "1");
    if (words) about.set("stretch", words.join("-"));
    if (choice.marks.a !== null && choice.marks.b !== null) about.set("marks", `${choice.marks.a}-${choice.marks.b}`);
    const nothing = !ids.length && !words && choice.what?.kind !== "seam";
    if (nothing && empty) return; // it says so already
    empty = nothing;
    const got = await fetch(`${base}/selection?${about}`);
    if (!got.ok || mine !== asked) return;
    const html = await got.text();
    if (mine === asked)
      redraw(place, () => {
        place.innerHTML = html;
      });
  }
  const soon = () => {
    clearTimeout(due);
    due = setTimeout(() => void show(), 40);
  };
  for (const event of ["chosen", "dressed", "marked"]) document.addEventListener(event, soon);

  /** @param {any} field */
  async function typed(field) {
    const text = field.value.trim(),
      items = field.dataset.ids.split(",").map(num);
    if (!text || text === field.defaultValue) return null;
    field.defaultValue = field.value;
    if (field.name === "length") {
      const long = await readTime(text, "length");
      return long.error ? say(long.error, true) : edit("set_lengths", { items, length: long.frame });
    }
    const level = await readValue(text);
    return level.error
      ? say(level.error, true)
      : edit("set_value", { to: items, setting: "level", value: level.value });
  }
  place.addEventListener("change", (/** @type {Event} */ e) => void typed(e.target));
  place.addEventListener("keydown", (/** @type {KeyboardEvent} */ e) => {
    if (e.key === "Enter" && inside(e, "input")) void typed(e.target);
  });
  place.addEventListener("click", (/** @type {MouseEvent} */ e) => {
    const button = inside(e, "button");
    if (!button) return;
    const entry = edits.entries.find((other) => other.label === button.dataset.edit);
    if (entry) void edits.run(entry);
    else press(button.dataset.press);
  });
  soon();
  return () => {
    const first = $("input", place) ?? $$("button", place)[0];
    if (!first) return say("Nothing is selected: select a clip or words first.", true);
    first.focus();
    return first.select?.();
  };
}
