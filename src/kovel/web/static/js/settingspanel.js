// What is set on what is chosen: typed, switched, taken back, at the scope that is picked; a microphone heard before
// it is chosen.
import { $, $$, byId, inside, target } from "./dom.js";
import { say } from "./base.js";
import { readTime } from "./times.js";

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
    let value = el.type === "checkbox" ? el.checked : el.value;
    if (el.tagName === "INPUT" && el.type === "text") {
      if (value === "line") return; // it stays a line
      const ends =
        name === "zoom" && value.split(/\s+to\s+|>/).map((x) => Number(x.replace("%", "").replace(",", ".")));
      if (ends && ends.length === 2 && ends.every(Number.isFinite) && el.dataset.where === "items") {
        room.edit("push", { items: [...room.chosenNow()], first: ends[0], last: ends[1] });
        return;
      }
      if (!value.trim()) {
        // nothing: back to what the wider scope says
        if ($(`[data-reset="${name}"]`, panel)) set(el.dataset.where, name, null);
        else el.value = el.defaultValue;
        return;
      }
      value = Number(
        value
          .replace(",", ".")
          .replace("−", "-")
          .replace(/\s*(db|%|hz|lufs|°|stops?)$/i, ""),
      );
      if (el.dataset.unit === "frames" && /[sf:]/.test(el.value)) value = (await readTime(el.value, "length")).frame;
      if (!Number.isFinite(value)) {
        say(`“${el.value.slice(0, 30)}” is not a number.`, true);
        el.value = el.defaultValue;
        return;
      }
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
    const sounds = player.plan.sounds.map((s) => [...s.slice(0, 8), { ...s[8], mix }]);
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
  function set(where, setting, value) {
    if (where === "recording")
      // in every story; the strip is learnt anew when it is done
      return room.send(`${room.project}/recordings/${byId("panel-of").dataset.recording}/settings`, {
        setting,
        value,
      });
    const to = where === "items" ? [...room.chosenNow()] : where;
    return value === null
      ? room.edit("reset_value", { to, setting })
      : room.edit("set_value", { to, setting, value });
  }
  return () => scope;
}
