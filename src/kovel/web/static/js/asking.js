// What an edit would do besides what was asked, judged before it is done: Enter does it, Escape leaves it.
import { $, inside } from "./dom.js";

/** @param {string} html the panel that says it @returns {Promise<boolean>} */
export function ask(html) {
  const place = $("#ask-place");
  place.innerHTML = html;
  return new Promise((done) => {
    const end = (/** @type {boolean | PromiseLike<boolean>} */ yes) => {
      place.replaceChildren();
      document.removeEventListener("keydown", key, true);
      place.onclick = null;
      done(yes);
    };
    const key = (/** @type {KeyboardEvent} */ e) => {
      if (e.key !== "Enter" && e.key !== "Escape") return;
      e.preventDefault();
      e.stopPropagation();
      end(e.key === "Enter");
    };
    document.addEventListener("keydown", key, true);
    place.onclick = (/** @type {Event} */ e) => {
      const b = inside(e, "[data-ask]");
      if (b) end(b.dataset.ask === "yes");
    };
    $("[data-ask=yes]", place).focus();
  });
}
