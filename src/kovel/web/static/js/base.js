// In every room: the look, the key sheet, and the report line that fades once read.
import { room } from "./room.js";
import { Queue } from "./queue.js";
import { $, byId, inside, focused, target } from "./dom.js";
import { onKeys } from "./keys.js";
import "./times.js";

const root = document.documentElement;
$("[data-theme-toggle]").addEventListener("click", () => {
  root.dataset.theme = root.dataset.theme === "night" ? "day" : "night";
  localStorage.setItem("kovel-look", root.dataset.theme);
  document.dispatchEvent(new Event("look"));
});
const sheet = byId("keys");
const help = () => (sheet.open ? sheet.close() : sheet.showModal());
$("[data-help]").addEventListener("click", help);
onKeys({ help });

$(".rail [aria-current]")?.scrollIntoView({ block: "nearest" }); // what is open is seen in a long list of recordings

// A form that htmx sends is never sent by the browser as well, also in the moment before htmx has seen it.
document.addEventListener("submit", (e) => {
  if (target(e).matches("[hx-post], [hx-get]")) e.preventDefault();
});

/** @type {number} */ let fading;
new MutationObserver(() => {
  const r = byId("report");
  if (!r || !r.textContent.trim() || r.dataset.seen) return; // one that was seen goes on fading, whatever else changes
  clearTimeout(fading);
  r.dataset.seen = "1";
  if (!r.classList.contains("bad"))
    fading = setTimeout(() => r.classList.add("faded"), 4500 + 40 * r.textContent.length);
}).observe(document.body, { childList: true, subtree: true });
document.addEventListener("click", (e) => {
  if (inside(e, "#report")) {
    const r = byId("report");
    r.textContent = "";
    r.className = "";
  }
});

// Whatever was sent may have changed the story that the foot of the page names.
document.body.addEventListener("htmx:afterRequest", (/** @type {CustomEvent} */ e) => {
  const { successful, requestConfig } = e.detail;
  if (successful && requestConfig.verb === "post" && !requestConfig.path.includes("/open-story"))
    document.body.dispatchEvent(new Event("sent"));
});

// htmx tells of a server that does not answer; say so in words.
document.body.addEventListener("htmx:sendError", () => silent());
const SILENT = "Kovel does not answer. Check that it still runs, then try again. Nothing acknowledged is lost.";
let asking = 0;

/** Says that the server does not answer, and asks until it does again. */
export function silent() {
  say(SILENT, true);
  if (asking) return;
  asking = setInterval(async () => {
    const back = await fetch("/health").then(
      (r) => r.ok,
      () => false,
    );
    if (!back) return;
    clearInterval(asking);
    asking = 0;
    if (byId("report").textContent === SILENT) say("Kovel answers again.");
  }, 1500);
}

// Who else is there is asked for with where this page is; whoever types in it is left alone.
document.body.addEventListener("htmx:configRequest", (/** @type {CustomEvent} */ e) => {
  if (e.detail.elt.id !== "together") return;
  e.detail.parameters.frame = room.player?.frame ?? 0;
  const seen = room.stands?.().revision ?? byId("page")?.dataset.revision;
  if (seen !== undefined) e.detail.parameters.seen = seen;
});
document.body.addEventListener("htmx:beforeRequest", (/** @type {CustomEvent} */ e) => {
  if (e.detail.elt.id === "together" && (document.hidden || $("#together-more[open]"))) e.preventDefault();
});

addEventListener("pagehide", () => {
  const where = byId("together")?.getAttribute("hx-get");
  if (where) navigator.sendBeacon(`${where}/left`);
});

// What a page sends by key goes one after the other, after what htmx has under way.
const line = new Queue();
/** @param {string} url @param {object} options */
export function post(url, options) {
  return line.add(async () => {
    while ($(".htmx-request")) await new Promise((r) => setTimeout(r, 8));
    return htmx.ajax("POST", url, options);
  });
}

// Redraws a place around whoever types in it: the same field has the focus after, with what was typed and chosen in it.
/**
 * @param {ParentNode} place
 * @param {{ (): void; (): void; (): void; (): void; (): void; (): void; (): void; }} put
 */
export function redraw(place, put) {
  const was = focused(),
    key = place.contains(was) && (was.id ? `#${was.id}` : was.name && `[name="${was.name}"]`);
  const text = key && was.selectionStart != null,
    typed = text && was.value !== was.defaultValue;
  const [a, b] = text ? [was.selectionStart, was.selectionEnd] : [],
    all = text && b - a === was.value.length;
  // what is taken away half typed says so as it goes: not yet, it is typed on in the field that takes its place
  if (typed) was.addEventListener("change", (/** @type {Event} */ e) => e.stopImmediatePropagation(), true);
  put();
  const now = key && $(key, place);
  if (!now) return;
  now.focus();
  if (typed) {
    now.value = was.value;
    now.addEventListener(
      "blur",
      () => {
        if (now.value !== now.defaultValue) now.dispatchEvent(new Event("change", { bubbles: true }));
      },
      { once: true },
    );
  }
  if (all) now.select();
  else if (text) now.setSelectionRange(a, b);
}

/** @param {string} text */
export function say(text, bad = false) {
  const r = byId("report");
  r.className = bad ? "bad" : "";
  delete r.dataset.seen;
  r.textContent = text;
}
