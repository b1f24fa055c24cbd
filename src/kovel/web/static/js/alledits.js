// Every edit by its name: type some of it, a length where it needs one, Enter. The server says which there are.
import { say } from "./base.js";
import { $, byId, num } from "./dom.js";
import { readTime, understand } from "./times.js";

/** @param {StoryRoom} story @param {import("./edits.js").Edits} edits */
export function allEdits(story, edits) {
  const { player, choice } = story;
  const dialog = byId("all"),
    text = byId("all-text"),
    list = byId("all-list");
  const said = byId("all-said"),
    would = byId("all-would");
  // what the room does besides edits, in the same list
  const own = [
    { label: "Go to a time: TIMECODE", key: "F", typed: "text", act: goTo },
    { label: "Another camera at the playhead", key: "H", act: story.otherCamera },
    { label: "The same told elsewhere in the piece's place", key: "Shift H", act: story.otherTelling },
    { label: "Shots to cover what is chosen, or the sentence at the playhead", key: "Shift V", act: story.covering },
    { label: "Copy", key: "Ctrl C", act: story.copyRange },
    { label: "Next space", key: "", act: nextSpace },
    { label: "Lanes: what goes along, is locked, muted, heard alone", key: "", act: story.acts.lanes },
    { label: "Undo", key: "Z", act: story.acts.undo },
    { label: "Redo", key: "Shift Z", act: story.acts.redo },
    ...(story.own ?? []),
  ];
  /** @param {string} t */
  async function goTo(t) {
    if (!t) {
      $("[data-act=time]").click();
      return undefined;
    }
    const got = await readTime(t, "moment", { now: player.frame, start: num($("[data-player]").dataset.start) });
    if (!got.error) player.seek(got.frame);
    return got.error;
  }
  function nextSpace() {
    const s = choice
      .pieces()
      .find((/** @type {{ source: null; at: number; }} */ p) => p.source === null && p.at > player.frame);
    if (!s) return void say("There is no space after this.", true);
    player.seek(s.at);
    return void choice.choose({ kind: "piece", id: s.id });
  }
  /** What fits what is typed: entry, value, whether it can be run. @type {[any, any, any][]} */ let found = [];
  /** @type {any[]} */ let all = own,
    at = 0,
    asked = 0,
    loaded = /** @type {Promise<unknown>} */ (Promise.resolve()); // the edits that the story offers as it stands now
  const places = () =>
    edits.places.map((/** @type {{ room: any; }} */ p) => ({
      ...p,
      key: "",
      typed: "",
      act: () => location.assign(`/p/${story.project}/${p.room}`),
    }));
  /** Everything there is, in the order in which the server numbers it. */
  const everything = () => [...edits.entries, ...places(), ...own];
  // The server says which of them are meant, and what of the text is the value.
  async function look() {
    const turn = ++asked;
    await loaded;
    if (turn !== asked) return;
    const text_ = text.value;
    all = everything();
    const answer = await fetch(`${edits.story.base}/edits/search`, {
      method: "POST",
      headers: { "Content-Type": "application/json", "X-Kovel": "1" },
      body: JSON.stringify({
        text: text_,
        fits: edits.entries.flatMap((/** @type {any} */ e, /** @type {any} */ n) => (edits.fits(e) ? [n] : [])),
        own: own.map((e) => ({ label: e.label, typed: e.typed ?? "" })),
      }),
    });
    if (!answer.ok || turn !== asked) return;
    found = (await answer.json())
      .map((/** @type {[number, any, boolean]} */ [n, value, runs]) => [all[n], value, runs])
      .filter((/** @type {any[]} */ [e]) => e);
    tell("");
    at = 0;
    show();
    hint();
    if (found.some((/** @type {any[]} */ x) => x[2])) return;
    tell(`No edit is called “${text_.trim().slice(0, 40)}”.`);
    if (found.length) would.textContent = "These come near. Enter writes the name, and once more does it.";
  }
  /** @param {string} why */
  function tell(why) {
    said.textContent = why;
    said.hidden = !why;
    if (why) understand(text, "", "");
  }
  let waits = 0;
  function hint() {
    const [e, value, runs] = found[at] || [{}, "", false];
    understand(text, e.typed, value && ["length", "delta", "minutes"].includes(e.typed) ? value : "");
    clearTimeout(waits);
    would.textContent = "";
    if (e.command && runs && text.value.trim()) waits = setTimeout(() => foresee(e, value), 120);
  }
  // What would be done, and how long the story is then.
  /** @param {any} e @param {any} value */
  async function foresee(e, value) {
    const typed = await edits.typed(e, value),
      params = typed.error ? typed : edits.filled(e, typed);
    if (found[at]?.[0] !== e) return;
    if (params.error) {
      would.textContent = params.error;
      return;
    }
    const answer = await fetch(`${edits.story.base}/edit/preview`, {
      method: "POST",
      headers: { "Content-Type": "application/json", Accept: "application/json", "X-Kovel": "1" },
      body: JSON.stringify({ command: e.command, ...params }),
    });
    const got = await answer.json().catch(() => ({}));
    if (found[at]?.[0] === e && dialog.open) would.textContent = got.told ?? got.error ?? "";
  }
  function show() {
    list.replaceChildren(
      ...found.map(([e, value], i) => {
        const li = document.createElement("li"),
          why = document.createElement("span");
        li.id = `all-${i}`;
        li.role = "option";
        li.setAttribute("aria-selected", String(i === at));
        li.textContent = e.label;
        why.className = "why";
        if (value) {
          why.textContent = value;
          why.classList.add("tc");
        } else if (e.key) {
          const k = document.createElement("kbd");
          k.textContent = e.key;
          why.append(k);
        }
        li.append(why);
        li.addEventListener("click", () => run(i));
        return li;
      }),
    );
    list.children[at]?.scrollIntoView({ block: "nearest" });
    text.setAttribute("aria-activedescendant", found.length ? `all-${at}` : "");
  }
  /** @param {number} i */
  async function run(i) {
    if (!found[i]) return;
    const [e, value, runs] = found[i];
    if (!runs && text.value.trim() && text.value !== e.label) {
      // nobody named it: its name is written, and Enter once more does it
      text.value = e.label.split(":")[0];
      await look();
      return;
    }
    const typed = e.command ? await edits.typed(e, value) : {};
    if (typed.error) {
      tell(typed.error);
      return;
    } // field and text stay
    dialog.close();
    const why = await (e.act ? e.act(value) : edits.run(e, typed));
    if (why) say(why, true);
  }
  let pending = Promise.resolve(); // whoever types quickly presses Enter before the answer is here
  text.addEventListener("input", () => {
    pending = look();
  });
  async function settled() {
    for (let last = null; last !== pending;) {
      last = pending;
      await last;
    }
  }
  text.addEventListener("keydown", (/** @type {KeyboardEvent} */ e) => {
    if (e.key === "ArrowDown" || e.key === "ArrowUp") {
      e.preventDefault();
      at = Math.max(0, Math.min(found.length - 1, at + (e.key === "ArrowDown" ? 1 : -1)));
      show();
      hint();
    } else if (e.key === "Enter") {
      e.preventDefault();
      settled().then(() => run(at));
    }
  });
  document.addEventListener("all-edits", () => {
    text.value = "";
    found = [];
    dialog.showModal();
    text.focus();
    loaded = edits.load();
    pending = look();
  });
}
