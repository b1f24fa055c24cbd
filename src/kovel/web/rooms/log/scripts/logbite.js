// The bite that is open: its range under the loupes, its name and note in the fields. Enter changes it; Shift Enter
// makes a new one beside it; Esc closes it.
import { $, byId, num } from "/static/js/dom.js";

const FIELDS = ["name", "note", "tags"];

/** @param {{form: any, range: () => {in: number|null, out: number|null},
 *   set: (range: {in: number|null, out: number|null}) => void, seek: (frame: number) => void}} log */
export function biteDesk({ form, range, set, seek }) {
  /** @type {DOMStringMap|null} the row of the open bite, as it stood when it was opened */ let open = null;
  const row = () => open && $(`#clips [data-clip="${open.clip}"]`, document);

  function tell() {
    byId("bite-said").textContent = open ? `Changing “${open.name}”` : "New bite";
    byId("save-bite").textContent = open ? "Change bite (Enter)" : "Save bite (Enter)";
    for (const id of ["save-new", "close-bite"]) byId(id).hidden = !open;
    form.elements.of.value = open?.clip ?? "";
  }
  /** @param {HTMLElement} clip */
  function fill(clip) {
    open = { ...clip.dataset };
    for (const field of FIELDS) form.elements[field].value = open[field] ?? "";
    form.elements.verdict.value = open.verdict || "open";
    set({ in: num(open.start), out: num(open.end) });
    tell();
  }
  /** No bite is open, and the fields are empty. */
  function close() {
    open = null;
    form.reset();
    tell();
  }
  /** A range of its own: what is saved now is a new bite. @param {number|null} a @param {number|null} b */
  function fresh(a, b) {
    if (open) close();
    set({ in: a, out: b });
  }
  byId("close-bite").addEventListener("click", () => fresh(null, null));
  /** Whether it was sent by the button that makes a new one. @param {any} request */
  const isNewBite = (request) => request.triggeringEvent?.submitter === byId("save-new");
  document.body.addEventListener("htmx:configRequest", (/** @type {CustomEvent} */ e) => {
    if (e.detail.elt === form && isNewBite(e.detail)) e.detail.parameters.again = "both";
  });
  document.body.addEventListener("htmx:afterRequest", (/** @type {CustomEvent} */ e) => {
    if (e.detail.elt !== form) return;
    if (!e.detail.successful || e.detail.xhr.status !== 200) return;
    if (open && !isNewBite(e.detail.requestConfig)) return; // it stays open, and is drawn again
    close();
    set({ in: null, out: null });
  });
  return {
    /** Opens a bite of the list, and goes to its beginning. @param {HTMLElement} clip */
    open(clip) {
      fill(clip);
      seek(num(clip.dataset.start));
    },
    fresh,
    saveNew: () => form.requestSubmit(byId("save-new")),
    /** The list is another: what was changed on the open bite is shown, what is being changed stays. */
    refresh() {
      const now = row();
      if (!open) return;
      if (!now) return close();
      const seen = Object.keys(open).some((key) => open?.[key] !== now.dataset[key]);
      if (seen) fill(now);
    },
    /** Whether in and out make a range. */
    isRange: () => (range().in ?? Infinity) < (range().out ?? -Infinity),
  };
}
