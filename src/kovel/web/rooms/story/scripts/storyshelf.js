// The shelf beside the page: its tabs, and what is picked up from it, in order.
import { $, $$, byId, inside, num } from "/static/js/dom.js";

/** What an editor has picked up. */
export class Hand {
  /** Every shelf item picked up, in order. @type {HTMLElement[]} */ all = [];

  /** The shelf item in hand: the last of those picked up. */
  get picked() {
    return this.all.at(-1) || null;
  }

  /**
   * Picks an item up, or puts it down; with `more` beside those in hand, in the order they were picked.
   * @param {any} item
   */
  pick(item, more = false) {
    const { all } = this;
    if (!item) this.all = [];
    else if (all.includes(item)) this.all = all.filter((x) => more && x !== item);
    else this.all = more ? [...all.filter((x) => x.dataset.kind === item.dataset.kind), item] : [item];
    for (const i of $$(".shelf-item")) {
      const n = this.all.indexOf(i) + 1;
      i.setAttribute("aria-pressed", n ? "true" : "false");
      if (n && this.all.length > 1) i.dataset.nth = n;
      else delete i.dataset.nth;
    }
  }

  /** Only this one. @param {HTMLElement} item */
  take(item) {
    this.pick(null);
    this.pick(item);
  }

  /** [recording, first frame, length] of all in hand. */
  ranges() {
    return this.all.map((x) => [num(x.dataset.source), num(x.dataset.from), num(x.dataset.length)]);
  }

  /** What of a recording is in hand; nothing where it is a loose thing. */
  range() {
    const p = this.picked;
    if (!p || p.dataset.kind?.startsWith("loose")) return null;
    return { source: num(p.dataset.source), start: num(p.dataset.from), length: num(p.dataset.length) };
  }
}

/**
 * The tabs by click, arrows and number; items by click and double click.
 * @param {HTMLElement} room
 * @param {{base: string, hand: Hand, add: () => void, go: (entry: string) => void,
 *   openAgain: (piece: number) => void, to: (frame: number, what: string) => void}} story
 */
export function shelf(room, story) {
  const tabs = $$(".tab");
  /** @type {Record<string, string>} */ const fetched = { "tab-history": "history", "tab-checks": "checks" };
  const bring = async (/** @type {string} */ name) => {
    $(`#shelf-${name}`).innerHTML = await (await fetch(`${story.base}/${name}`)).text();
  };
  /** @param {HTMLElement} t */
  function open(t) {
    for (const x of tabs) {
      const on = x === t;
      x.setAttribute("aria-selected", on);
      x.tabIndex = on ? 0 : -1;
      byId(x.getAttribute("aria-controls")).hidden = !on;
    }
    if (fetched[t.id]) void bring(fetched[t.id]);
  }
  tabs.forEach((t, i) => {
    t.addEventListener("click", () => open(t));
    t.addEventListener("keydown", (/** @type {KeyboardEvent} */ e) => {
      const d = { ArrowRight: 1, ArrowLeft: -1 }[e.key];
      if (!d) return;
      const n = tabs[(i + d + tabs.length) % tabs.length];
      open(n);
      n.focus();
      e.preventDefault();
      e.stopPropagation();
    });
  });
  room.addEventListener("click", (e) => {
    const g = inside(e, "[data-goto]"),
      again = inside(e, "[data-open-again]"),
      h = inside(e, "[data-entry]"),
      item = inside(e, ".shelf-item");
    if (g) story.to(num(g.dataset.goto), g.dataset.what);
    else if (again) story.openAgain(num(again.dataset.openAgain));
    else if (h) story.go(h.dataset.entry);
    if (item) story.hand.pick(item, e.shiftKey);
  });
  room.addEventListener("dblclick", (e) => {
    const i = inside(e, ".shelf-item[data-kind=bite], .shelf-item[data-kind=shot]");
    if (!i) return;
    story.hand.take(i);
    story.add();
  });
  return {
    /** The nth tab, and the keyboard on its first item. @param {number} n */
    nth(n) {
      open(tabs[n - 1]);
      $(".shelf-item", byId(tabs[n - 1].getAttribute("aria-controls")))?.focus();
    },
    /** Which tab is open, from 1. */
    at: () => tabs.findIndex((t) => t.getAttribute("aria-selected") === "true") + 1,
    /** The nth tab, the keyboard where it is. @param {number} n */
    show: (n) => tabs[n - 1] && open(tabs[n - 1]),
    /** What is open and made of the story is fetched anew. */
    refresh() {
      for (const name of ["history", "checks"]) if (!$(`#shelf-${name}`).hidden) void bring(name);
    },
  };
}
