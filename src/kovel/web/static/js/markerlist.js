// The list of the story's markers: gone to, named, given a shape, deleted; the same in every room that has it.
import { redraw } from "./base.js";
import { byId, inside, num, target } from "./dom.js";

/**
 * @param {string} story address of the story @param {(command: string, params: object) => Promise<any>} edit
 * @param {(frame: number) => unknown} go
 */
export function markerList(story, edit, go) {
  const dialog = byId("markers"),
    here = byId("markers-here");
  async function draw() {
    const html = await (await fetch(`${story}/markers`)).text();
    redraw(here, () => {
      here.innerHTML = html;
    });
  }
  dialog.addEventListener("change", async (/** @type {Event} */ e) => {
    const { name, value, dataset } = target(e);
    await edit("set_marker", { marker: num(dataset.marker), [name]: value });
    await draw();
  });
  dialog.addEventListener("click", async (/** @type {MouseEvent} */ e) => {
    const to = inside(e, "[data-go]"),
      gone = inside(e, "[data-delete]");
    if (to) {
      dialog.close();
      go(num(to.dataset.go));
    } else if (gone) {
      await edit("remove_marker", { marker: num(gone.dataset.delete) });
      await draw();
    }
  });
  return async () => {
    await draw();
    dialog.showModal();
  };
}
