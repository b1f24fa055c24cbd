// What else shows the moment at the playhead, or tells the same; and copies that are carried into another story.
import { say } from "/static/js/base.js";

/** @param {{base: string, player: import("/static/js/player.js").Player,
 *   edit: (command: string, params: object) => any}} story */
export function others({ base, player, edit }) {
  async function otherCamera() {
    const found = await (await fetch(`${base}/angles?at=${player.frame}`)).json();
    if (!found.length)
      return say("No other camera of a sync set shows this moment. Sync recordings under Footage.", true);
    return edit(found[0].command, found[0].params);
  }
  async function otherTelling() {
    const got = await (
      await fetch(`${base}/tellings?at=${player.frame}`, { headers: { Accept: "application/json" } })
    ).json();
    if (got.error) return say(got.error, true);
    if (!got.length) return say("This is told once only, as far as the Themes of the log know.", true);
    return edit(got[0].command, got[0].params);
  }
  return { otherCamera, otherTelling };
}

/** @param {{base: string, choice: import("./storychoice.js").Choice}} story */
export function copying({ base, choice }) {
  /** @type {null} */ let copied = null;
  try {
    copied = JSON.parse(sessionStorage.getItem("kovel-copied") ?? "null");
  } catch {
    // nothing copied
  }
  async function copyRange() {
    const r = choice.marked ? choice.range() : null,
      clips = choice.clips(),
      words = r ?? (clips.length ? null : choice.range());
    if (!words && !clips.length) return say("Select words or clips first, or mark in and out (I, O).", true);
    const what = words ? `a=${words[0]}&b=${words[1]}` : `items=${clips.map((clip) => clip.id).join(",")}`;
    copied = await (await fetch(`${base}/copy?${what}`)).json();
    sessionStorage.setItem("kovel-copied", JSON.stringify(copied)); // goes with the editor into another story
    return say("Copied. Ctrl V pastes it at the playhead, here or in another story.");
  }
  return { copied: () => copied, copyRange };
}
