// The edits as the server declares them (core/story/edit_offers.py): what each takes is filled in from the choice.
import { say } from "./base.js";
import { $, num } from "./dom.js";
import { fetched } from "./fetching.js";
import { readTime, readValue } from "./times.js";

/**
 * @typedef {object} Entry one way an edit is offered
 * @property {string} label
 * @property {string} key
 * @property {""|"length"|"delta"|"minutes"|"number"|"text"} typed what is typed after its name
 * @property {string|null} default what counts as typed where nothing is
 * @property {any} value what that means, in frames where it is a time
 * @property {string} command
 * @property {boolean} asks whether what it costs is shown before it is done
 * @property {Record<string, any>} params where each parameter comes from
 * @property {string[]} also other words that it is looked for by
 * @property {boolean} each_of whether it can be done to each of several clips
 */

const ONE_CLIP = new Set(["piece", "cover", "sound", "chosen"]);

/** What cannot be done now, in words for the editor. */
class Wanting extends Error {}

export class Edits {
  /** @param {any} story what the Story room lends */
  constructor(story) {
    this.story = story;
    /** @type {Entry[]} */
    this.entries = [];
    /** @type {Record<string, string>} */
    this.wanting = {};
    /** What is done in other rooms. @type {{label: string, room: string}[]} */
    this.places = [];
  }

  /** The edits there are for the story as it stands (its lanes are among them). */
  async load() {
    const answer = await fetched(`${this.story.base}/edits`, { headers: { Accept: "application/json" } });
    if (answer.ok) Object.assign(this, await answer.json());
    return this.entries;
  }

  /**
   * What a key does: of those that share it the more special one, declared later, comes first.
   * @param {string} chord
   */
  ofKey(chord) {
    return this.entries.filter((e) => e.key === chord).reverse();
  }

  /**
   * Does what a key stands for, with a value where one is given; false if it stands for nothing.
   * @param {string} chord @param {any} value
   */
  press(chord, value = undefined) {
    const all = this.ofKey(chord),
      entry = all.find((e) => this.fits(e)) ?? all.at(-1);
    if (!entry) return false;
    const { source, ranges } = entry.params;
    if ((source || ranges) && this.known("lay sound")) say(this.wanting["lay sound"], true);
    else void this.run(entry, value === undefined ? this.unsaid(entry) : { value });
    return true;
  }

  /**
   * The clips that an edit of one is done to, where several are selected. @param {string} from @param {Entry} entry
   */
  each(from, entry) {
    const several = ONE_CLIP.has(from) && this.story.choice.several(from === "chosen" ? "" : from);
    if (several && !entry.each_of)
      throw new Wanting(`${entry.label}: one clip at a time. Select one, then try again.`);
    return several;
  }

  /** @param {Entry} entry */
  fits(entry) {
    try {
      for (const [k, from] of Object.entries(entry.params)) {
        this.from(k, from, 0);
        this.each(from, entry);
      }
      return true;
    } catch (e) {
      if (e instanceof Wanting) return false;
      throw e;
    }
  }

  /**
   * Does it with what was typed after its name (`typed` gives that), or its default. Returns why not.
   * @param {Entry} entry @param {{value?: any, error?: string}} typed
   */
  async run(entry, typed = this.unsaid(entry)) {
    const { story } = this;
    if (typed.error) return typed.error;
    if (/^lay/.test(entry.params.points))
      return void story.acts[entry.params.points === "lay gap" ? "gap" : "cover"]?.();
    const params = this.filled(entry, typed);
    if (params.error) return void say(params.error, true);
    return void (await story[entry.asks ? "wide" : "edit"](entry.command, params));
  }

  /**
   * The parameters of an edit as they stand here now; `error` where one is wanting.
   * @param {Entry} entry @param {{value?: any, error?: string}} typed @returns {Record<string, any>}
   */
  filled(entry, typed) {
    /** @type {Record<string, any>} */ const params = {};
    try {
      for (const [k, from] of Object.entries(entry.params)) {
        if (k === "points") Object.assign(params, this.points(from === "marks back"));
        else params[k] = this.from(k, from, typed.value);
        const each = this.each(from, entry);
        if (each) params.each = each;
      }
    } catch (e) {
      if (!(e instanceof Wanting)) throw e;
      return { error: e.message };
    }
    return params;
  }

  /** @param {Entry} entry */
  unsaid(entry) {
    return entry.typed && entry.default === null
      ? { error: `Type it after the name: ${entry.label}.` }
      : { value: entry.value };
  }

  /** @param {Entry} entry @param {string} raw what was typed after its name */
  async typed(entry, raw) {
    if (!raw || !entry.typed) return this.unsaid(entry);
    if (entry.typed === "text") return { value: raw };
    if (entry.typed === "number") return readValue(raw);
    if (raw === "0") return { value: 0 }; // no length at all: a target taken away
    const got = await readTime(raw, entry.typed);
    return got.error ? { error: got.error } : { value: got.frame };
  }

  /**
   * The value of a parameter by where it comes from.
   * @param {string} name @param {string} from @param {number} typed
   */
  from(name, from, typed) {
    if (typeof from !== "string") return from;
    if (from.startsWith("=")) return from.slice(1);
    if (from === "typed") return typed;
    if (from === "minus typed") return -typed;
    if (name === "points" && from !== "lay sound")
      return /^lay/.test(from) ? true : this.points(from === "marks back");
    const value = this.known(from);
    if (value === undefined) throw new Wanting(this.wanting[from] || "Choose something first.");
    return value;
  }

  /** @param {string} from */
  known(from) {
    const s = this.story,
      chosen = s.choice.what,
      hand = s.hand.range(),
      range = s.choice.range(),
      rows = s.choice.pieces();
    const under = () =>
      s.choice.piece() ||
      rows.find(
        (/** @type {{ at: number; length: any; }} */ x) => x.at <= s.player.frame && s.player.frame < x.at + x.length,
      );
    const laid = s.choice.laid();
    const of = (/** @type {string} */ kind) =>
      s.choice.clips().find((/** @type {{ kind: string; }} */ clip) => clip.kind === kind)?.id;
    const next = (/** @type {number} */ by) => {
      const i = rows.findIndex((/** @type {{ id: any; }} */ x) => x.id === under()?.id);
      return i < 0 ? undefined : rows[i + by];
    };
    switch (from) {
      case "playhead":
        return s.player.frame;
      case "story end":
        return s.player.plan.length;
      case "piece":
        return under()?.id;
      case "first piece":
        return rows[0]?.id ?? 0;
      case "next piece":
        return next(1)?.id;
      case "left piece": {
        const right =
          chosen?.kind === "seam" ? rows.findIndex((/** @type {{ id: any; }} */ x) => x.id === chosen.id) : 0;
        return right > 0 ? rows[right - 1].id : under()?.id;
      }
      case "right piece":
        return chosen?.kind === "seam" ? chosen.id : under()?.id;
      case "piece before":
        return next(-1)?.id;
      case "piece after next":
        return next(1) ? (next(2)?.id ?? null) : undefined;
      case "seam":
        return laid ? undefined : s.theSeam()?.[2];
      case "cover":
        return of("cover");
      case "loose cover":
        return s.hand.picked?.dataset.kind === "loose" ? num(s.hand.picked.dataset.cover) : undefined;
      case "loose sound":
        return s.hand.picked?.dataset.kind === "loose-sound" ? num(s.hand.picked.dataset.cover) : undefined;
      case "sound":
        return of("sound");
      case "chosen":
        return laid ? laid.id : chosen?.kind === "seam" ? undefined : under()?.id;
      case "all chosen":
        return s.choice.several() || (laid ? [laid.id] : under() ? [under().id] : undefined);
      case "seams": {
        const inside_ = (s.choice.several("piece") || []).filter((/** @type {number} */ id) => id !== rows[0]?.id),
          seam = laid ? undefined : s.theSeam()?.[2];
        return inside_.length ? inside_ : seam ? [seam] : undefined;
      }
      case "places": {
        const { markers, beats } = s.player.plan,
          all = [...(markers || []).map((/** @type {number[]} */ m) => m[1]), ...(beats || [])];
        return all.length ? all : undefined;
      }
      case "several":
        return s.choice.several() || undefined;
      case "begin":
        return laid ? laid.at : undefined;
      case "lane above":
        return laid ? laid.lane + 1 : undefined;
      case "range start":
        return range?.[0];
      case "range end":
        return range?.[1];
      case "heading":
        return $(`[data-heading="${under()?.id}"]`)?.dataset.text;
      case "source":
        return hand?.source;
      case "lay sound":
        return s.hand.picked?.dataset.kind === "sound" || undefined;
      case "start":
        return hand?.start;
      case "end":
        return hand ? hand.start + hand.length : undefined;
      case "hand length":
        return hand
          ? s.hand.ranges().reduce((/** @type {any} */ n, /** @type {any[]} */ r) => n + r[2], 0) || hand.length
          : undefined;
      case "ranges":
        return hand && s.hand.ranges().length > 1 ? s.hand.ranges() : undefined;
      case "copied":
        return s.copied() || undefined;
      default:
        return undefined;
    }
  }

  /** All of the four marks that are set; the core works out the one that is missing. @param {boolean} back */
  points(back) {
    const s = this.story,
      hand = s.hand.range(),
      m = s.choice.marks;
    if (!hand) throw new Wanting(this.wanting.source);
    if (back)
      return {
        source: hand.source,
        until: m.b ?? s.player.frame,
        end: hand.start + hand.length,
        ...(m.a !== null ? { at: m.a } : { start: hand.start }),
      };
    return {
      source: hand.source,
      at: m.a ?? s.player.frame,
      start: hand.start,
      ...(m.a !== null && m.b !== null ? { until: m.b } : { end: hand.start + hand.length }),
    };
  }
}
