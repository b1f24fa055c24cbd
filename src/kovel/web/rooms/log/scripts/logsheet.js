// The whole log: keys along the rows and cards, choosing, arranging the storyboard.
import { $, byId, inside, focused, target } from "/static/js/dom.js";
import { post, say } from "/static/js/base.js";
import { onKeys } from "/static/js/keys.js";

const project = byId("logsheet").dataset.project,
  base = `/p/${project}/log`;
const sheet = () => byId("sheet");
const rows = () => [...sheet().querySelectorAll("[data-id]")];
const query = () => sheet().dataset.query;
const at = () => focused()?.closest?.("[data-id]");
/** @type {null} */ let stood = null; // the row that had the focus before the sheet was drawn anew

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
document.body.addEventListener("htmx:configRequest", (/** @type {CustomEvent} */ e) => {
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

const send = (/** @type {string} */ url, /** @type {Record<string, any>} */ values, swap = "outerHTML") =>
  post(url, { target: "#sheet", swap, values });
/** @param {any} id @param {any} before */
function arrange(id, before) {
  const ids = rows()
      .map((r) => r.dataset.id)
      .filter((x) => x !== id),
    i = before ? ids.indexOf(before) : ids.length;
  ids.splice(i, 0, id);
  return send(`${base}/board?${query()}`, { ids });
}

const stepped = (/** @type {number} */ by) => {
  const all = rows();
  all[Math.max(0, Math.min(all.length - 1, all.indexOf(at()) + by))]?.focus();
};
/** @param {string} verdict */
function judge(verdict) {
  const here = at(),
    pick = here && $("select[name=verdict]", here);
  if (!here) return false;
  send(`${base}/edit/${here.dataset.id}`, { verdict }, "none");
  if (pick) pick.value = verdict;
  here.className = here.className.replace(/verdict-\w+/, `verdict-${verdict}`);
  return stepped(1);
}
/** Moves the card that has the focus on the storyboard. @param {number} by */
function moved(by) {
  const here = at(),
    all = rows(),
    to = all.indexOf(here) + by;
  if (!here?.closest("[data-board]")) return false;
  return all[to] && arrange(here.dataset.id, all[by < 0 ? to : to + 1]?.dataset.id);
}
const turned = (/** @type {boolean} */ redo) =>
  post(`${base}/undo${redo ? "?redo=true" : ""}`, { target: "#report", swap: "none" });
onKeys({
  undo: () => turned(false),
  redo: () => turned(true),
  next: () => stepped(1),
  last: () => stepped(-1),
  card_back: () => moved(-1),
  card_on: () => moved(1),
  filter: () => byId("filter").focus(),
  tick: () => {
    const box = at() && $("[name=ids]", at());
    if (!box) return false;
    box.checked = !box.checked;
    return count();
  },
  keep: () => judge("keep"),
  maybe: () => judge("maybe"),
  drop: () => judge("drop"),
  open: (e) => (at() && e.target === at() ? location.assign(at().dataset.desk) : false),
  to_end: () => sheet().querySelector('[name=do][value="to-end"]').click(),
});

/** @type {HTMLElement|null} */ let held = null;
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
