// Uploads: progress with time left, dropping files; rows ordered by dragging or Alt with arrows.
import { $, $$, byId, inside, focused } from "/static/js/dom.js";
import { post } from "/static/js/base.js";

const form = byId("upload"),
  bar = byId("upload-progress"),
  left = byId("upload-left");
let began = 0;
form.addEventListener("htmx:xhr:loadstart", () => {
  began = performance.now();
  bar.hidden = false;
});
form.addEventListener("htmx:xhr:progress", (/** @type {CustomEvent} */ e) => {
  if (!e.detail.total) return;
  const x = e.detail.loaded / e.detail.total;
  bar.value = 100 * x;
  const s = ((performance.now() - began) / 1000) * (1 / x - 1);
  left.textContent = x >= 1 ? "looking at it…" : `${Math.ceil(s)} s left`;
});
form.addEventListener("htmx:afterRequest", () => {
  bar.hidden = true;
  left.textContent = "";
  form.reset();
});
document.addEventListener("dragover", (e) => {
  if (e.dataTransfer?.types.includes("Files")) e.preventDefault();
});
document.addEventListener("drop", (e) => {
  if (!e.dataTransfer?.files.length) return;
  e.preventDefault();
  const input = $("input[type=file]", form);
  input.files = e.dataTransfer?.files;
  input.dispatchEvent(new Event("change", { bubbles: true }));
});

const url = (/** @type {HTMLElement} */ row) =>
  `${location.pathname.replace(/\/footage$/, "")}/recordings/${row.dataset.recording}/order`;
const reorder = (/** @type {string} */ u, /** @type {Record<string, any>} */ values) =>
  post(u, { target: "#recordings", swap: "outerHTML", values });
/** @type {HTMLElement|null} */ let dragged = null;
const clear = () => $$(".drop-before").forEach((x) => x.classList.remove("drop-before"));
document.addEventListener("dragstart", (e) => {
  dragged = inside(e, "tr[data-recording]");
  if (dragged) e.dataTransfer?.setData("text/plain", dragged.dataset.recording ?? "");
});
document.addEventListener("dragover", (e) => {
  const row = inside(e, "tr[data-recording]");
  if (dragged && row) {
    e.preventDefault();
    clear();
    row.classList.add("drop-before");
  }
});
document.addEventListener("drop", (e) => {
  const row = inside(e, "tr[data-recording]");
  clear();
  if (dragged && row && row !== dragged) {
    e.preventDefault();
    reorder(url(dragged), { before: row.dataset.recording });
  }
  dragged = null;
});
document.addEventListener("dragend", () => {
  clear();
  dragged = null;
});
document.addEventListener("keydown", (e) => {
  const row = inside(e, "tr[data-recording]");
  if (row && e.altKey && (e.key === "ArrowUp" || e.key === "ArrowDown")) {
    e.preventDefault();
    reorder(url(row), { step: e.key === "ArrowUp" ? -1 : 1 });
  }
});
// The list refreshes itself while recordings are prepared, but never under the fingers of somebody who types or drags.
const inUse = () =>
  dragged ||
  focused()?.closest("#recordings input, #recordings select") ||
  $("[name=ids]:checked, #with-chosen[open]");
// What was asked for by hand (order, frames, a bin) is always shown: as it comes `elt` is the list, whoever asked.
const isPoll = (/** @type {any} */ e) =>
  e.detail.requestConfig?.verb === "get" && e.detail.requestConfig.elt.id === "recordings";
document.body.addEventListener("htmx:beforeRequest", (e) => {
  if (isPoll(e) && inUse()) e.preventDefault();
});
document.body.addEventListener("htmx:beforeSwap", (/** @type {CustomEvent} */ e) => {
  if (isPoll(e) && inUse()) e.detail.shouldSwap = false;
});
