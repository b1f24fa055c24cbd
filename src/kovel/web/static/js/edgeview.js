// What is seen and said at a cut while it is dragged: the last frame out, the first frame in, the words beside it.
import { $$, num } from "./dom.js";
import { Recording } from "./media.js";
import { Frames } from "./picture.js";

const WORDS = 6; // that are shown of each side

/**
 * How far an edge or a seam can be dragged, in frames: as far as the recordings go, and a frame of each piece stays.
 * @typedef {{length: number, before: number, after: number}} Reach a piece, and what its recording has beyond its ends
 * @param {string} edge `in` of the piece after the cut, `out` of the one before it, or both: `roll`
 * @param {Reach|null} left the piece before the cut @param {Reach|null} right the piece after it
 * @returns {[least: number, most: number]}
 */
export function reach(edge, left, right) {
  const grows = left && edge !== "in" ? [1 - left.length, left.after] : [-Infinity, Infinity],
    shrinks = right && edge !== "out" ? [-right.before, right.length - 1] : [-Infinity, Infinity];
  return [Math.max(grows[0], shrinks[0]), Math.min(grows[1], shrinks[1])];
}

/**
 * @typedef {{source: number, start: number, length: number}} Side a piece that is seen at the speed it was shot at:
 *   its recording, the frame of its clock it begins with, its length in story frames
 */
export class EdgeView {
  /** @type {HTMLElement|null} */ box = null;
  /** @type {HTMLCanvasElement[]} */ canvases = [];
  /** @type {Frames|null} */ pictures = null;
  /** Words around the edge, by recording. @type {Map<number, [number, number, string][]>} */ words = new Map();
  shown = "";

  /**
   * @param {{player: import("./player.js").Player, project: string}} page
   */
  constructor({ player, project }) {
    this.player = player;
    this.project = project;
  }

  /**
   * Shows the cut between two pieces, over the picture.
   * @param {Side|null} out the piece before it @param {Side|null} next the piece after it
   * @param {string} what is moved @param {number} delta by how many frames @param {boolean} ends it goes no further
   */
  show(out, next, what, delta, ends) {
    this.box ??= this.made();
    const frames = `${Math.abs(delta)} frame${Math.abs(delta) === 1 ? "" : "s"}`,
      seconds = (Math.abs(delta) / this.player.fps).toFixed(2),
      way = delta < 0 ? "earlier" : "later",
      told = `${what}: ${seconds} s (${frames}) ${way}${ends ? ", no further" : ""}`;
    const last = out && { source: out.source, moment: out.start + out.length - 1 },
      first = next && { source: next.source, moment: next.start };
    const [said, before, after] = $$("p", this.box);
    said.textContent = told;
    before.textContent = last ? this.said(last.source, last.moment + 1, -1) : "";
    after.textContent = first ? this.said(first.source, first.moment, 1) : "";
    this.shown = JSON.stringify([last, first]);
    void this.draw([last, first], this.shown);
  }

  away() {
    this.box?.remove();
    this.box = null;
    this.shown = "";
    this.pictures?.clear();
    this.words.clear();
  }

  made() {
    const box = document.createElement("div"),
      over = this.player.canvas.getBoundingClientRect();
    box.id = "edge-view";
    box.innerHTML = '<p class="told tc"></p><canvas></canvas><canvas></canvas><p></p><p></p>';
    Object.assign(box.style, {
      left: `${over.left}px`,
      top: `${over.top}px`,
      width: `${over.width}px`,
      minHeight: `${over.height}px`,
    });
    document.body.append(box);
    this.canvases = [...box.querySelectorAll("canvas")];
    return box;
  }

  /** The words before a moment of a recording, or after it. @param {number} source @param {number} moment */
  said(source, moment, way = 1) {
    const words = this.words.get(source);
    if (!words) {
      this.words.set(source, []);
      void this.learn(source, moment);
      return "";
    }
    const there = words.filter(([a, b]) => (way > 0 ? (a + b) / 2 >= moment : (a + b) / 2 < moment)),
      some = way > 0 ? there.slice(0, WORDS) : there.slice(-WORDS);
    return some.map(([, , text]) => text).join(" ");
  }

  /** @param {number} source @param {number} moment */
  async learn(source, moment) {
    const got = await fetch(`${this.project}/recordings/${source}/words/near?at=${Math.round(moment)}`);
    if (got.ok) this.words.set(source, await got.json());
  }

  /** @param {({source: number, moment: number}|null)[]} ends @param {string} asked */
  async draw(ends, asked) {
    if (!Frames.usable()) return;
    this.pictures ??= new Frames();
    const { rate } = this.player.plan,
      wanted = await Promise.all(
        ends.map(async (end) => {
          const recording = end && (await Recording.of(end.source).catch(() => null));
          if (!recording) return null;
          const [over, under] = recording.facts.rate,
            frame = Math.floor((end.moment * rate[1] * over) / (rate[0] * under));
          return [recording.id, Math.max(0, Math.min(recording.frames - 1, frame))];
        }),
      );
    if (this.shown !== asked) return;
    this.pictures.want(/** @type {any} */ (wanted.filter(Boolean)));
    for (let tries = 0; tries < 60 && this.shown === asked; tries++) {
      const drawn = this.canvases.map((canvas, side) => this.paint(canvas, wanted[side]));
      if (drawn.every(Boolean)) return;
      await new Promise((next) => setTimeout(next, 16));
    }
  }

  /** @param {HTMLCanvasElement} canvas @param {number[]|null} wanted @returns {boolean} whether it stands */
  paint(canvas, wanted) {
    const g = /** @type {CanvasRenderingContext2D} */ (canvas.getContext("2d")),
      image = wanted && this.pictures?.get(wanted[0], wanted[1]);
    if (!wanted) g.clearRect(0, 0, canvas.width, canvas.height);
    if (!image) return !wanted;
    const wide = num(image.displayWidth),
      tall = num(image.displayHeight),
      fit = Math.min(320 / wide, 180 / tall);
    canvas.width = 320;
    canvas.height = 180;
    g.drawImage(image, (320 - wide * fit) / 2, (180 - tall * fit) / 2, wide * fit, tall * fit);
    return true;
  }
}
