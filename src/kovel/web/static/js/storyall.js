// Every edit by its name: type some of it, a length where it needs one, Enter. The server says which there are.
import { say } from "./base.js";
import { $, byId, num } from "./dom.js";
import { readTime, understand } from "./times.js";

export function allEdits(story, edits) {
  const { player, choice } = story;
  const dialog = byId("all"),
    text = byId("all-text"),
    list = byId("all-list");
  const said = byId("all-said");
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
    const s = choice.pieces().find((p) => p.source === null && p.at > player.frame);
    if (!s) return void say("There is no space after this.", true);
    player.seek(s.at);
    return void choice.choose({ kind: "piece", id: s.id });
  }
  let all = own,
    found = [],
    at = 0;
  // "dissolve 12": the name's words that fit, the rest is the value.
  function look() {
    const typed = text.value.trim(),
      words = typed.toLowerCase().split(/\s+/).filter(Boolean);
    const named = (name) =>
      name
        .toLowerCase()
        .replace(/[A-Z]{4,}/g, "")
        .split(/[\s:,-]+/);
    const fit = (name, n) => words.slice(0, n).every((w) => named(name).some((x) => x.startsWith(w)));
    const rest = (n) => typed.split(/\s+/).slice(n).join(" ");
    found = [];
    for (let n = words.length; n >= Math.min(1, words.length) && !found.length; n--)
      found = all.filter((e) => (e.typed || n === words.length) && fit(e.label, n)).map((e) => [e, rest(n)]);
    tell("");
    if (!found.length && words.length) {
      // nothing is called so: what has a word that begins alike, or has it inside
      const near = (w) => (x) => x.length > 2 && (x.startsWith(w.slice(0, 3)) || x.includes(w) || w.includes(x));
      found = all
        .filter((e) => words.some((w) => named(e.label).some(near(w))))
        .slice(0, 8)
        .map((e) => [e, ""]);
      tell(`No edit is called “${typed.slice(0, 40)}”.${found.length ? " These come near:" : ""}`);
    }
    at = 0;
    show();
    hint();
  }
  function tell(why) {
    said.textContent = why;
    said.hidden = !why;
    if (why) understand(text, "", "");
  }
  function hint() {
    const [e, value] = found[at] || [{}, ""];
    understand(text, e.typed, value && ["length", "delta", "minutes"].includes(e.typed) ? value : "");
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
  async function run(i) {
    if (!found[i]) return;
    const [e, value] = found[i],
      typed = e.command ? await edits.typed(e, value) : {};
    if (typed.error) {
      tell(typed.error);
      return;
    } // field and text stay
    dialog.close();
    const why = await (e.act ? e.act(value) : edits.run(e, typed));
    if (why) say(why, true);
  }
  text.addEventListener("input", look);
  text.addEventListener("keydown", (e) => {
    if (e.key === "ArrowDown" || e.key === "ArrowUp") {
      e.preventDefault();
      at = Math.max(0, Math.min(found.length - 1, at + (e.key === "ArrowDown" ? 1 : -1)));
      show();
      hint();
    } else if (e.key === "Enter") {
      e.preventDefault();
      run(at);
    }
  });
  document.addEventListener("all-edits", async () => {
    text.value = "";
    all = [...edits.entries, ...own];
    dialog.showModal();
    look();
    text.focus();
    all = [...(await edits.load()), ...own];
    look();
  });
}
