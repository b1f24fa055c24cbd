// The speed of a piece or a cover drawn over its shot: moments dragged, set by arrows, added by a double click, taken
// out by Delete.
import { $$, byId, inside, num, target } from "/static/js/dom.js";
import { readTime } from "/static/js/times.js";

/** @param {HTMLElement} panel @param {any} room */
export function paceLine(panel, room) {
  /** @type {number | null} */ let held = null;
  let heldOn = 0;
  const pace = () => byId("pace");
  // how the panel stood: it is drawn anew after every edit
  let place = false,
    open = false;
  const keep = () => (place ? "place" : "shot");
  const item = () => num(pace().dataset.item);
  /** Where in the drawing a pointer is, as a moment of the shot and percent. @param {MouseEvent} e */
  function under(e) {
    const r = byId("pace-draw").getBoundingClientRect(),
      d = pace().dataset,
      x = Math.min(1, Math.max(0, (e.clientX - r.left) / r.width)),
      y = Math.min(1, Math.max(0, (e.clientY - r.top) / r.height)),
      low = num(d.low),
      percent = low * (num(d.high) / low) ** (1 - y);
    return [
      Math.round(num(d.begin) + x * (num(d.end) - num(d.begin))),
      percent < 50 ? Math.round(percent) : Math.round(percent / 5) * 5,
    ];
  }
  /** All moments of the ramp but that of one button: those that are trimmed off stay. */
  const rows = (/** @type {HTMLElement|undefined} */ without = undefined) =>
    JSON.parse(pace().dataset.line).filter((/** @type {number[]} */ m) => m[0] !== num(without?.dataset.at ?? NaN));
  /** @param {any[] | Iterable<readonly [any, any]>} line @param {number} [focus] */
  async function send(line, focus) {
    const seen = new Map(line);
    const sorted = [...seen.entries()].sort((a, b) => a[0] - b[0]);
    await room.edit("set_ramp", { item: item(), line: sorted, keep: keep() });
    if (focus !== undefined)
      $$("#pace-draw button", panel)
        .find((b) => num(b.dataset.at) === focus)
        ?.focus();
  }
  panel.addEventListener("dblclick", (e) => {
    if (!inside(e, "#pace-draw") || inside(e, "#pace-draw button")) return;
    const [m, v] = under(e),
      old = rows();
    const speed = num(byId("pace-percent").value) || 100;
    void send(
      old.length
        ? [...old, [m, v]]
        : [
            [num(pace().dataset.begin), speed],
            [m, v],
          ],
    );
  });
  panel.addEventListener("pointerdown", (e) => {
    const b = inside(e, "#pace-draw button");
    if (!b) return;
    b.setPointerCapture(e.pointerId);
    /** @type {any[]|null} */ let now = null;
    const move = (/** @type {PointerEvent} */ f) => {
      const r = byId("pace-draw").getBoundingClientRect();
      now = under(f);
      b.style.left = `${((f.clientX - r.left) / r.width) * 100}%`;
      b.style.top = `${((f.clientY - r.top) / r.height) * 100}%`;
      room.tell(`${now[1]} % at frame ${now[0]} of the shot`);
    };
    b.addEventListener("pointermove", move);
    b.addEventListener(
      "pointerup",
      () => {
        b.removeEventListener("pointermove", move);
        if (now) void send([...rows(b), now]);
      },
      { once: true },
    );
  });
  panel.addEventListener("keydown", (e) => {
    const b = target(e).closest?.("#pace-draw button");
    if (!b) return;
    const at = num(b.dataset.at),
      percent = num(b.dataset.percent),
      far = e.shiftKey ? 5 : 1;
    const to = {
      ArrowLeft: [at - far, percent],
      ArrowRight: [at + far, percent],
      ArrowUp: [at, percent + 10 * far],
      ArrowDown: [at, percent - 10 * far],
    }[e.key];
    if (!to && e.key !== "Delete" && e.key !== "Backspace") return;
    e.preventDefault();
    e.stopPropagation();
    void send(to ? [...rows(b), to] : rows(b), to?.[0]);
  });
  panel.addEventListener("change", (e) => {
    const el = target(e);
    if (el.id === "pace-place") place = el.checked;
    if (el.id === "pace-percent" && el.value.trim())
      void room.edit("set_speed", {
        item: item(),
        percent: num(el.value.replace(/[%\s]/g, "").replace(",", ".")),
        keep: keep(),
      });
    if (el.id === "pace-length" && el.value.trim())
      void readTime(el.value, "length").then((got) => {
        if (got.frame) void room.edit("fill_length", { item: item(), length: got.frame });
        else room.say(got.error ?? "Type a length, like 4s or 3:12.", true);
      });
    if (el.id === "pace-steps") void room.edit("set_ramp", { item: item(), steps: el.checked, keep: keep() });
  });
  panel.addEventListener("toggle", (e) => (open = inside(e, "#pace-ramp")?.open ?? open), true);
  const lands = () => panel.querySelector("[data-do=land]")?.setAttribute("aria-pressed", String(held !== null));
  return {
    /** The panel was drawn: as it stood. */
    drawn: () => {
      if (!pace()) return;
      byId("pace-place").checked = place;
      if (open) byId("pace-ramp").open = true;
      if (heldOn !== item()) held = null;
      lands();
    },
    ramp: () => {
      const typed = byId("pace-here").value.replace(/[%\s]/g, "").replace(",", ".") || "400";
      // what was seen is seen on, wherever it lies now: the next moment is set from there
      const asked = { item: item(), at: room.player.frame, percent: num(typed), keep: keep() };
      return room.edit("ramp_here", asked, (/** @type {any} */ got) => room.player.seek(got.playhead));
    },
    unramp: () => room.edit("set_ramp", { item: item(), line: [], keep: keep() }),
    /** What is seen now lands where the playhead is when this is done a second time. */
    land: () => {
      const { frame } = room.player;
      if (held === null || heldOn !== item()) {
        [held, heldOn] = [frame, item()];
        room.say("Held. Now put the playhead where that is to be seen, and land it.");
      } else {
        const at = held;
        held = null;
        void room.edit("land_on", { item: item(), at, until: frame });
      }
      lands();
    },
  };
}
