// Shot view: in and out by dragging over a row of frames, by key, or as suggested.
import { $, $$, byId } from "/static/js/dom.js";
import { say } from "/static/js/base.js";
import { waves } from "/static/js/peaks.js";
import { typing } from "/static/js/keys.js";
import { timecode } from "/static/js/transport.js";

const room = byId("shots"),
  rate = room.dataset.rate.split("/").map(Number);
waves(room);

class Shot {
  /** @param {ParentNode} section */
  constructor(section) {
    this.form = $("form", section);
    this.hold = $(".shot-hold", section);
    this.el = $(".shot", section);
    this.faces = $(".shot-faces", section);
    this.bar = $(".shot-range", section);
    this.total = Number(this.el.dataset.total);
    this.a = this.b = null;
    const at = (/** @type {PointerEvent} */ e) => {
      const r = this.faces.getBoundingClientRect();
      return Math.max(0, Math.min(this.total, Math.round(((e.clientX - r.left) / r.width) * this.total)));
    };
    this.faces.addEventListener("pointerdown", (/** @type {PointerEvent} */ e) => {
      this.faces.setPointerCapture(e.pointerId);
      this.from = at(e);
      this.hold.focus();
    });
    this.faces.addEventListener("pointermove", (/** @type {PointerEvent} */ e) => {
      if (this.from !== undefined && e.buttons && at(e) !== this.from)
        this.set(Math.min(this.from, at(e)), Math.max(this.from, at(e)));
    });
    this.faces.addEventListener("pointerup", () => {
      this.from = undefined;
    });
    $("button[data-best]", section)?.addEventListener("click", () => this.best());
    this.hold.addEventListener("keydown", (/** @type {KeyboardEvent} */ e) => {
      if (typing(e)) return;
      const n = e.shiftKey ? 5 : 1,
        by = /** @type {Record<string, number[]>} */ ({
          ArrowLeft: [-n, -n],
          ArrowRight: [n, n],
          "]": [0, 1],
          "}": [0, -1],
          "[": [1, 0],
          "{": [-1, 0],
        })[e.key];
      if (by && this.a !== null && this.b !== null) {
        const a = this.a + by[0],
          b = this.b + by[1];
        if (a >= 0 && b <= this.total && a < b) this.set(a, b);
      } else if (e.key === "b") this.best();
      else if (e.key === "Enter") this.form.requestSubmit();
      else return;
      e.preventDefault();
    });
    for (const k of ["start", "end"])
      this.form.elements[k].addEventListener("input", () => {
        this.bar.hidden = true;
      });
    this.form.addEventListener("htmx:afterRequest", (/** @type {CustomEvent} */ e) => {
      if (e.detail.successful) {
        this.set(null, null);
        this.form.reset();
      }
    });
  }

  best() {
    if (this.el.dataset.best)
      this.set(.../** @type {[number, number]} */ (this.el.dataset.best.split(",").map(Number)));
    else say("This shot is too short for a suggestion.", true);
  }

  /** @param {number|null} a @param {number|null} b */
  set(a, b) {
    this.a = a;
    this.b = b;
    this.bar.hidden = a === null;
    if (a === null || b === null) return;
    this.bar.style.left = `${(100 * a) / this.total}%`;
    this.bar.style.width = `${(100 * (b - a)) / this.total}%`;
    this.form.elements.start.value = timecode(a, rate);
    this.form.elements.end.value = timecode(b, rate);
  }
}
const known = new WeakSet();
const begin = () => {
  for (const s of $$("section", room))
    if (!known.has(s)) {
      known.add(s);
      new Shot(s);
    }
};
begin();
document.body.addEventListener("htmx:afterSettle", () => {
  begin(); // more have come into view
  waves(room, false);
});
