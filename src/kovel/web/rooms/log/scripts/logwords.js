// Correcting words and naming speakers, in a small form beside the word.
import { $, byId, inside } from "/static/js/dom.js";
import { post } from "/static/js/base.js";

/** @param {string} here address of the recording @returns {(word: HTMLElement) => void} opens a word to be corrected */
export function correcting(here) {
  const edit = byId("word-edit"),
    who = byId("who-edit");
  /** @param {HTMLElement} form @param {Element} el */
  function beside(form, el) {
    const r = el.getBoundingClientRect();
    form.hidden = false;
    form.style.left = `${Math.max(8, Math.min(r.left, innerWidth - form.offsetWidth - 8))}px`;
    const above = r.bottom + form.offsetHeight + 6 > innerHeight;
    form.style.top = `${above ? r.top - form.offsetHeight - 4 : r.bottom + 4}px`;
    const first = $("input", form);
    first.focus();
    first.select();
  }
  /** @param {HTMLElement} el */
  function editWord(el) {
    edit.word = el;
    edit.elements.text.value = el.textContent;
    who.hidden = true;
    beside(edit, el);
  }
  /** @param {string} path @param {Record<string, any>} values */
  async function wordsChange(path, values, target = "#words") {
    edit.hidden = who.hidden = true;
    const top = byId("words").scrollTop;
    await post(`${here}/words/${path}`, { target, swap: "outerHTML", values });
    byId("words").scrollTop = top;
  }
  const change = (/** @type {Record<string, any>} */ values) => {
    const turn = edit.word.closest(".turn");
    return wordsChange(
      "correct",
      {
        start: edit.word.dataset.s,
        was: edit.word.textContent,
        first: turn.dataset.first,
        count: turn.dataset.count,
        ...values,
      },
      turn,
    );
  };
  edit?.addEventListener("submit", (/** @type {Event} */ e) => {
    e.preventDefault();
    change({ text: edit.elements.text.value });
  });
  edit?.querySelector("[data-join]").addEventListener("click", () => change({ how: "join" }));
  edit?.querySelector("[data-out]").addEventListener("click", () => change({ text: "" }));
  who?.addEventListener("submit", (/** @type {Event} */ e) => {
    e.preventDefault();
    wordsChange("speaker", {
      start: who.turn.dataset.first,
      count: who.turn.dataset.count,
      name: who.elements.name.value,
      everywhere: who.elements.everywhere.checked,
    });
  });
  document.addEventListener("dblclick", (e) => {
    const w = inside(e, "#words .w");
    if (w) editWord(w);
  });
  document.addEventListener("click", (e) => {
    const b = inside(e, "#words .who");
    if (b) {
      who.turn = b.closest(".turn");
      who.elements.name.value = b.dataset.speaker;
      who.elements.everywhere.checked = false;
      edit.hidden = true;
      beside(who, b);
    } else if (!inside(e, ".popover") && e.detail < 2) edit.hidden = who.hidden = true;
  });
  for (const f of [edit, who])
    f?.addEventListener("keydown", (/** @type {KeyboardEvent} */ e) => {
      if (e.key === "Escape") {
        f.hidden = true;
        e.stopPropagation();
      }
    });
  return editWord;
}
