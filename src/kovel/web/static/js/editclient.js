// How any room sends edits of a story: one after the other, each against the revision that stands there.
import { ask } from "./asking.js";
import { Queue } from "./queue.js";

/** @typedef {{form?: boolean, headers?: Record<string, string>, asking?: () => any}} How */
/** What an edit is answered with. @typedef {{did: string, notes: string[], revision: number, made: number[]}} Answer */

export class EditClient {
  queue = new Queue();

  /**
   * @param {string} base address of the story
   * @param {() => {revision: number, story: number}} stands what the room shows
   * @param {() => Record<string, string>} headers what each answer is asked for with
   */
  constructor(base, stands, headers) {
    this.base = base;
    this.stands = stands;
    this.headers = headers;
  }

  /**
   * One request: JSON for an edit (whose `revision: null` means the one that stands), a form for a step of the history.
   * @param {string} url @param {any} body @param {How} how
   */
  request(url, body, { form = false, headers = {} } = {}) {
    const { revision } = this.stands();
    const file = body instanceof FormData;
    const json = () => JSON.stringify(body.revision === null ? { ...body, revision } : body);
    const kind = form ? "application/x-www-form-urlencoded" : "application/json";
    return fetch(url, {
      method: "POST",
      headers: { "X-Kovel": "1", ...this.headers(), ...headers, ...(file ? {} : { "Content-Type": kind }) },
      body: file ? body : form ? new URLSearchParams({ revision, ...body }) : json(),
    });
  }

  /**
   * The same; what would do more than was asked is asked about first (202): undefined where it is not wanted.
   * @param {string} url @param {any} body @param {How} how `asking` is called before the question
   */
  async agreed(url, body, how = {}) {
    const answer = await this.request(url, body, how);
    if (answer.status !== 202) return answer;
    await how.asking?.();
    if (!(await ask(await answer.text()))) return undefined;
    return this.request(url, { ...body, ...(how.form ? { others: true } : { ask: false }) }, how);
  }

  /** An edit by its name, as it is sent. @param {string} command */
  edit(command, params = {}) {
    return { command, ...params, revision: /** @type {number|null} */ (null), story: this.stands().story };
  }

  /**
   * Another window or the command line may edit the same story: the room follows, while it sends nothing itself.
   * @param {(answer: Response) => Promise<any>} changed
   */
  follow(changed) {
    const look = () => {
      if (document.hidden || this.queue.open) return;
      void this.queue.add(async () => {
        const { revision, story } = this.stands();
        const url = `${this.base}/revision?seen=${revision}&story=${story}`;
        const answer = await fetch(url, { headers: this.headers() }).catch(() => undefined);
        if (answer?.status === 200) await changed(answer);
      });
    };
    setInterval(look, 3000);
    document.body.addEventListener("moved", look); // by somebody else who is there
  }
}
