// The whole log: keys along the rows and cards, choosing, arranging the storyboard.
import { post, say } from "./base.js";
import { typing } from "./transport.js";

const project = document.getElementById("logsheet").dataset.project, base = `/p/${project}/log`;
const sheet = () => document.getElementById("sheet");
const rows = () => [...sheet().querySelectorAll("[data-id]")];
const query = () => sheet().dataset.query;
const at = () => document.activeElement?.closest?.("[data-id]");
let stood = null; // the row that had the focus before the sheet was drawn anew

const count = () => { sheet().querySelector("[data-chosen]").textContent = new Set([...sheet().querySelectorAll("[name=ids]:checked")].map((x) => x.value)).size; };
document.addEventListener("change", (e) => { if (e.target.name === "ids") count(); });
document.addEventListener("focusin", (e) => { const r = e.target.closest("[data-id]"); if (r) stood = r.dataset.id; });
document.body.addEventListener("htmx:configRequest", (e) => {
  if (e.detail.elt.id !== "several") return;
  const p = e.detail.parameters, n = rows().filter((r) => !r.classList.contains("verdict-drop")).length;
  p.set("at", localStorage.getItem(`kovel-head-${project}`) || "");
  if (String(p.get("do")).startsWith("to-") && !p.get("ids") && n) {
    if (confirm(`Nothing is chosen. Send all ${n} that are shown and not dropped?`)) p.set("all", "true"); else e.preventDefault();
  }
});
document.body.addEventListener("htmx:afterSettle", () => { if (document.activeElement === document.body && stood) sheet().querySelector(`[data-id="${stood}"]`)?.focus({ preventScroll: true }); });

const send = (url, values, swap = "outerHTML") => post(url, { target: "#sheet", swap, values });
function arrange(id, before) {
  const ids = rows().map((r) => r.dataset.id).filter((x) => x !== id), i = before ? ids.indexOf(before) : ids.length;
  ids.splice(i, 0, id);
  const values = new FormData();
  for (const x of ids) values.append("ids", x);
  return send(`${base}/board?${query()}`, Object.fromEntries([["ids", ids]]));
}

document.addEventListener("keydown", (e) => {
  if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === "z" && !typing(e)) { e.preventDefault(); post(`${base}/undo${e.shiftKey ? "?redo=true" : ""}`, { target: "#report", swap: "none" }); return; }
  if (e.ctrlKey || e.metaKey || document.querySelector("dialog[open]")) return;
  if (typing(e)) { if (e.key === "Escape") e.target.blur(); return; }
  const here = at(), all = rows(), i = all.indexOf(here), k = e.key.toLowerCase();
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
  else if (k === "/") document.getElementById("filter").focus();
  else if (k === "x" && here) { const c = here.querySelector("[name=ids]"); c.checked = !c.checked; count(); }
  else if ((k === "1" || k === "2" || k === "3") && here) {
    const verdict = ["keep", "maybe", "drop"][k - 1], pick = here.querySelector("select[name=verdict]");
    send(`${base}/edit/${here.dataset.id}`, { verdict }, "none");
    if (pick) pick.value = verdict;
    here.className = here.className.replace(/verdict-\w+/, `verdict-${verdict}`);
    all[Math.min(all.length - 1, i + 1)]?.focus();
  }
  else if (k === "enter" && here && e.target === here) location.href = here.dataset.desk;
  else if (k === "b") sheet().querySelector('[name=do][value="to-end"]').click();
  else return;
  e.preventDefault();
});

let held = null;
document.addEventListener("dragstart", (e) => { held = e.target.closest?.("[data-board] .card"); held?.classList.add("is-held"); });
document.addEventListener("dragover", (e) => {
  if (!held) return;
  e.preventDefault();
  rows().forEach((r) => r.classList.remove("drop-before"));
  e.target.closest(".card")?.classList.add("drop-before");
});
document.addEventListener("drop", (e) => {
  if (!held) return;
  e.preventDefault();
  const over = e.target.closest(".card");
  if (over !== held) arrange(held.dataset.id, over?.dataset.id).catch(() => say("The storyboard could not be arranged. Try again.", true));
});
document.addEventListener("dragend", () => { held?.classList.remove("is-held"); held = null; });
