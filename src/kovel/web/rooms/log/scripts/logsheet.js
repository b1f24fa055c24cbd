// The whole log: keys along the rows and cards, choosing, arranging the storyboard.
import { $, byId, inside, focused, target, num } from "/static/js/dom.js";
import { post, say } from "/static/js/base.js";
import { typing } from "/static/js/transport.js";

const project = byId("logsheet").dataset.project,
  base = `/p/${project}/log`;
const sheet = () => byId("sheet");
const rows = () => [...sheet().querySelectorAll("[data-id]")];
const query = () => sheet().dataset.query;
const at = () => focused()?.closest?.("[data-id]");
let stood = null; // the row that had the focus before the sheet was drawn anew

const count = () => {
  sheet().querySelector("[data-chosen]").textContent = new Set(
    [...sheet().querySelectorAll("[name=ids]:checked")].map((x) => x.value),
  ).size;
};
document.addEventListener("change", (e) => {
  if (target(e).name === "ids") count();
});
document.addEventListener("focusin", (e) => {
  const r = inside(e, "[data-id]");
  if (r) stood = r.dataset.id;
});
document.body.addEventListener("htmx:configRequest", (/** @type {any} */ e) => {
  if (e.detail.elt.id !== "several") return;
  const p = e.detail.parameters,
    n = rows().filter((r) => !r.classList.contains("verdict-drop")).length;
  p.set("at", localStorage.getItem(`kovel-head-${project}`) || "");
  if (String(p.get("do")).startsWith("to-") && !p.get("ids") && n) {
    if (confirm(`Nothing is chosen. Send all ${n} that are shown and not dropped?`)) p.set("all", "true");
    else e.preventDefault();
  }
});
document.body.addEventListener("htmx:afterSettle", () => {
  if (focused() === document.body && stood)
    sheet().querySelector(`[data-id="${stood}"]`)?.focus({ preventScroll: true });
});

const send = (url, values, swap = "outerHTML") => post(url, { target: "#sheet", swap, values });
function arrange(id, before) {
  const ids = rows()
      .map((r) => r.dataset.id)
      .filter((x) => x !== id),
    i = before ? ids.indexOf(before) : ids.length;
  ids.splice(i, 0, id);
  const values = new FormData();
  for (const x of ids) values.append("ids", x);
  return send(`${base}/board?${query()}`, Object.fromEntries([["ids", ids]]));
}

document.addEventListener("keydown", (e) => {
  if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === "z" && !typing(e)) {
    e.preventDefault();
    post(`${base}/undo${e.shiftKey ? "?redo=true" : ""}`, { target: "#report", swap: "none" });
    return;
  }
  if (e.ctrlKey || e.metaKey || $("dialog[open]")) return;
  if (typing(e)) {
    if (e.key === "Escape") target(e).blur();
    return;
  }
  const here = at(),
    all = rows(),
    i = all.indexOf(here),
    k = e.key.toLowerCase();
  if (e.altKey) {
    if (here?.closest("[data-board]") && (k === "arrowleft" || k === "arrowright")) {
      e.preventDefault();
      const other = all[i + (k === "arrowleft" ? -1 : 2)];
      if (k === "arrowleft" ? i > 0 : i < all.length - 1) arrange(here.dataset.id, other?.dataset.id);
    }
    return;
  }
  if (k === "arrowdown" || k === "arrowright") all[Math.min(all.length - 1, i + 1)]?.focus();
  else if (k === "arrowup" || k === "arrowleft") all[Math.max(0, i - 1)]?.focus();
  else if (k === "/") byId("filter").focus();
  else if (k === "x" && here) {
    const c = $("[name=ids]", here);
    c.checked = !c.checked;
    count();
  } else if ((k === "1" || k === "2" || k === "3") && here) {
    const verdict = ["keep", "maybe", "drop"][num(k) - 1],
      pick = $("select[name=verdict]", here);
    send(`${base}/edit/${here.dataset.id}`, { verdict }, "none");
    if (pick) pick.value = verdict;
    here.className = here.className.replace(/verdict-\w+/, `verdict-${verdict}`);
    all[Math.min(all.length - 1, i + 1)]?.focus();
  } else if (k === "enter" && here && e.target === here) location.href = here.dataset.desk;
  else if (k === "b") sheet().querySelector('[name=do][value="to-end"]').click();
  else return;
  e.preventDefault();
});

let held = null;
document.addEventListener("dragstart", (e) => {
  held = inside(e, "[data-board] .card");
  held?.classList.add("is-held");
});
document.addEventListener("dragover", (e) => {
  if (!held) return;
  e.preventDefault();
  rows().forEach((r) => r.classList.remove("drop-before"));
  inside(e, ".card")?.classList.add("drop-before");
});
document.addEventListener("drop", (e) => {
  if (!held) return;
  e.preventDefault();
  const over = inside(e, ".card");
  if (over !== held)
    arrange(held.dataset.id, over?.dataset.id).catch(() =>
      say("The storyboard could not be arranged. Try again.", true),
    );
});
document.addEventListener("dragend", () => {
  held?.classList.remove("is-held");
  held = null;
});
