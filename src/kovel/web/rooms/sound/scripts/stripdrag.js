// Pointer on the strip: choose, go there, drag level lines, moments, fades, edges and sounds. What is dragged is drawn
// as it would be; the edit goes to the server when it is let go.
import { within } from "/static/js/declared.js";
import { frameSelect, touches } from "/static/js/frameselect.js";
import { nearest } from "/static/js/snapping.js";
import { pieceEdges } from "./stripedges.js";
import { FRAMES, RULER } from "./stripfilm.js";
import { along, momentOf, under } from "./striplines.js";

const NEAR = 6; // pixels
const SNAPS = 8;
/** What runs backwards has its last moment first. @param {number[][]} rows */
const inOrder = (rows) => rows.sort(([p], [q]) => p - q);

/** @param {import("./strip.js").Strip} strip @param {any} room choose, edit, seek, player */
export function dragging(strip, room) {
  const { canvas } = strip,
    edges = pieceEdges(strip, room);
  /**
   * What is dragged, from where, and as what it would be. @type {any}
   */
  let drag = null;
  const place = (/** @type {MouseEvent} */ e) => {
    const r = canvas.getBoundingClientRect();
    return [e.clientX - r.left, e.clientY - r.top];
  };

  /**
   * What a pointer there would take hold of.
   * @param {number} x @param {number} y
   * @returns {{what: string;b: import("./stripblocks.js").Block;f?: number;db?: number;} | null}
   */
  function hold(x, y) {
    const b = under(strip, x, y);
    if (!b) return null;
    const box = strip.box(b),
      edge = Math.min(8, box.w / 4);
    if (b.heard) {
      for (const what of ["duck", "line"])
        for (const [f, db] of b[what])
          if (Math.abs(strip.x(f) - x) < NEAR && Math.abs(strip.y(db, box) - y) < NEAR + 2)
            return { what: what === "duck" ? "duck moment" : "moment", b, f, db };
      if (y < box.y + 10 && strip.chosen.has(b.id)) {
        if (Math.abs(x - strip.x(b.at + b.fade_in)) < NEAR) return { what: "fade_in", b };
        if (Math.abs(x - strip.x(b.at + b.length - b.fade_out)) < NEAR) return { what: "fade_out", b };
      }
    }
    if (b.kind === "piece" && edges.hold(b, box, x)) return edges.hold(b, box, x);
    if (b.kind === "sound") {
      if (x < box.x + edge) return { what: "in", b };
      if (x > box.x + box.w - edge) return { what: "out", b };
    }
    if (b.heard) {
      const f = strip.frameAt(x),
        level = b.level ?? along(b.line, f);
      if (Math.abs(strip.y(level, box) - y) < NEAR - 1) return { what: "level", b };
    }
    return { what: b.kind === "sound" ? "move" : "choose", b };
  }

  /** Whether a height lies in the lanes, under frames and ruler. @param {number} y */
  const inLanes = (y) => strip.data && y > RULER + FRAMES && y < strip.graph;
  frameSelect(strip.scroll, {
    begins: (e) => {
      const [x, y] = place(e);
      return inLanes(y) && !hold(x, y);
    },
    clips: (rect) => {
      const { left, top } = canvas.getBoundingClientRect();
      return strip.data.blocks.map((/** @type {Block} */ b) => {
        const box = strip.box(b),
          drawn = { left: left + box.x, top: top + box.y, right: left + box.x + box.w, bottom: top + box.y + box.h };
        return [b.id, touches(rect, drawn)];
      });
    },
    select: (ids, more) => room.chooseAll(more ? [...strip.chosen, ...ids] : ids),
  });

  /** @type {Record<string, string>} */ const CURSORS = {
    level: "ns-resize",
    moment: "move",
    "duck moment": "move",
    roll: "col-resize",
    in: "ew-resize",
    out: "ew-resize",
  };
  const cursor = (/** @type {string|undefined} */ what) =>
    CURSORS[what ?? ""] || (what?.startsWith("fade") ? "ew-resize" : what === "move" ? "grab" : "default");

  /**
   * The nearest cut, mark, beat, word or the playhead, if it is near.
   * @param {number} f @param {PointerEvent} e @param {any} own
   * @param {number} [without] a cut that is no target: the one that is dragged
   */
  function snap(f, e, own, without) {
    if (e.shiftKey) return Math.round(f);
    const { blocks, length, seams, beats, markers } = strip.data,
      others = blocks.filter((/** @type {Block} */ b) => b.id !== own && b.kind !== "piece");
    const to = nearest(f, SNAPS / strip.px, [
      ["cut", [0, length, ...seams].filter((cut) => cut !== without)],
      ["mark", [strip.frame, strip.marks.a, strip.marks.b]],
      ["marker", markers.map((/** @type {[number]} */ [at]) => at)],
      ["beat", beats],
      ["edge", others.flatMap((/** @type {Block} */ b) => [b.at, b.at + b.length])],
      ["word", strip.words.between(f - 100, f + 100).map(([w]) => w)],
    ]);
    return to.what ? to.at : Math.round(f);
  }

  canvas.addEventListener("pointerdown", (/** @type {PointerEvent} */ e) => {
    if (!strip.data || e.button) return;
    const [x, y] = place(e),
      held = hold(x, y);
    strip.scroll.focus({ preventScroll: true });
    canvas.setPointerCapture(e.pointerId);
    drag = { x, y, held, moved: false, going: !held || held.what === "choose" };
    if (held?.b.kind === "piece" && ["in", "out", "roll"].includes(held.what)) room.player.stop();
    const more = e.shiftKey || e.ctrlKey || e.metaKey;
    if (held && !strip.chosen.has(held.b.id)) room.choose(held.b.id, more);
    else if (held && more) drag.drops = held.b.id; // unless it is dragged
    drag.items = [...strip.chosen];
    strip.moment = held?.what.endsWith("moment") ? [held.b.id, held.f] : null;
    if (e.altKey && held && strip.moment) {
      drag = null;
      if (held.what === "moment") room.edit("take_level_point", { item: held.b.id, at: held.f });
      else withoutDuck(held);
      return;
    }
    if (!held) {
      if (!more) room.choose(null);
      room.seek(strip.frameAt(x));
      if (inLanes(y)) drag = null; // a frame is drawn there
    } else if (held.what === "choose") room.seek(strip.frameAt(x));
    strip.draw();
  });

  canvas.addEventListener("pointermove", (/** @type {PointerEvent} */ e) => {
    const [x, y] = place(e);
    if (!drag) {
      canvas.style.cursor = cursor(hold(x, y)?.what);
      return;
    }
    if (!drag.moved && Math.hypot(x - drag.x, y - drag.y) < 3) return;
    drag.moved = true;
    if (drag.going) {
      if (!drag.held) room.seek(strip.frameAt(x));
      return;
    }
    draft(x, y, e);
    strip.draw();
  });

  /** @param {number} x @param {number} y @param {PointerEvent} e */
  function draft(x, y, e) {
    const { what, b, f, db } = drag.held,
      box = strip.box(b),
      by = (x - drag.x) / strip.px,
      fine = e.ctrlKey ? 0.2 : 1;
    if (what === "level") {
      drag.by = Math.round((strip.db(y, box) - strip.db(drag.y, box)) * fine * 10) / 10;
      for (const id of drag.items) {
        const o = strip.data.blocks.find((/** @type {{ id: any; }} */ q) => q.id === id);
        if (!o?.heard) continue;
        const level = o.level === null ? null : held(o.level + drag.by);
        strip.drafts.set(id, {
          level,
          line: o.line.map((/** @type {[number, number]} */ [m, d]) => [m, held(d + drag.by)]),
          tells: `${level ?? ""} dB`,
        });
      }
      room.tell(`${drag.by > 0 ? "+" : ""}${drag.by.toFixed(1)} dB`);
    } else if (what === "moment" || what === "duck moment") {
      const key = what === "moment" ? "line" : "duck",
        setting = key === "duck" ? "duck" : "level";
      drag.at = Math.max(b.at, Math.min(b.at + b.length, snap(f + by, e, b.id)));
      drag.value = within(setting, db + (strip.db(y, box) - strip.db(drag.y, box)) * fine);
      const rows = b[key].filter((/** @type {[number, number]} */ [m]) => m !== f && m !== drag.at);
      rows.push([drag.at, drag.value]);
      rows.sort((/** @type {number[]} */ p, /** @type {number[]} */ q) => p[0] - q[0]);
      drag.rows = rows;
      strip.drafts.set(b.id, { [key]: rows });
      room.tell(`${drag.value > 0 ? "+" : ""}${drag.value.toFixed(1)} dB`);
    } else if (what.startsWith("fade")) {
      const to = snap(strip.frameAt(x), e, b.id),
        n = what === "fade_in" ? to - b.at : b.at + b.length - to,
        other = what === "fade_in" ? b.fade_out : b.fade_in;
      drag.frames = Math.max(0, Math.min(b.length - other, n));
      strip.drafts.set(b.id, { [what]: drag.frames });
      room.tell(`${(drag.frames / strip.fps).toFixed(2)} s, ${drag.frames} frames`);
    } else if (b.kind === "piece" && ["in", "out", "roll"].includes(what)) {
      const was = what === "out" ? b.at + b.length : b.at;
      drag.delta = edges.draft(what, b, snap(was + by, e, b.id, was) - was);
    } else if (what === "in" || what === "out") {
      const to = snap(strip.frameAt(x), e, b.id);
      drag.delta = to - (what === "in" ? b.at : b.at + b.length);
      if (what === "in")
        strip.drafts.set(b.id, {
          at: b.at + drag.delta,
          start: momentOf(b, b.at + drag.delta),
          length: b.length - drag.delta,
        });
      else strip.drafts.set(b.id, { length: b.length + drag.delta });
      room.tell(`${drag.delta > 0 ? "+" : ""}${drag.delta} frames`);
    } else if (what === "move" && together().length > 1) {
      drag.by = snap(b.at + by, e, b.id) - b.at;
      for (const o of together())
        strip.drafts.set(o.id, { at: o.at + drag.by, tie: o.tie === null ? null : o.at + drag.by });
      room.tell(`${together().length} clips: ${drag.by > 0 ? "+" : ""}${drag.by} frames`);
    } else if (what === "move") {
      const at = snap(b.at + by, e, b.id),
        end = snap(b.at + b.length + by, e, b.id) - b.length;
      drag.at = Math.abs(end - b.at - by) < Math.abs(at - b.at - by) && end !== Math.round(b.at + by) ? end : at;
      drag.at = Math.max(0, drag.at);
      strip.drafts.set(b.id, { at: drag.at, tie: b.tie === null ? null : drag.at });
      room.tell(`${drag.at - b.at > 0 ? "+" : ""}${drag.at - b.at} frames`);
    }
  }

  /** The sounds and shots that a drag moves, where they are several. @returns {Block[]} */
  const together = () =>
    strip.data.blocks.filter((/** @type {Block} */ o) => o.kind !== "piece" && drag.items.includes(o.id));
  const held = (/** @type {number} */ db) => within("level", db);

  /** @param {{b: import("./stripblocks.js").Block, f?: number}} held */
  function withoutDuck({ b, f }) {
    const rows = inOrder(b.duck.filter(([m]) => m !== f).map(([m, d]) => [momentOf(b, m), d]));
    room.edit(rows.length ? "set_value" : "reset_value", {
      to: [b.id],
      setting: "duck",
      ...(rows.length ? { value: rows } : {}),
    });
  }

  canvas.addEventListener("pointerup", () => {
    const d = drag;
    drag = null;
    if (d?.drops && !d.moved) room.choose(d.drops, true);
    if (!d?.held || !d.moved || d.going) return;
    const { what, b, f } = d.held;
    if (what === "level" && d.by) room.edit("change_level", { items: d.items, by: d.by });
    else if (what === "moment" && d.rows) room.edit("level_point", { item: b.id, at: d.at, value: d.value, was: f });
    else if (what === "duck moment" && d.rows)
      room.edit("set_value", {
        to: [b.id],
        setting: "duck",
        value: inOrder(d.rows.map((/** @type {[number, number]} */ [m, q]) => [momentOf(b, m), q])),
      });
    else if (what.startsWith("fade") && d.frames !== undefined && d.frames !== b[what])
      room.edit("set_value", { to: [b.id], setting: what, value: d.frames });
    else if (b.kind === "piece" && d.delta !== undefined) edges.done(what, b, d.delta);
    else if ((what === "in" || what === "out") && d.delta)
      room.edit("trim_sound", { sound: b.id, edge: what, delta: d.delta });
    else if (what === "move" && d.by && d.items.length > 1) room.edit("move_clips", { items: d.items, delta: d.by });
    else if (what === "move" && d.at !== undefined && d.at !== b.at)
      room.edit("move_sound", { sound: b.id, at: d.at });
    else {
      strip.drafts.clear();
      strip.draw();
    }
  });
  canvas.addEventListener("pointercancel", () => {
    drag = null;
    edges.away();
    strip.drafts.clear();
    strip.draw();
  });

  // A double click on a level line adds a moment to it.
  canvas.addEventListener("dblclick", (/** @type {MouseEvent} */ e) => {
    const [x, y] = place(e),
      b = under(strip, x, y);
    if (!b?.heard) return;
    const at = Math.round(strip.frameAt(x));
    room.edit("level_point", { item: b.id, at: Math.max(b.at, Math.min(b.at + b.length, at)), by: 0 });
  });

  // Nearer with Ctrl and the wheel; the wheel alone goes along.
  strip.scroll.addEventListener(
    "wheel",
    (/** @type {WheelEvent} */ e) => {
      const [x] = place(e);
      if (e.ctrlKey) room.nearer(-Math.sign(e.deltaY) * 6, strip.frameAt(x));
      else if (Math.abs(e.deltaY) > Math.abs(e.deltaX)) strip.scroll.scrollLeft += e.deltaY;
      else return;
      e.preventDefault();
    },
    { passive: false },
  );
}
