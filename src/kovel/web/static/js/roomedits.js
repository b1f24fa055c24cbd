// How a room that shows the story sideways sends its edits: one after the other, each against the revision that stands.
import { say } from "./base.js";
import { Queue } from "./queue.js";

const SILENT = "Kovel does not answer. Check that it still runs, then try again. Nothing acknowledged is lost.";

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
  /** @type {(url: string, body: any, then?: (got: any) => any) => Promise<any>} */
  const send = (url, body, then = () => {}) => {
    const chosenThen = said();
    return queue.add(async () => {
      const form = body instanceof FormData;
      const r = await fetch(url, {
        method: "POST",
        headers: {
          "X-Kovel": "1",
          Accept: "application/json",
          ...(form ? {} : { "Content-Type": "application/json" }),
        },
        body: form
          ? body
          : JSON.stringify({ ...body, ...(body.revision === null ? { revision: stands().revision } : {}) }),
      }).catch(() => null);
      if (!r) return say(SILENT, true);
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
  const edit = (command, params = {}) =>
    send(`${story}/edit`, { command, ...params, revision: null, story: stands().story });
  const step = (where) =>
    queue.add(async () => {
      const r = await fetch(`${story}/${where}`, {
        method: "POST",
        headers: { "X-Kovel": "1", Accept: "application/json", "Content-Type": "application/x-www-form-urlencoded" },
        body: new URLSearchParams({ revision: String(stands().revision) }),
      });
      const got = await r.json();
      if (!r.ok) say(got.error, true);
      if (r.ok || r.status === 409) await done(got, said());
    });
  // Another window or the command line may edit the same story: the room follows.
  setInterval(() => {
    if (document.hidden || queue.open) return;
    queue.add(async () => {
      const { revision, story: id } = stands();
      const r = await fetch(`${story}/revision?seen=${revision}&story=${id}`).catch(() => null);
      if (r?.status !== 200) return;
      await anew();
      say("The story was changed elsewhere; this is how it stands now.");
    });
  }, 3000);
  return { queue, send, edit, step };
}
