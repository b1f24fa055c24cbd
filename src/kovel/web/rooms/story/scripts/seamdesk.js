// The seam desk: both frames, both edges close up, and what can be set at the chosen seam. Every change is an edit.
import { readTime } from "/static/js/times.js";
import { $, $$, inside, num, brush } from "/static/js/dom.js";
import { redraw, say } from "/static/js/base.js";
import { Loupe } from "/static/js/loupe.js";
import { layerOf } from "/static/js/plan.js";
import { Frames } from "/static/js/picture.js";
import { Recording } from "/static/js/media.js";

const released = () =>
  new Promise((done) => {
    for (const kind of ["pointerup", "pointercancel", "keyup"])
      document.addEventListener(kind, () => setTimeout(done), { once: true });
  });

/** @param {StoryRoom} story */
export function seamDesk(story) {
  const { base, player, edit, choice, project } = story,
    choose = (/** @type {any} */ what) => choice.choose(what);
  const place = $("#desk-place");
  /** @type {number|null} */ let shown = null;
  /** @type {Frames|null} */ let pictures = null;
  let blink = 0,
    asked = 0,
    seconds = 4; // that the loupes show, kept from trim to trim and from seam to seam

  /** @param {any} id */
  async function open(id) {
    const n = ++asked,
      r = await fetch(`${base}/seam?piece=${id}`, { headers: { "X-Kovel": "1" } });
    if (n !== asked) return;
    if (!r.ok) return close();
    const html = await r.text();
    if (place.matches(":active")) await released(); // a click or a drag under way ends first
    if (n !== asked) return;
    redraw(place, () => {
      place.innerHTML = html;
    });
    shown = id;
    stopCompare();
    draw();
    for (const el of $$(".loupe[data-recording]", place)) loupe(el);
  }
  function close() {
    asked++;
    shown = null;
    stopCompare();
    place.replaceChildren();
    pictures?.clear();
  }

  // Both frames, decoded exactly; without the decoder the nearest picture of a video element.
  async function draw() {
    const all = $$(".desk-frame[data-source]", place);
    for (const c of $$(".desk-frame:not([data-source])", place)) {
      const g = brush(c);
      g.fillStyle = "#000";
      g.fillRect(0, 0, c.width, c.height);
    }
    if (!all.length || !Frames.usable()) return;
    pictures ||= new Frames();
    const rate = player.plan.rate,
      want = [];
    for (const c of all) {
      const rec = await Recording.of(num(c.dataset.source)).catch(() => null);
      if (!rec) continue;
      c.frame = [
        rec.id,
        Math.max(
          0,
          Math.min(
            rec.frames - 1,
            Math.floor((num(c.dataset.shown) * rate[1] * rec.facts.rate[0]) / (rate[0] * rec.facts.rate[1])),
          ),
        ),
      ];
      want.push(c.frame);
    }
    pictures.want(want);
    for (let i = 0; i < 100; i++) {
      if (all.every((c) => !c.frame || paint(c, c, 1))) break;
      await new Promise((r) => setTimeout(r, 20));
    }
  }
  /** @param {HTMLCanvasElement} c @param {any} from @param {number} share */
  function paint(c, from, share) {
    const f = from.frame && pictures?.get(from.frame[0], from.frame[1]);
    if (!f) return false;
    const layer = layerOf(JSON.parse(from.dataset.layer)[0], 0);
    if (layer.look && !player.looks.ready(layer.look)) return false;
    const g = brush(c);
    player.drawing.layer(f, { ...layer, share }, g);
    g.globalAlpha = 1;
    return true;
  }
  function stopCompare() {
    clearInterval(blink);
    blink = 0;
  }
  /** @param {string} how @param {HTMLElement} button */
  function compare(how, button) {
    const on = button.getAttribute("aria-pressed") !== "true",
      [a, b] = $$(".desk-frame", place);
    for (const x of $$("[data-desk=blink],[data-desk=overlay]", place)) x.setAttribute("aria-pressed", "false");
    stopCompare();
    paint(b, b, 1);
    if (!on) return;
    button.setAttribute("aria-pressed", "true");
    if (how === "overlay") {
      paint(b, a, 0.5);
      return;
    }
    let first = true;
    blink = setInterval(() => {
      paint(b, first ? a : b, 1);
      first = !first;
    }, 350);
  }

  // An edge close up, with the material beyond it: dragging it trims when let go.
  /** @param {HTMLElement} el */
  async function loupe(el) {
    const id = num(el.dataset.recording),
      at = num(el.dataset.edge),
      which = el.dataset.which ?? "in",
      rate = player.plan.rate;
    let now = at;
    const l = new Loupe(el, {
      recording: id,
      fps: player.fps,
      rate,
      total: num(el.dataset.total),
      words: [],
      get: () => now,
      set: (/** @type {number} */ f) => {
        now = f;
      },
      go: () => {
        clearTimeout(el.due);
        el.due = setTimeout(commit, el.matches(":active") ? 1e6 : 400);
      },
    });
    const commit = () => {
      clearTimeout(el.due);
      const delta = now - at;
      if (delta) nudge(which, delta);
    };
    el.addEventListener("pointerup", () => setTimeout(commit));
    l.seconds = seconds;
    l.widened = (wide) => {
      seconds = wide;
    };
    l.show(at);
    const words =
      (await (
        await fetch(`${project}/recordings/${id}/words/near?at=${at}`).catch(() => null)
      )
        ?.json?.()
        .catch(() => [])) || [];
    l.words = words.map((/** @type {[number, number, string]} */ [a, b, text]) => ({
      a,
      b,
      el: { textContent: text },
    }));
    l.draw();
  }
  /** @param {string} which @param {number} delta */
  function nudge(which, delta) {
    const rows = choice.pieces(),
      i = rows.findIndex((/** @type {{ id: any; }} */ p) => p.id === shown);
    if (i < 1) return null;
    return edit("trim", { piece: which === "out" ? rows[i - 1].id : rows[i].id, edge: which, delta });
  }

  /** @type {Record<string, () => unknown>} */ const acts = {
    previous: () => story.seamStep(-1),
    next: () => story.seamStep(1),
    jump: () => story.seamStep(1, "jump"),
    loop: story.loopSeam,
    close: () => choose(null),
  };
  place.addEventListener("click", (/** @type {MouseEvent} */ e) => {
    const d = inside(e, "[data-desk]"),
      n = inside(e, "[data-nudge]"),
      r = inside(e, "[data-roll]"),
      o = inside(e, "[data-offer]");
    if (d) (acts[d.dataset.desk] || (() => compare(d.dataset.desk, d)))();
    else if (n) {
      const [which, by] = n.dataset.nudge.split(",");
      nudge(which, num(by));
    } else if (r) edit("roll", { piece: shown, delta: num(r.dataset.roll) });
    else if (o) {
      const x = JSON.parse(o.dataset.offer);
      edit(x.command, x.params);
    }
  });
  /** @param {any} form */
  async function set(form) {
    const input = form.elements.value,
      blending = form.elements.blend;
    if (
      input.value === input.defaultValue &&
      (!blending ||
        blending.dataset.sent === blending.value ||
        ![...blending.options].some((o) => o.selected !== o.defaultSelected))
    )
      return null; // sent already, or nothing new
    input.defaultValue = input.value;
    if (blending) blending.dataset.sent = blending.value;
    const what = form.dataset.set,
      got = await readTime(input.value, "delta");
    if (got.error) {
      say(got.error, true);
      input.defaultValue = "";
      return null;
    } // field and text stay
    const n = got.frame;
    if (what === "split") return edit("split_edit", { piece: shown, frames: n });
    if (what === "cross") return edit("crossfade", { piece: shown, frames: n });
    const blend = form.elements.blend.value;
    return edit("set_blend", { piece: shown, blend, ...(blend === "cut" ? {} : { length: n }) });
  }
  place.addEventListener("submit", (/** @type {Event} */ e) => {
    e.preventDefault();
    set(e.target);
  });
  place.addEventListener("change", (/** @type {Event} */ e) => {
    const f = inside(e, "form[data-set]");
    if (f) set(f);
  });

  // The sound's edge, dragged against the picture's.
  /** @type {any} */ let held = null;
  const value = (/** @type {PointerEvent} */ e, /** @type {Element} */ svg) => {
    const r = svg.getBoundingClientRect();
    return Math.round(((e.clientX - r.left) / r.width) * 100 - 50);
  };
  const move = (/** @type {ParentNode} */ svg, /** @type {number} */ v) => {
    const [, , a, b] = $$("rect", svg);
    a.setAttribute("width", 50 + v);
    b.setAttribute("x", v);
    b.setAttribute("width", 50 - v);
    $("#desk-split").value = v;
  };
  place.addEventListener("pointerdown", (/** @type {PointerEvent} */ e) => {
    const s = inside(e, ".desk-split");
    if (s) {
      held = s;
      s.setPointerCapture(e.pointerId);
      move(s, value(e, s));
    }
  });
  place.addEventListener("pointermove", (/** @type {PointerEvent} */ e) => {
    if (held) move(held, Math.max(-50, Math.min(50, value(e, held))));
  });
  place.addEventListener("pointerup", (/** @type {PointerEvent} */ e) => {
    if (held) {
      const v = Math.max(-50, Math.min(50, value(e, held)));
      held = null;
      edit("split_edit", { piece: shown, frames: v });
    }
  });
  place.addEventListener("keydown", (/** @type {KeyboardEvent} */ e) => {
    if (!inside(e, ".desk-split")) return;
    const by = /** @type {Record<string, number>} */ ({ ArrowLeft: -1, ArrowRight: 1 })[e.key];
    if (by) {
      e.preventDefault();
      e.stopPropagation();
      edit("split_edit", { piece: shown, frames: num($("#desk").dataset.split) + by * (e.shiftKey ? 5 : 1) });
    }
  });

  document.addEventListener("chosen", (e) => {
    if (e.detail?.kind === "seam") open(e.detail.id);
    else if (shown !== null) close();
  });
  document.addEventListener("look", () => {
    if (shown !== null) open(shown);
  });
}
