// The keys of a page: which chord is which act is declared in Python (web/keys.py); scripts give what each act does.
import { $, byId, inside, target } from "./dom.js";

/** The act of each chord. @type {Record<string, string>} */
const declared = JSON.parse(byId("main")?.dataset.keys || "{}");
/** @typedef {(e: KeyboardEvent) => unknown} Act what a key does; false where the key is not for it just now */
/** @type {Map<string, Act>} */ const acts = new Map();
/** What a chord does that the page declares nothing for; whether it did. @type {(chord: string) => boolean} */
let others = () => false;

/** Gives what these acts do. @param {Record<string, Act>} table */
export function onKeys(table) {
  for (const [act, does] of Object.entries(table)) acts.set(act, does);
}

/** Gives what is done with chords that are no act of the page. @param {(chord: string) => boolean} press */
export function onOtherKeys(press) {
  others = press;
}

/** Moves of an edge by key, for the acts of `[` and `]`. @param {(key: string, by: number) => unknown} nudge */
export const edges = (nudge) =>
  onKeys({
    on_in: () => nudge("[", 1),
    five_on_in: () => nudge("[", 5),
    back_in: () => nudge("[", -1),
    five_back_in: () => nudge("[", -5),
    on_out: () => nudge("]", 1),
    five_on_out: () => nudge("]", 5),
    back_out: () => nudge("]", -1),
    five_back_out: () => nudge("]", -5),
  });

const TYPED = "textarea, select, [contenteditable], input:not([type=checkbox], [type=radio], [type=range])";
/** Keys belong to the page unless one is typing, or a control that uses them has the focus. @param {Event} e */
export const typing = (e) => inside(e, TYPED);

/** @type {Record<string, string>} */
const NAMED = { ArrowUp: "↑", ArrowDown: "↓", ArrowLeft: "←", ArrowRight: "→" };
NAMED[" "] = "Space";
/** @type {Record<string, string>} where they stand, whatever Shift and Alt make of them */
const PLACED = { BracketLeft: "[", BracketRight: "]" };

/** A chord as the declarations write it: `Shift X`, `Ctrl V`, `Alt ↑`. @param {KeyboardEvent} e */
export function chord(e) {
  const key = PLACED[e.code] ?? NAMED[e.key] ?? (e.key.length > 1 ? e.key : e.key.toUpperCase());
  const shifts = key.length > 1 || /[A-Z[\]↑↓←→]/.test(key); // of other signs Shift is a part
  const held = [(e.ctrlKey || e.metaKey) && "Ctrl", e.altKey && "Alt", e.shiftKey && shifts && "Shift"];
  return [...held.filter(Boolean), key].join(" ");
}

/** Does what a chord does on this page, as if it had been pressed. @param {string} pressed */
export function press(pressed) {
  const act = acts.get(declared[pressed]);
  if (act) void act(new KeyboardEvent("keydown"));
  else others(pressed);
}

document.addEventListener("keydown", (e) => {
  if (typing(e)) {
    if (e.key === "Escape") target(e).blur();
    return;
  }
  const pressed = chord(e),
    act = acts.get(declared[pressed]);
  if ($("dialog[open]") && declared[pressed] !== "help") return;
  if (inside(e, "input[type=range], [role=slider]") && /[↑↓←→]|Home|End/.test(pressed)) return; // the slider's own
  // what takes a clip out is done by the keys that everybody deletes with, too
  if (act ? act(e) !== false : others(pressed.replace(/Delete|Backspace/, "X"))) e.preventDefault();
});
