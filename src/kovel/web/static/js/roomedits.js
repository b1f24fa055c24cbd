// How a room that shows the story sideways sends its edits: one after the other, each against the revision that stands.
import { say, silent } from "./base.js";
import { EditClient } from "./editclient.js";
import { room } from "./room.js";

/**
 * @param {object} own @param {string} own.story where the story's routes lie
 * @param {() => {revision: number, story: number}} own.stands
 * @param {() => Promise<void>} own.anew shows everything as it stands now
 * @param {() => void} own.refused shows again what stands, where something typed was refused
 * @param {(got: any, chosenThen: string) => Promise<void>} own.done
 * @param {() => string} own.said what is chosen, as one text
 */
export function roomEdits({ story, stands, anew, refused, done, said }) {
  const client = new EditClient(story, stands, () => ({ Accept: "application/json" }));
  const { queue } = client;
  /**
   * Sends what is found out first, in its turn: nothing that is pressed meanwhile overtakes it.
   * @type {(find: () => Promise<[url: string, body: any] | null>, then?: (got: any) => any) => Promise<any>}
   */
  const later = (find, then = () => {}) => {
    const chosenThen = said();
    return queue.add(async () => {
      const asked = await find();
      if (!asked) return undefined;
      const r = await client.agreed(...asked).catch(() => null);
      if (r === undefined) return undefined;
      if (!r) return silent();
      const got = await r.json();
      if (r.status === 409) {
        await anew();
        return say(got.error, true);
      }
      if (!r.ok) {
        refused();
        return say(got.error || "That could not be done.", true);
      }
      await done(got, chosenThen);
      return then(got);
    });
  };
  /** @type {(url: string, body: any, then?: (got: any) => any) => Promise<any>} */
  const send = (url, body, then = undefined) => later(async () => [url, body], then);
  /** An edit as it is sent: where, and what. @type {(command: string, params?: object) => [string, any]} */
  const asEdit = (command, params = {}) => [`${story}/edit`, client.edit(command, params)];
  const edit = (/** @type {string} */ command, params = {}, then = undefined) =>
    send(...asEdit(command, params), then);
  /** The same, judged first where it would do more than was asked. */
  const wide = (/** @type {any} */ command, params = {}) => edit(command, { ...params, ask: true });
  const step = (/** @type {any} */ where) =>
    queue.add(async () => {
      const r = await client.agreed(`${story}/${where}`, {}, { form: true }).catch(() => null);
      if (r === undefined) return undefined;
      if (!r) return silent();
      const got = await r.json();
      if (!r.ok) say(got.error, true);
      return r.ok || r.status === 409 ? done(got, said()) : undefined;
    });
  client.follow(async () => {
    await anew();
    say("The story was changed elsewhere; this is how it stands now.");
  });
  room.stands = stands;
  window.kovel = { ...window.kovel, stands };
  return { queue, send, later, asEdit, edit, wide, step };
}

/**
 * What is chosen, as the list of all edits asks for it.
 * @param {object} room @param {() => any} room.first the first of what is chosen
 * @param {() => Set<number>} room.chosen @param {(id: number|null) => any} room.choose @param {any} room.player
 * @param {() => any[]} room.all everything that can be chosen
 * @param {{a: number|null, b: number|null}} room.marks
 */
export const roomChoice = ({ first, chosen, choose, player, marks, all }) => ({
  get what() {
    const b = first();
    return b ? { kind: b.kind, id: b.id, ...(chosen().size > 1 ? { ids: [...chosen()] } : {}) } : null;
  },
  marks,
  choose: (/** @type {{id: number}|null} */ what) => choose(what ? what.id : null),
  /** Those that are chosen, in the order they were. */
  clips: () => all().filter((/** @type {{ id: number; }} */ block) => chosen().has(block.id)),
  /** @param {string} [kind] @returns {number[]|null} */
  several(kind) {
    const clips = this.clips().filter((/** @type {{ kind: string; }} */ block) => !kind || block.kind === kind);
    return clips.length > 1 ? clips.map((/** @type {{ id: number; }} */ block) => block.id) : null;
  },
  pieces: () =>
    player.plan.pieces.map((/** @type {number[]} */ [id, at, length, source]) => ({ id, at, length, source })),
  piece() {
    return (
      this.what?.kind === "piece" && this.pieces().find((/** @type {{ id: any; }} */ p) => p.id === this.what?.id)
    );
  },
  laid() {
    const b = first();
    return b && b.kind !== "piece" ? { id: b.id, at: b.at, lane: Number(String(b.lane).split(" ")[1]) || 0 } : null;
  },
  /** @returns {[number, number]|null} */
  range() {
    const b = first();
    if (marks.a !== null && marks.b !== null) return [marks.a, marks.b];
    return b ? [b.at, b.at + b.length] : null;
  },
});

/** What such a room lends to the list of all edits, beside its own. */
export const roomLends = (/** @type {Record<string, any>} */ own) => ({
  hand: { picked: null, range: () => null, ranges: () => [] },
  theSeam: () => null,
  otherCamera: () => say("Cameras are changed in the Story room.", true),
  copyRange: () => say("Pieces are copied in the Story room.", true),
  copied: () => null,
  ...own,
});
