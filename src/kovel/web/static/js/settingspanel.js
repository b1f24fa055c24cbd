// What is set on what is chosen: typed, switched, taken back, at the scope that is picked; a microphone heard before
// it is chosen.
import { $, $$, byId, inside, target } from "./dom.js";
import { say } from "./base.js";
import { readValue } from "./times.js";

/** @param {HTMLElement} panel @param {any} room @returns {() => string} the scope that is picked */
export function settingsPanel(panel, room) {
  let scope = "items"; // or `group 5`, `recording`, `story`
  panel.addEventListener("change", async (e) => {
    const el = target(e),
      name = el.dataset.set;
    if (el.id === "scope") {
      scope = el.value;
      for (const field of $$("[data-set]", panel)) field.disabled = true; // until those of the new scope are there
      await room.chosen();
      return;
    }
    if (!name) return;
    const value = el.type === "checkbox" ? el.checked : el.value;
    if (el.tagName === "INPUT" && el.type === "text") {
      if (value === "line") return; // it stays a line
      if (!value.trim()) {
        // nothing: back to what the wider scope says
        if ($(`[data-reset="${name}"]`, panel)) set(el.dataset.where, name, null);
        else el.value = el.defaultValue;
        return;
      }
      const meant = chosen();
      return void room.later(() => read(el, name, value, meant));
    }
    set(el.dataset.where, name, value);
  });
  panel.addEventListener("keydown", (e) => {
    if (e.key === "Enter" && target(e).matches("input")) target(e).blur(); // kept; the keys are the room's again
  });
  // A microphone is heard before it is chosen: what is chosen, alone, with that one.
  panel.addEventListener("click", async (e) => {
    const b = inside(e, "[data-hear]");
    if (!b) return;
    const { player } = room,
      mix = JSON.parse(b.dataset.hear),
      at = room.first();
    player.stop();
    player.alone = [...room.chosenNow()].join(",");
    await player.reload();
    const sounds = player.plan.sounds.map((/** @type {string | any[]} */ s) => [...s.slice(0, 8), { ...s[8], mix }]);
    player.load({ ...player.plan, sounds });
    if (player.frame < at.at || player.frame >= at.at + at.length) player.seek(at.at);
    const ended = () => {
      if (player.playing) return;
      player.removeEventListener("state", ended);
      player.alone = "";
      room.listenAlone();
      void player.reload(); // as it is set again
    };
    await player.play(1, at.at + at.length);
    player.addEventListener("state", ended);
  });
  panel.addEventListener("click", (e) => {
    const b = inside(e, "[data-reset]");
    if (b) set(b.dataset.where, b.dataset.reset, null);
  });
  /**
   * What a typed value asks for, on what was chosen then; null where it is none, which is said.
   * @param {HTMLInputElement} el @param {string} name @param {string} text @param {any} meant
   */
  async function read(el, name, text, meant) {
    const got = await readValue(text, name),
      { where } = el.dataset;
    if (got.ends && where === "items")
      return room.asEdit("push", { items: meant.items, first: got.ends[0], last: got.ends[1] });
    if (got.value !== undefined) return asked(where ?? "items", name, got.value, meant);
    say(got.error ?? `“${text.slice(0, 30)}” is not a number.`, true);
    el.value = el.defaultValue;
    return null;
  }
  /**
   * A setting as it is sent.
   * @param {string} where @param {any} setting @param {number|null} value @param {any} meant
   * @returns {[string, any]}
   */
  function asked(where, setting, value, { items, recording }) {
    if (where === "recording")
      // in every story; the strip is learnt anew when it is done
      return [`${room.project}/recordings/${recording}/settings`, { setting, value }];
    const to = where === "items" ? items : where;
    return value === null
      ? room.asEdit("reset_value", { to, setting })
      : room.asEdit("set_value", { to, setting, value });
  }
  const chosen = () => ({ items: [...room.chosenNow()], recording: byId("panel-of").dataset.recording });
  const set = (/** @type {any} */ where, /** @type {any} */ setting, /** @type {null} */ value) =>
    room.send(...asked(where, setting, value, chosen()));
  return () => scope;
}
