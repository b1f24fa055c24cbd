// What scripts of the pages find beside themselves, for the type check alone.

declare const htmx: { ajax(verb: string, url: string, options: object): Promise<void>; process(el: Element): void };

interface Window {
  kovel?: Record<string, any>;
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
}

/** What a script beside the page's sound finds (microphone.js). */
declare class AudioWorkletProcessor {
  port: MessagePort;
}
declare function registerProcessor(name: string, processor: unknown): void;
