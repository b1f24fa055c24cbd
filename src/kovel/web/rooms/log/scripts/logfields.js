// The fields of in and out, read when they are left and before the range is kept: what is kept is what they show.
import { byId, focused } from "/static/js/dom.js";
import { say } from "/static/js/base.js";
import { readTime } from "/static/js/times.js";

/** @param {{form: any, player: import("/static/js/player.js").Player, shown: () => Record<string, string>,
 *   mark: (which: string, frame: number) => void, unset: (which: string) => void}} log */
export function markFields({ form, player, shown, mark, unset }) {
  /** @param {string} which */
  async function readMark(which, stay = true) {
    const field = byId(`${which}-tc`),
      text = field.value.trim();
    if (text === shown()[which]) return true;
    if (!text) {
      unset(which);
      return true;
    }
    const got = await readTime(text, "moment", { now: player.frame });
    if (field.value.trim() !== text) return true; // typed on meanwhile
    if (got.error) {
      say(`${which === "in" ? "In" : "Out"}: ${got.error}`, true);
      if (stay) {
        field.focus();
        field.select();
      }
      return false;
    }
    mark(which, got.frame);
    player.seek(got.frame);
    return true;
  }
  for (const which of ["in", "out"]) byId(`${which}-tc`).addEventListener("change", () => readMark(which, false));
  document.body.addEventListener("htmx:afterRequest", (/** @type {CustomEvent} */ e) => {
    if (e.detail.elt !== form || e.detail.xhr.status !== 202) return;
    const change = confirm(
      `“${form.elements.name.value.trim()}” is kept already. OK gives it this range; Cancel keeps both.`,
    );
    const again = document.createElement("input");
    Object.assign(again, { type: "hidden", name: "again", value: change ? "change" : "both" });
    form.append(again);
    form.requestSubmit();
    setTimeout(() => again.remove());
  });
  let read = false; // the fields were read for the submit that follows
  document.addEventListener(
    "submit",
    async (e) => {
      if (e.target !== form || read) return;
      if (["in", "out"].every((w) => byId(`${w}-tc`).value.trim() === shown()[w])) return;
      e.preventDefault();
      e.stopImmediatePropagation();
      const last = focused() === byId("in-tc") ? ["out", "in"] : ["in", "out"]; // what was typed last has the last word
      if (!(await readMark(last[0])) || !(await readMark(last[1]))) return;
      read = true;
      form.requestSubmit(e.submitter);
      read = false;
    },
    true,
  );
  // Enter in the last mark sets the range; what has no name yet is not kept by it.
  byId("out-tc").addEventListener("keydown", (/** @type {KeyboardEvent} */ e) => {
    if (e.key !== "Enter" || form.elements.name.value.trim()) return;
    e.preventDefault();
    form.elements.name.focus();
  });
}

/** Pulls in and out to the nearest pause.
 * @param {{here: string, marks: () => {in: number|null, out: number|null}, set: (marks: any) => void}} log */
export function pulling({ here, marks, set }) {
  return async function pull() {
    if (marks().in === null && marks().out === null) {
      say("Set an in or an out point first.", true);
      return;
    }
    const q = new URLSearchParams();
    if (marks().in !== null) q.set("start", String(marks().in));
    if (marks().out !== null) q.set("end", String(marks().out));
    const got = await (await fetch(`${here}/pull?${q}`)).json();
    if (!got.found.some(Boolean)) {
      say("There is no pause within a second and a half of these marks.", true);
      return;
    }
    if (got.start !== null && got.end !== null && got.start >= got.end) {
      say("Both marks would land in one pause. They stay where they are.", true);
      return;
    }
    set({ in: got.start, out: got.end });
    say("Pulled to the nearest pause.");
  };
}
