// The list of lanes: what goes along, is locked, muted, heard alone; the same in every room that has it.
import { byId, target } from "./dom.js";
import { redraw } from "./base.js";

/** @param {string} story address of the story @param {(command: string, params: object) => Promise<any>} edit */
export function laneList(story, edit) {
  const dialog = byId("lanes"),
    here = byId("lanes-here");
  async function draw() {
    const html = await (await fetch(`${story}/lanes`)).text();
    redraw(here, () => {
      here.innerHTML = html;
    });
  }
  dialog.addEventListener("change", async (/** @type {Event} */ e) => {
    const { switch: command, lane, what } = target(e).dataset;
    await edit(command, { lane, [what]: target(e).checked });
    await draw();
  });
  return async () => {
    await draw();
    dialog.showModal();
  };
}
