// Shots that could cover what is chosen, or the sentence at the playhead: ranked by the server, laid by number.
import { say } from "/static/js/base.js";
import { $$, byId, inside } from "/static/js/dom.js";

/** @param {any} story the page: base, player, choice, edit @returns {() => Promise<void>} opens the list */
export function coverThis({ base, player, choice, edit }) {
  const dialog = byId("covers");
  /** @param {HTMLElement} button */
  async function lay(button) {
    const { command, params } = JSON.parse(button.dataset.lay ?? "");
    dialog.close();
    player.seek(params.at);
    await edit(command, params);
  }
  dialog.addEventListener("click", (/** @type {MouseEvent} */ e) => {
    const b = inside(e, "[data-lay]");
    if (b) lay(b);
  });
  dialog.addEventListener("keydown", (/** @type {KeyboardEvent} */ e) => {
    const b = $$("[data-lay]", dialog)[Number(e.key) - 1];
    if (!b || e.ctrlKey || e.altKey || e.metaKey) return;
    e.preventDefault();
    lay(b);
  });
  return async () => {
    const r = choice.range(),
      asked = r ? `at=${r[0]}&until=${r[1]}` : `at=${player.frame}`;
    const got = await fetch(`${base}/covers?${asked}`, { headers: { Accept: "application/json" } });
    if (!got.ok) return say((await got.json()).error, true);
    dialog.innerHTML = await got.text();
    dialog.showModal();
    $$("[data-lay]", dialog)[0]?.focus();
  };
}
