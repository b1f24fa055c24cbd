// Dragging on the lined page: shots and bites onto words, pieces by their grip, covers by themselves and by their ends.
import { $$, inside, num } from "/static/js/dom.js";
import { nearest } from "/static/js/snapping.js";
import { edgeDragging } from "./storyedges.js";

/**
 * @param {HTMLElement} scroll
 * @param {{sheet: () => HTMLElement, px: () => number, frameAt: (y: number) => number,
 *   player: import("/static/js/player.js").Player, choice: import("./storychoice.js").Choice,
 *   hand: import("./storyshelf.js").Hand, project: string, edit: (command: string, params: object) => any,
 *   coverAt: (at: number, said?: {how?: string, lane?: number}) => any,
 *   swept: () => void}} story `swept`: the click that follows chooses nothing
 */
export function dragging(scroll, story) {
  const { sheet, px, frameAt, player, choice, hand, edit } = story;
  /** What is dragged. @type {any} */ let drag = null;
  /** Where it would land, drawn. @type {HTMLElement|null} */ let line = null;
  /** A cover's end that is dragged. @type {any} */ let end = null;
  let caught = ""; // what a drag has snapped to

  // A cover's ends are dragged by themselves: the button under them must not begin a drag of its own.
  scroll.addEventListener("pointerdown", (e) => {
    const h = inside(e, ".cover-end");
    if (!h) return;
    e.preventDefault();
    const el = h.closest(".laid"),
      { cover, at, length } = el.dataset,
      edge = h.dataset.edge;
    end = { id: num(cover), edge, from: num(at) + (edge === "out" ? num(length) : 0), el };
    el.draggable = false;
    h.setPointerCapture(e.pointerId);
  });
  scroll.addEventListener("pointermove", (e) => {
    if (!end) return;
    end.to = snapped(frameAt(e.clientY), e.altKey);
    landingLine(end.to);
  });
  scroll.addEventListener("pointerup", () => {
    if (!end) return;
    const d = end;
    end = null;
    landed();
    story.swept();
    d.el.draggable = true;
    if (d.to === undefined) return choice.choose({ kind: "cover", id: d.id }); // a click
    if (d.to !== d.from) edit("trim_cover", { cover: d.id, edge: d.edge, delta: d.to - d.from });
  });

  // To a cut, a mark, the playhead, a cover's end or a beat of the music within a few pixels; Alt lets go of it.
  /** @param {number} f */
  function snapped(f, free = false, without = /** @type {number[]} */ ([])) {
    caught = "";
    if (free) return f;
    const { plan } = player,
      own = end?.id ?? drag?.id,
      cuts = [...plan.pieces.map((/** @type {any[]} */ p) => p[1]), plan.length];
    const to = nearest(f, Math.max(2, 6 / px()), [
      ["cut", cuts.filter((/** @type {number} */ cut) => !without.includes(cut))],
      ["in", [choice.marks.a]],
      ["out", [choice.marks.b]],
      ["playhead", [player.frame]],
      [
        "cover",
        (plan.covers || [])
          .filter((/** @type {number[]} */ [id]) => id !== own)
          .flatMap((/** @type {number[]} */ [, a, b]) => [a, b]),
      ],
      ["marker", (plan.markers || []).map(([, at]) => at)],
      ["beat", plan.beats || []],
    ]);
    caught = to.what;
    return to.at;
  }

  /** @param {number|null} at null: nowhere */
  function landingLine(at) {
    if (at === null) {
      line?.remove();
      line = null;
      return;
    }
    if (!line) {
      line = document.createElement("div");
      line.className = "landing";
      sheet().append(line);
    }
    line.style.top = `${at * px()}px`;
    line.dataset.at = caught;
  }
  /**
   * What the drop would do, at the line; of an overwrite, how far it reaches. @param {{how?: string, lane?: number}} l
   */
  function told({ how, lane }) {
    if (!line) return;
    const long = drag.item ? num(drag.item.dataset.length) : 0,
      what = how === "cover" && lane ? `cover, lane ${lane}` : how;
    line.dataset.at = [what, caught].filter(Boolean).join(" · ");
    line.style.height = how === "overwrite" ? `${long * px()}px` : "";
    line.classList.toggle("reaches", how === "overwrite");
  }
  const untarget = () => {
    for (const x of $$(".w.is-target")) x.classList.remove("is-target");
  };

  // What is dragged, taken hold of there; nothing where nothing can be.
  /** @param {MouseEvent} e */
  function held(e) {
    const i = inside(e, ".shelf-item"),
      c = inside(e, ".laid"),
      s = inside(e, ".sound-line"),
      p = inside(e, ".grip")?.closest(".piece");
    const hold = (/** @type {HTMLElement} */ el) => frameAt(e.clientY) - num(el.dataset.at);
    if (i) return { kind: i.dataset.kind, item: i };
    if (c) return { kind: "cover", id: num(c.dataset.cover), hold: hold(c) };
    if (s) return { kind: "laid-sound", id: num(s.dataset.sound), hold: hold(s) };
    if (!p) return null;
    const id = num(p.dataset.piece),
      all = choice.several("piece");
    return { kind: "piece", id, ids: all?.includes(id) ? all : null };
  }
  document.addEventListener("dragstart", (e) => {
    drag = held(e);
    if (!drag) return;
    e.dataTransfer?.setData("text/plain", "kovel");
    if (e.dataTransfer) e.dataTransfer.effectAllowed = "copyMove";
  });

  /** The cover lane under a pointer, one beyond those there are included; none over the words. @param {MouseEvent} e */
  function laneAt(e) {
    const [left, wide, lanes] = String(sheet().dataset.lanes).split(",").map(Number),
      x = e.clientX - sheet().getBoundingClientRect().left - left;
    return x < 0 ? undefined : Math.min(lanes + 1, 1 + Math.floor(x / wide));
  }
  /** What a drop there does, as the core declares it. @param {MouseEvent} e @param {number|undefined} lane */
  function howAt(e, lane) {
    const ways = JSON.parse(String(sheet().dataset.drops))[drag.kind]?.[lane === undefined ? "words" : "lanes"];
    return ways?.[e.shiftKey ? 1 : e.ctrlKey || e.metaKey ? 2 : 0];
  }
  // Where a drag would land, and what it would do: {at, word?} for covers, {before} for pieces.
  /** @param {MouseEvent} e @returns {{at: number, before?: number|null, word?: any, how?: string, lane?: number}} */
  function landing(e) {
    const w = /** @type {any} */ (document.elementFromPoint(e.clientX, e.clientY))?.closest(".w"),
      lane = laneAt(e),
      how = howAt(e, lane);
    if (how === "insert" || drag.kind === "piece") {
      const t = frameAt(e.clientY),
        next = choice.pieces().find((/** @type {{ at: number; length: number; }} */ p) => t < p.at + p.length / 2);
      caught = "";
      return { at: next ? next.at : num(sheet().dataset.length), before: next ? next.id : null, how };
    }
    const onLane = how === "cover" || drag.kind === "cover" ? { lane } : {};
    return { how, ...onLane, ...placed(e, w) };
  }
  /** @param {MouseEvent} e @param {any} w */
  function placed(e, w) {
    const to = snapped(Math.max(0, frameAt(e.clientY) - (drag.hold || 0)), e.altKey);
    if (!w || e.altKey || drag.kind === "laid-sound") return { at: to };
    caught = "";
    return { at: num(w.dataset.f), word: w }; // let go on a word, it is the word that counts
  }
  /** @param {DragEvent|PointerEvent} e */
  function over(e) {
    const l = landing(e);
    untarget();
    l.word?.classList.add("is-target");
    landingLine(l.at);
    told(l);
  }
  scroll.addEventListener("dragover", (e) => {
    if (!drag) return;
    e.preventDefault();
    over(e);
  });

  // By finger or pen, for which a browser begins no drag: covers and sounds by themselves, pieces by their grip.
  /** @type {{x: number, y: number, moved: boolean}|null} */ let finger = null;
  scroll.addEventListener("pointerdown", (e) => {
    if (e.pointerType === "mouse" || end || inside(e, ".edge, .seam, .cover-end")) return;
    drag = held(e);
    if (drag) finger = { x: e.clientX, y: e.clientY, moved: false };
  });
  scroll.addEventListener("pointermove", (e) => {
    if (!finger || !drag) return;
    finger.moved ||= Math.hypot(e.clientX - finger.x, e.clientY - finger.y) > 8;
    if (finger.moved) over(e);
  });
  scroll.addEventListener("pointerup", (e) => {
    const was = finger,
      d = drag;
    if (!was) return;
    finger = null;
    const l = was.moved ? landing(e) : null;
    landed();
    if (!l) return;
    story.swept();
    dropped(d, l);
  });
  scroll.addEventListener("pointercancel", () => {
    if (!finger) return; // of a mouse a drag of the browser's begins with it
    finger = null;
    landed();
  });
  function landed() {
    line?.remove();
    line = null;
    untarget();
    drag = null;
  }
  document.addEventListener("dragend", landed);
  scroll.addEventListener("drop", (e) => {
    if (!drag) return;
    e.preventDefault();
    const l = landing(e),
      d = drag;
    landed();
    dropped(d, l);
  });
  /**
   * @param {{ kind: string; ids: any; id: any; item: HTMLElement; }} d
   * @param {{at: number, before?: any, word?: any, how?: string, lane?: number}} l
   */
  function dropped(d, l) {
    if (d.kind === "piece" && d.ids) return edit("move_several", { pieces: d.ids, before: l.before });
    if (d.kind === "piece") return edit("move", { piece: d.id, before: l.before });
    const laid = choice.several()?.includes(d.id) ? choice.clips().filter((clip) => clip.kind !== "piece") : [];
    if (laid.length > 1) {
      const held = laid.find((clip) => clip.id === d.id);
      return edit("move_clips", { items: laid.map((clip) => clip.id), delta: l.at - (held?.at ?? l.at) });
    }
    if (d.kind === "laid-sound") return edit("move_sound", { sound: d.id, at: l.at });
    if (d.kind === "cover") return edit("move_cover", { cover: d.id, at: l.at, ...(l.lane ? { lane: l.lane } : {}) });
    if (!hand.all.includes(d.item)) hand.take(d.item);
    choice.choose(null);
    return story.coverAt(l.at, { how: l.how, lane: l.lane });
  }
  const edges = edgeDragging(scroll, { ...story, snapped, landing: landingLine });
  return { under: () => drag !== null || edges.under() };
}
