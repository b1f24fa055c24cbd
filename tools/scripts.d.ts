// What scripts of the pages find beside themselves, for the type check alone.

declare const htmx: { ajax(verb: string, url: string, options: object): Promise<void>; process(el: Element): void };

interface Window {
  /** What tests look at. */
  kovel: Record<string, any>;
}

/** What the rooms tell one another across the page. */
interface DocumentEventMap {
  chosen: CustomEvent;
  look: Event;
  find: Event;
  dressed: Event;
  "all-edits": Event;
}

interface HTMLElementEventMap {
  "htmx:afterRequest": CustomEvent;
  "htmx:afterSettle": CustomEvent;
  "htmx:afterSwap": CustomEvent;
  "htmx:beforeRequest": CustomEvent;
  "htmx:beforeSwap": CustomEvent;
  "htmx:configRequest": CustomEvent;
}

/** What a script beside the page's sound finds (microphone.js). */
declare class AudioWorkletProcessor {
  port: MessagePort;
}
declare function registerProcessor(name: string, processor: unknown): void;

/** A rectangle on a canvas, in pixels. */
interface Box {
  x: number;
  y: number;
  w: number;
  h: number;
}

type Plan = import("../src/kovel/web/static/js/plan.js").Plan;
type Block = import("../src/kovel/web/rooms/sound/scripts/stripblocks.js").Block;
type Answer = import("../src/kovel/web/static/js/editclient.js").Answer;
/** What the Story room lends to what stands around its page. */
type StoryRoom = any;
/** A layer that is framed by hand. */
type Held = any;

/** An element remembers how it came, and when what it says is due. */
interface Element {
  came?: string;
  due?: number;
}
