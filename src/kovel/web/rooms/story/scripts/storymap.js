// Around the lined page: the whole story as a strip to click, finding words, and the stories of the project.
import { $, byId, inside, num, brush } from "/static/js/dom.js";
/** @param {StoryRoom} story */
export function aroundThePage(story) {
  const { base, project, scroll, px, player } = story;
  const map = byId("map");

  function paint() {
    const box = scroll.getBoundingClientRect(),
      k = devicePixelRatio || 1,
      h = scroll.clientHeight,
      n = Math.max(1, player.plan?.length || 1);
    map.style.top = `${box.top}px`;
    map.style.height = `${h}px`;
    map.width = 14 * k;
    map.height = h * k;
    const g = brush(map),
      style = getComputedStyle(document.documentElement),
      colour = (/** @type {string} */ x) => style.getPropertyValue(x).trim(),
      y = (/** @type {number} */ f) => (f / n) * h * k;
    g.fillStyle = colour("--tint");
    g.fillRect(0, y(scroll.scrollTop / px()), 14 * k, Math.max(4, y(h / px())));
    g.fillStyle = colour("--soft");
    for (const [, at, length, source] of player.plan.pieces)
      if (source !== null) g.fillRect(2 * k, y(at), 3 * k, Math.max(1, y(length) - 1));
    g.fillStyle = colour("--cover");
    for (const [, a, b] of player.plan.covers) g.fillRect(7 * k, y(a), 3 * k, Math.max(1, y(b - a)));
    g.fillStyle = colour("--pencil");
    for (const [at, kind] of player.plan.seams) if (kind === "jump") g.fillRect(0, y(at) - k, 12 * k, 2 * k);
    g.fillRect(0, y(player.frame), 14 * k, k);
  }
  let due = false;
  const soon = () => {
    if (!due && player.plan?.covers) {
      due = true;
      requestAnimationFrame(() => {
        due = false;
        paint();
      });
    }
  };
  for (const e of ["dressed", "look"]) document.addEventListener(e, soon);
  scroll.addEventListener("scroll", soon, { passive: true });
  player.addEventListener("time", soon);
  new ResizeObserver(soon).observe(scroll);
  const to = (/** @type {PointerEvent} */ e) => {
    const r = map.getBoundingClientRect();
    player.seek(Math.round(((e.clientY - r.top) / r.height) * player.plan.length));
  };
  map.addEventListener("pointerdown", (/** @type {PointerEvent} */ e) => {
    map.setPointerCapture(e.pointerId);
    to(e);
  });
  map.addEventListener("pointermove", (/** @type {PointerEvent} */ e) => {
    if (e.buttons) to(e);
  });
  soon();

  // ---- find
  const box = byId("find"),
    text = $("input", box);
  /** @type {string | any[]} */ let hits = [],
    at = -1;
  async function look() {
    hits = text.value.trim()
      ? await (await fetch(`${base}/find?${new URLSearchParams({ text: text.value })}`)).json()
      : [];
    at = -1;
    step(1);
  }
  /** @param {number} by */
  function step(by) {
    if (!hits.length) {
      $("#find-count").textContent = text.value.trim() ? "not said" : "";
      return;
    }
    at = (at + by + hits.length) % hits.length;
    const [a, b] = hits[at];
    $("#find-count").textContent = `${at + 1} of ${hits.length}`;
    player.seek(a);
    story.choice.choose({ kind: "words", a, b });
  }
  const close = () => {
    box.hidden = true;
    text.value = "";
    hits = [];
    scroll.focus();
  };
  /** @type {number} */ let typing;
  text.addEventListener("input", () => {
    clearTimeout(typing);
    typing = setTimeout(look, 150);
  });
  text.addEventListener("keydown", (/** @type {KeyboardEvent} */ e) => {
    if (e.key === "Enter") {
      e.preventDefault();
      step(e.shiftKey ? -1 : 1);
    } else if (e.key === "Escape") close();
  });
  box.addEventListener("click", (/** @type {MouseEvent} */ e) => {
    const b = inside(e, "[data-find]");
    if (b)
      /** @type {Record<string, () => unknown>} */ ({ next: () => step(1), previous: () => step(-1), close })[
        b.dataset.find
      ]();
  });
  document.addEventListener("find", () => {
    box.hidden = false;
    text.focus();
    text.select();
  });

  // ---- stories
  const list = byId("stories"),
    dialog = byId("stories-dialog");
  list.addEventListener("change", () => htmx.ajax("POST", `${project}/stories/${list.value}/open`, { swap: "none" }));
  byId("stories-more").addEventListener("click", () => dialog.showModal());
  dialog.addEventListener("click", (/** @type {MouseEvent} */ e) => {
    const g = inside(e, "[data-goto]");
    if (g) {
      dialog.close();
      player.seek(num(g.dataset.goto));
    }
  });
}
