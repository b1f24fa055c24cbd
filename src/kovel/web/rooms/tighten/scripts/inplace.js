// What would go from the story in place: a list to look through before it is done.
import { byId, inside } from "/static/js/dom.js";

const placeDialog = byId("in-place-dialog");
document.body.addEventListener("htmx:afterSwap", (/** @type {CustomEvent} */ e) => {
  if (e.detail.target.id === "in-place" && !placeDialog.open) placeDialog.showModal();
});
placeDialog.addEventListener("click", (/** @type {MouseEvent} */ e) => {
  if (inside(e, "[data-close]")) placeDialog.close();
});
placeDialog.addEventListener("htmx:afterRequest", (/** @type {CustomEvent} */ e) => {
  if (e.detail.requestConfig.verb === "post" && e.detail.successful) placeDialog.close();
});
