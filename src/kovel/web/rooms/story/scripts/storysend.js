// Sends edits one after the other and puts what comes back on the page. The server holds the story.
import { $, byId, num } from "/static/js/dom.js";
import { silent } from "/static/js/base.js";
import { EditClient } from "/static/js/editclient.js";

export class Sender {
  /** Answers were taken without their page, because more edits waited. */ behind = false;
  /** @type {Promise<any>} */ reloading = Promise.resolve();
  asked = false;
  fetching = false;

  /**
   * @param {string} base address of the story
   * @param {{sheet: () => HTMLElement, scroll: HTMLElement, zoom: HTMLSelectElement}} page
   * @param {{player: import("/static/js/player.js").Player, dress: () => void, busy: () => boolean,
   *   answered: (body: any) => void, standing: (body: any, at: string|null, made: string|null) => void}} story
   *   `dress` after each new page, `answered` once an edit is on it, `standing` once its plan is there as well
   */
  constructor(base, page, story) {
    this.base = base;
    this.page = page;
    this.story = story;
    this.client = new EditClient(
      base,
      () => this.stands(),
      () => this.asking(),
    );
    this.queue = this.client.queue;
    for (const el of page.sheet().children) asCame(el);
    page.scroll.addEventListener("scroll", () => this.fill(), { passive: true });
    this.client.follow(async (answer) => {
      this.put(await answer.text());
      await this.refresh();
    });
  }

  /** What the page shows. */
  stands() {
    const { revision, story } = this.page.sheet().dataset;
    return { revision: num(revision), story: num(story) };
  }

  get px() {
    return num(this.page.sheet().dataset.px);
  }

  /** @param {string} command */
  edit(command, params = {}, more = {}) {
    return this.send("edit", this.client.edit(command, { ...params, ...more }));
  }

  /** Asked about first if it costs something. @param {any} command @param {Record<string, any>} params */
  wide(command, params) {
    return this.edit(command, params, { ask: true });
  }

  /** Undo, redo, or to an entry of the history. @param {string} where */
  step(where, fields = {}) {
    return this.send(where, fields, true);
  }

  /** @param {string} where @param {Record<string, any>} body */
  send(where, body, form = false) {
    return this.queue.add(() =>
      this.go(where, body, form).catch((e) => {
        console.error(e);
        silent();
      }),
    );
  }

  /** The page's headers: how near, and which frames are wanted. */
  asking(view = this.view()) {
    return { "X-Zoom": this.page.zoom.value, "X-View": view };
  }

  /** @param {any} where @param {any} body @param {boolean} form */
  async go(where, body, form) {
    const { sheet } = this.page,
      hurry = this.queue.waiting > 0 && form;
    const began = performance.now();
    const caughtUp = async () => {
      if (this.behind) await this.again(this.view());
      this.behind = false;
    };
    const r = await this.client.agreed(`${this.base}/${where}`, body, {
      form,
      headers: this.asking(hurry ? "none" : this.view(0.6)),
      asking: caughtUp,
    });
    if (!r) return null;
    const html = await r.text();
    if (r.status === 200 && hurry) {
      sheet().dataset.revision = r.headers.get("x-revision") ?? "";
      this.behind = true;
      return undefined;
    }
    if (r.status !== 200 && r.status !== 409) await caughtUp();
    this.behind = false;
    this.put(html);
    if (r.status === 200) {
      void this.stand(body, r.headers.get("x-playhead"), r.headers.get("x-made"));
      this.story.answered(body);
    } else if (r.status === 409) await this.refresh();
    window.kovel.lastEditMs = performance.now() - began;
    return undefined;
  }

  /**
   * Once the plan is there, the playhead and what is chosen stand where the edit left them.
   * @param {any} body @param {string|null} at @param {string|null} made
   */
  async stand(body, at, made) {
    if (this.queue.waiting) return; // the last of those that wait does this
    this.story.standing(body, at, made);
  }

  /** The plan as the story stands; of several that are asked for while one is under way, the last is fetched. */
  refresh() {
    if (this.asked) return this.reloading;
    this.asked = true;
    this.reloading = this.reloading.then(() => {
      this.asked = false;
      return this.story.player.reload();
    });
    return this.reloading;
  }

  /** The story frames on the screen and so many screens around it; only these are asked for. */
  view(around = 1.5) {
    const { clientHeight: h, scrollTop: y } = this.page.scroll;
    return `${Math.floor(Math.max(0, y - around * h) / this.px)}-${Math.ceil((y + (1 + around) * h) / this.px)}`;
  }

  /** The page anew, as the server has it. @param {string} view */
  async again(view) {
    this.put(await (await fetch(`${this.base}/page`, { headers: this.asking(view) })).text());
  }

  /** Fetches what has come into view. */
  async fill() {
    const s = this.page.sheet(),
      { scrollTop: y, clientHeight: h } = this.page.scroll,
      a = num(s.dataset.from) * this.px,
      b = num(s.dataset.to) * this.px,
      end = num(s.dataset.length) * this.px;
    const there = (a <= 0 || a <= y - h / 2) && (b >= end - 1 || b >= y + 1.5 * h);
    if (this.fetching || this.story.busy() || there) return;
    this.fetching = true;
    try {
      const revision = s.dataset.revision,
        r = await fetch(`${this.base}/page`, { headers: this.asking() });
      const html = await r.text();
      if (r.ok && this.page.sheet().dataset.revision === revision) this.put(html);
    } catch {
      return; // the next scroll asks again
    } finally {
      this.fetching = false;
    }
    requestAnimationFrame(() => this.fill());
  }

  /** Fragments: the page, and beside it the report line. @param {string} html */
  put(html) {
    const t = document.createElement("template");
    t.innerHTML = html;
    const page = $("#page", t.content),
      line = $("#report", t.content);
    if (page) {
      exchange(this.page.sheet(), page);
      this.story.dress();
    }
    if (line) {
      line.removeAttribute("hx-swap-oob");
      byId("report").replaceWith(line);
    }
  }
}

// An element remembers how it came, to be told from what comes next: dressing changes it.
function asCame(/** @type {any} */ el) {
  el.came = el.outerHTML;
  return el;
}

// What came the same as it stands is left as it is, with its waveform and the focus; the rest is exchanged.
/** @param {HTMLElement} now @param {HTMLElement} next */
function exchange(now, next) {
  for (const { name, value } of [...next.attributes]) now.setAttribute(name, value);
  const coming = [...next.children].map(asCame),
    stays = new Map(),
    wanted = new Set(coming.map((el) => el.came));
  for (const el of [...now.children])
    if (wanted.has(el.came) && !stays.has(el.came)) stays.set(el.came, el);
    else el.remove();
  let at = now.firstElementChild;
  for (const el of coming) {
    const here = stays.get(el.came);
    if (!here) now.insertBefore(el, at);
    else if (here === at) at = here.nextElementSibling;
    else now.insertBefore(here, at);
    stays.delete(el.came);
  }
}
