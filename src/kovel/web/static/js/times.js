// Times as editors type them. The server reads them; what it understood stands beside the field while one types.
import { room } from "./room.js";
import { inside, focused } from "./dom.js";

const project = () => location.pathname.match(/^\/p\/(\d+)/)?.[1];

/**
 * @param {string} text what was typed
 * @param {string} kind moment, length, delta, minutes, seconds, timecode: how it is meant
 * @param {{now?: number, start?: number, rate?: string, drop?: boolean}} [against]
 *   the frame that + and − count from; the
 *   timecode a film begins with; for a film that is not there yet, its rate and whether it drops frames
 * @returns {Promise<{frame: number, said: string, error?: string}>} or what is wrong with it
 */
export async function readTime(text, kind = "moment", { now = 0, start = 0, rate = "25", drop = false } = {}) {
  const q =
    kind === "timecode"
      ? `/timecode?${new URLSearchParams({ text, rate, drop: String(drop) })}`
      : `/p/${project()}/time?${new URLSearchParams({ text, kind, now: String(now), start: String(start) })}`;
  try {
    return await (await fetch(q, { headers: { Accept: "application/json" } })).json();
  } catch {
    return { frame: 0, said: "", error: "Kovel does not answer. Check that it still runs, then try again." };
  }
}

/**
 * A number as it is typed, with its unit or without; for a setting in that setting's unit.
 * @param {string} text @param {string} [setting]
 * @returns {Promise<{value?: number, ends?: [number, number], error?: string}>} `ends`: from one zoom to another
 */
export async function readValue(text, setting = "") {
  try {
    const q = new URLSearchParams({ text, setting });
    return await (await fetch(`/p/${project()}/value?${q}`, { headers: { Accept: "application/json" } })).json();
  } catch {
    return { error: "Kovel does not answer. Check that it still runs, then try again." };
  }
}

/** @type {HTMLElement|null} */ let told = null;
let asked = 0,
  due = 0;
/** @param {Element} field @param {string} text @param {boolean} bad */
function place(field, text, bad) {
  if (!told) {
    told = document.createElement("output");
    told.className = "understood";
    told.setAttribute("aria-live", "polite");
    document.body.append(told);
  }
  const home = field.closest("dialog[open]") || document.body,
    r = field.getBoundingClientRect();
  if (told.parentElement !== home) home.append(told);
  told.textContent = text;
  told.classList.toggle("bad", bad);
  told.hidden = !text;
  told.style.left = `${Math.min(r.left, innerWidth - told.offsetWidth - 8)}px`;
  told.style.top = `${r.bottom + told.offsetHeight + 4 > innerHeight ? r.top - told.offsetHeight - 2 : r.bottom + 2}px`;
}
const hide = () => {
  asked++;
  clearTimeout(due);
  if (told) told.hidden = true;
};

/**
 * Shows beside a field what its text means; used by every field with data-time="kind".
 * @param {HTMLInputElement} field @param {string} kind
 */
export function understand(field, kind, text = field.value, against = {}) {
  const n = ++asked;
  clearTimeout(due);
  if (!text.trim()) {
    hide();
    return;
  }
  due = setTimeout(async () => {
    const got = await readTime(text, kind, against);
    if (n === asked && focused() === field) place(field, got.error || `= ${got.said}`, Boolean(got.error));
  }, 90);
}
document.addEventListener("input", (e) => {
  const f = inside(e, "input[data-time]");
  const form = f?.form?.elements; // a new project's own rate
  if (f)
    understand(f, f.dataset.time, f.value, {
      rate: form?.rate?.value,
      drop: form?.drop?.checked,
      now: room.player?.frame || 0,
      start: Number(f.dataset.start || 0),
    });
});
document.addEventListener("focusout", hide);
