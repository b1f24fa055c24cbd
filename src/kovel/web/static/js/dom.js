// Small hands for the page: one element, all of them, the element an event came from inside of.

/** The first element that fits, inside `within`. @type {(selector: string, within?: ParentNode) => any} */
export const $ = (selector, within = document) => within.querySelector(selector);

/** All that fit, as an array. @type {(selector: string, within?: ParentNode) => any[]} */
export const $$ = (selector, within = document) => [...within.querySelectorAll(selector)];

/** By its id. @type {(id: string) => any} */
export const byId = (id) => document.getElementById(id);

/**
 * The element around where an event happened, by selector; undefined outside of any.
 * @type {(e: Event, selector: string) => any}
 */
export const inside = (e, selector) => /** @type {Element} */ (e.target).closest?.(selector);

/** What an event happened to. @type {(e: Event) => any} */
export const target = (e) => e.target;

/** What has the keyboard. @type {() => any} */
export const focused = () => document.activeElement;

/**
 * What a canvas is painted with.
 * @type {(of: HTMLCanvasElement|OffscreenCanvas, how?: CanvasRenderingContext2DSettings) => CanvasRenderingContext2D}
 */
export const brush = (canvas, how) => /** @type {any} */ (canvas.getContext("2d", how));

export const num = Number;
