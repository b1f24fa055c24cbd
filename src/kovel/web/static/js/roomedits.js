// How a room that shows the story sideways sends its edits: one after the other, each against the revision that stands.
import { say, silent } from "./base.js";
import { ask } from "./asking.js";
import { Queue } from "./queue.js";

/**
 * @param {object} room
 * @param {string} room.story where the story's routes lie
 * @param {() => {revision: number, story: number}} room.stands
 * @param {() => Promise<void>} room.anew shows everything as it stands now
 * @param {() => void} room.refused shows again what stands, where something typed was refused
 * @param {(got: any, chosenThen: string) => Promise<void>} room.done
 * @param {() => string} room.said what is chosen, as one text
 */
export function roomEdits({ story, stands, anew, refused, done, said }) {
  const queue = new Queue();
  const post = (url, body) => {
    const form = body instanceof FormData,
      sent = { ...body, ...(body.revision === null ? { revision: stands().revision } : {}) };
    return fetch(url, {
      method: "POST",
      headers: {
        "X-Kovel": "1",
        Accept: "application/json",
        ...(form ? {} : { "Content-Type": "application/json" }),
      },
      body: form ? body : JSON.stringify(sent),
    }).catch(() => null);
  };
  /** @type {(url: string, body: any, then?: (got: any) => any) => Promise<any>} */
  const send = (url, body, then = () => {}) => {
    const chosenThen = said();
    return queue.add(async () => {
      let r = await post(url, body);
      if (r?.status === 202) {
        if (!(await ask(await r.text()))) return undefined;
        r = await post(url, { ...body, ask: false });
      }
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
  const edit = (command, params = {}, then = undefined) =>
    send(`${story}/edit`, { command, ...params, revision: null, story: stands().story }, then);
  /** The same, judged first where it would do more than was asked. */
  const wide = (command, params = {}) => edit(command, { ...params, ask: true });
  const step = (where) =>
    queue.add(async () => {
      const turn = (others) =>
        fetch(`${story}/${where}`, {
          method: "POST",
          headers: {
            "X-Kovel": "1",
            Accept: "application/json",
            "Content-Type": "application/x-www-form-urlencoded",
          },
          body: new URLSearchParams({ revision: String(stands().revision), others: String(others) }),
        });
      let r = await turn(false);
      if (r.status === 202) {
        if (!(await ask(await r.text()))) return;
        r = await turn(true);
      }
      const got = await r.json();
      if (!r.ok) say(got.error, true);
      if (r.ok || r.status === 409) await done(got, said());
    });
  // Another window or the command line may edit the same story: the room follows.
  const follow = () => {
    if (document.hidden || queue.open) return;
    queue.add(async () => {
      const { revision, story: id } = stands();
      const r = await fetch(`${story}/revision?seen=${revision}&story=${id}`).catch(() => null);
      if (r?.status !== 200) return;
      await anew();
      say("The story was changed elsewhere; this is how it stands now.");
    });
  };
  setInterval(follow, 3000);
  document.body.addEventListener("moved", follow); // by somebody else who is there
  window.kovel = { ...window.kovel, stands };
  return { queue, send, edit, wide, step };
}

/**
 * What is chosen, as the list of all edits asks for it.
 * @param {object} room
 * @param {() => any} room.first the first of what is chosen
 * @param {() => Set<number>} room.chosen
 * @param {(id: number|null) => any} room.choose
 * @param {any} room.player
 * @param {{a: number|null, b: number|null}} room.marks
 */
export const roomChoice = ({ first, chosen, choose, player, marks }) => ({
  get what() {
    const b = first();
    return b ? { kind: b.kind, id: b.id, ...(chosen().size > 1 ? { ids: [...chosen()] } : {}) } : null;
  },
  marks,
  choose: (what) => choose(what ? what.id : null),
  pieces: () => player.plan.pieces.map(([id, at, length, source]) => ({ id, at, length, source })),
  piece() {
    return this.what?.kind === "piece" && this.pieces().find((p) => p.id === this.what.id);
  },
  laid() {
    const b = first();
    return b && b.kind !== "piece" ? { id: b.id, at: b.at, lane: Number(String(b.lane).split(" ")[1]) || 0 } : null;
  },
  range() {
    const b = first();
    if (marks.a !== null && marks.b !== null) return [marks.a, marks.b];
    return b ? [b.at, b.at + b.length] : null;
  },
});

/** What such a room lends to the list of all edits, beside its own. */
export const roomLends = (own) => ({
  hand: { picked: null, range: () => null, ranges: () => [] },
  theSeam: () => null,
  otherCamera: () => say("Cameras are changed in the Story room.", true),
  copyRange: () => say("Pieces are copied in the Story room.", true),
  copied: () => null,
  ...own,
});
