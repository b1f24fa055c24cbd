// The Sound room: turns keys, clicks and drags on the strip into requests. The server holds the story.
import { $, $$, byId, focused, inside, num, target } from "/static/js/dom.js";
import { redraw, say } from "/static/js/base.js";
import { readTime } from "/static/js/times.js";
import { transport, typing } from "/static/js/transport.js";
import { Edits, chord } from "/static/js/edits.js";
import { laneList } from "/static/js/lanelist.js";
import { allEdits } from "/static/js/alledits.js";
import { Strip } from "./strip.js";
import { dragging } from "./stripdrag.js";
import { dipping } from "./stripdips.js";
import { momentOf } from "./striplines.js";
import { Meter } from "./meters.js";
import { roomChoice, roomEdits, roomLends } from "/static/js/roomedits.js";
import { settingsPanel } from "/static/js/settingspanel.js";
import { voiceTake } from "./voicetake.js";
import { BeforeAfter } from "./beforeafter.js";

const room = byId("soundroom"),
  project = `/p/${room.dataset.project}`,
  base = `${project}/sound`,
  story = `${project}/story`,
  zoom = byId("zoom"),
  panel = byId("panel");

const edits = new Edits({ base: story }),
  known = edits.load(),
  strip = new Strip(base);
const player = await transport($("[data-player]"), `${story}/plan`);
await Promise.all([known, strip.learn()]);
const meter = new Meter(byId("meter"), byId("meter-now"), JSON.parse(room.dataset.weighting));
let alone = false;

// ---- what is chosen
const block = (id) => strip.data.blocks.find((b) => b.id === id);
function choose(id, more = false) {
  if (id === null) strip.chosen.clear();
  else if (more && strip.chosen.has(id)) strip.chosen.delete(id);
  else {
    if (!more) strip.chosen.clear();
    strip.chosen.add(id);
  }
  strip.moment = null;
  chosen();
}
let asked = 0;
async function chosen() {
  const mine = ++asked;
  strip.draw();
  tellChosen();
  listenAlone();
  const what = new URLSearchParams({ items: [...strip.chosen].join(","), scope: scope() });
  const r = await fetch(`${base}/panel?${what}`);
  const html = await r.text();
  if (!r.ok || mine !== asked) return; // something else is chosen since
  redraw(panel, () => {
    panel.innerHTML = html;
  });
}
function tellChosen() {
  const rows = [...strip.chosen].map(block).filter(Boolean);
  byId("chosen-said").textContent =
    rows.length === 1 ? `${rows[0].name}: ${rows[0].tells}` : rows.length ? `${rows.length} things chosen` : "";
}
const first = () => block([...strip.chosen][0]);
const choice = roomChoice({ first, choose, player, chosen: () => strip.chosen, marks: strip.marks });

// ---- edits
/** What is chosen, as one text. */
const said = () => [...strip.chosen].join(" ");
async function anew() {
  await Promise.all([strip.learn(), player.reload()]);
  for (const id of [...strip.chosen]) if (!block(id)) strip.chosen.delete(id);
  listenAlone();
  await chosen();
  whole();
}
async function done(got, chosenThen = said()) {
  if (got.did) say([`${got.did}.`, ...(got.notes || [])].join(" "));
  if (strip.data && got.revision !== undefined) strip.data.revision = got.revision;
  const made = (got.made || []).length === 1 ? got.made[0] : null;
  await anew();
  if (made && block(made) && !strip.chosen.has(made) && said() === chosenThen) choose(made);
}
const { queue, send, edit, wide, step } = roomEdits({
  story,
  said,
  anew,
  done,
  stands: () => strip.data,
  refused: () => {
    strip.drafts.clear();
    void chosen(); // what was typed is not what stands
  },
});

// ---- the whole
async function whole() {
  const l = strip.loud,
    s = Math.round(strip.data.length / strip.fps);
  byId("whole-length").textContent = `${Math.floor(s / 60)}:${String(s % 60).padStart(2, "0")}`;
  byId("loudness").textContent =
    l?.whole === null || !l ? "Silent." : `${l.whole} LUFS, range ${l.range ?? "–"} LU; ${l.target} is aimed at.`;
  for (const [what, can] of [
    ["undo", strip.data.undo],
    ["redo", strip.data.redo],
  ])
    $(`[data-do=${what}]`).disabled = !can;
}
function told(title, rows, notes = []) {
  byId("told-title").textContent = title;
  const list = document.createElement("table");
  list.className = "table";
  for (const cells of rows) {
    const tr = list.insertRow();
    for (const text of cells) tr.insertCell().textContent = text;
  }
  const said = notes.map((note) => Object.assign(document.createElement("p"), { textContent: note }));
  byId("told-rows").replaceChildren(...said, list);
  byId("told-dialog").showModal();
}
const at = (f) =>
  `${Math.floor(f / strip.fps / 60)}:${((Math.floor((f / strip.fps) * 10) / 10) % 60).toFixed(1).padStart(4, "0")}`;
const revision = () => ({ revision: null }); // the one that stands when it is sent
const music = () => {
  const b = first();
  return b?.kind === "sound" ? b : strip.data.blocks.find((x) => x.lane === "music");
};
const acts = {
  undo: () => step("undo"),
  redo: () => step("redo"),
  even: (apart = "speaker") =>
    send(`${base}/even`, { apart, ...revision() }, (got) =>
      told(got.did.split(":")[0], [
        ["Voice", "its speech was at", "changed by"],
        ...got.voices.map((v) => [v.name, `${v.loudness} LUFS`, `${v.set > 0 ? "+" : ""}${v.set} dB`]),
      ]),
    ),
  duck: () => byId("duck-dialog").showModal(),
  fit: () => {
    const b = music();
    if (!b) return say("There is no music in the story. Lay some in the Story room first.", true);
    return send(`${base}/fit`, { sound: b.id, until: strip.marks.b, ...revision() }, (got) => {
      if (got.seams.length)
        told(
          "Music fitted by bars",
          [
            ["Seam at", "goes on from", "how alike"],
            ...got.seams.map((j) => [
              at(j.at),
              `${j.from.toFixed(1)} s to ${j.to.toFixed(1)} s`,
              `${Math.round(j.alike * 100)} %`,
            ]),
          ],
          got.notes, // that it begins later, or earlier, than it did
        );
    });
  },
  spread: () => {
    const b = music();
    if (!b) return say("There is no music in the story. Lay some in the Story room first.", true);
    return send(`${base}/spread`, { sound: b.id, ...revision() });
  },
  tone: () => send(`${base}/tone`, revision()),
  target: () => {
    say("Measuring the whole mix…");
    return send(`${base}/target`, { target: num(byId("target").value), ...revision() });
  },
  measure: async () => {
    say("Measuring the whole mix…");
    const r = await fetch(`${base}/measured`, { headers: { Accept: "application/json" } }),
      got = await r.json();
    if (!r.ok) return say(got.error, true);
    const n = (x) => (x === null ? "–" : x.toFixed(1));
    return say(`Measured: ${n(got.whole)} LUFS, range ${n(got.range)} LU, true peak ${n(got.peak)} dBTP.`);
  },
  alone: () => {
    if (!alone && !strip.chosen.size) return say("Choose what is to be heard alone first.", true);
    alone = !alone;
    listenAlone();
    return say(alone ? "Only what is chosen is heard. A: everything." : "Everything is heard.");
  },
  lanes: laneList(story, (command, params) => edit(command, params)),
  all: () => document.dispatchEvent(new Event("all-edits")),
  nearer: () => nearer(8),
  farther: () => nearer(-8),
  compare: () => comparing.press(),
  "clean-again": () => send(`${base}/recordings/${byId("panel-of").dataset.recording}/again`, {}),
  voice: () => take(),
};
function listenAlone() {
  $("[data-do=alone]").setAttribute("aria-pressed", String(alone));
  const only = alone ? said().replaceAll(" ", ",") : "";
  if (only === player.alone) return;
  player.alone = only;
  void player.reload();
}
byId("strip-heads").addEventListener("click", (e) => {
  const lane = inside(e, "[data-taller]");
  if (lane) strip.taller(lane.dataset.taller);
  const b = inside(e, "[data-switch]");
  if (!b) return;
  const on = b.getAttribute("aria-pressed") !== "true";
  edit(b.dataset.switch === "muted" ? "set_muted" : "set_solo", { lane: b.dataset.lane, [b.dataset.switch]: on });
});
room.addEventListener("click", (e) => {
  const b = inside(e, "[data-do]");
  if (b) acts[b.dataset.do]?.();
});
byId("duck-form").addEventListener("submit", async () => {
  const frames = async (name) => {
    const got = await readTime(byId(`duck-${name}`).value, "length");
    if (got.error) throw new Error(got.error);
    return got.frame;
  };
  try {
    const depth = -Math.abs(Number(byId("duck-depth").value.replace(",", ".")));
    if (!depth) throw new Error("Type by how many dB the music goes down, for instance 12.");
    const items = [...strip.chosen].filter((i) => block(i)?.kind !== "piece"),
      [down, hold, back] = await Promise.all([frames("down"), frames("hold"), frames("back")]);
    await send(`${base}/duck`, { items, depth, down, hold, back, ...revision() });
  } catch (error) {
    say(/** @type {Error} */ (error).message, true);
  }
});

// ---- the panel
const scope = settingsPanel(panel, {
  chosenNow: () => strip.chosen,
  player,
  project,
  chosen,
  edit,
  send,
  first,
  listenAlone,
});
// While a clean-up is made the panel says how far it is; once it is there, it is what is heard.
setInterval(async () => {
  if (!byId("cleaning") || document.hidden || focused()?.closest("#panel input")) return;
  await chosen();
  if (!byId("cleaning")) await player.reload();
}, 1500);
const comparing = new BeforeAfter({
  project,
  player,
  stretch: (long) => {
    const b = first();
    if (!b?.heard) return null;
    const value = (n) => $(`#recording-${n}`, panel),
      wanted = { low_cut: 0, hum: "leave", noise: 0, clicks: false, even: false };
    for (const n of Object.keys(wanted)) {
      const el = value(n);
      if (el)
        wanted[n] = el.type === "checkbox" ? el.checked : typeof wanted[n] === "number" ? num(el.value) : el.value;
    }
    const inside_ = b.at <= player.frame && player.frame < b.at + b.length ? player.frame - b.at : 0,
      a = momentOf(b, b.at + inside_) / strip.fps;
    const end = momentOf(b, b.at + b.length) / strip.fps,
      { a: m, b: n } = strip.marks;
    if (m !== null && n !== null && m >= b.at && n <= b.at + b.length)
      return {
        recording: b.source,
        a: momentOf(b, m) / strip.fps,
        b: momentOf(b, n) / strip.fps,
        wanted,
      };
    return { recording: b.source, a, b: Math.min(end, a + long), wanted };
  },
});

// ---- the strip
function nearer(by, frame = player.frame) {
  zoom.value = String(Math.max(0, Math.min(100, num(zoom.value) + by)));
  strip.zoom(num(zoom.value), frame);
}
zoom.addEventListener("input", () => strip.zoom(num(zoom.value)));
const seek = (f) => {
  player.stop();
  player.seek(Math.max(0, Math.min(strip.data.length, Math.round(f))));
};
const tell = (text) => (byId("chosen-said").textContent = text);
dipping(strip, { edit, tell });
dragging(strip, { choose, edit, seek, nearer, tell });
player.addEventListener("time", () => {
  strip.frame = player.frame;
  const x = strip.x(player.frame),
    w = strip.scroll.clientWidth;
  if (player.playing && (x < 0 || x > w - 20)) strip.scroll.scrollLeft += x - w / 8;
  strip.follow();
});
const tick = () => {
  requestAnimationFrame(tick);
  if (player.playing || comparing.on) {
    meter.listen(player.sound);
    meter.show(true);
  } else if (meter.taps && byId("meter-now").textContent !== "not playing") meter.show(false);
};
tick();
const take = voiceTake({ project, player, done });

// ---- keys
const here = (test) =>
  strip.data.blocks.filter((b) => test(b) && b.at <= player.frame && player.frame < b.at + b.length);
function next(test) {
  const rows = here(test);
  if (!rows.length) return say("Nothing of that lies at the playhead.", true);
  const i = rows.findIndex((b) => strip.chosen.has(b.id));
  return choose(rows[(i + 1) % rows.length].id);
}
function along(by) {
  const b = first(),
    lane = b ? b.lane : "dialogue",
    rows = strip.data.blocks.filter((x) => x.lane === lane),
    i = b ? rows.findIndex((x) => x.id === b.id) : by > 0 ? -1 : rows.length;
  const to = rows[i + by];
  if (!to) return say(`There is nothing ${by > 0 ? "after" : "before"} it in its lane.`);
  seek(to.at);
  return choose(to.id);
}
const seams = () => [0, ...strip.data.seams, strip.data.length];
function mark(which, clear) {
  strip.marks[which] = clear ? null : player.frame;
  const { a, b } = strip.marks;
  if (a !== null && b !== null && b <= a) strip.marks[which === "a" ? "b" : "a"] = null;
  strip.draw();
}
/** @type {Record<string, (e: KeyboardEvent) => any>} */
const KEYS = {
  arrowup: () => seek(seams().findLast((j) => j < player.frame) ?? 0),
  arrowdown: () => seek(seams().find((j) => j > player.frame) ?? player.frame),
  ".": () => nearer(8),
  ",": () => nearer(-8),
  0: () => nearer(-100),
  g: () => next((b) => b.kind === "piece"),
  v: () => next((b) => b.kind === "cover"),
  e: () => next((b) => b.kind === "sound"),
  t: (e) => along(e.shiftKey ? -1 : 1),
  a: acts.alone,
  c: acts.compare,
  h: acts.voice,
  i: (e) => mark("a", e.shiftKey),
  o: (e) => mark("b", e.shiftKey),
  q: acts.all,
  z: (e) => (e.shiftKey ? acts.redo : acts.undo)(),
  escape: () => (comparing.on ? comparing.press(true) : choose(null)),
};
document.addEventListener(
  "keydown",
  (e) => {
    if (e.key === " " && comparing.on && !typing(e)) {
      e.preventDefault();
      e.stopPropagation();
      comparing.press(true);
    }
  },
  true,
);
document.addEventListener("keydown", (e) => {
  if (typing(e) || $("dialog[open]")) {
    if (e.key === "Escape" && typing(e)) target(e).blur();
    return;
  }
  const k = e.key.toLowerCase(),
    edge = { BracketLeft: "in", BracketRight: "out" }[e.code];
  if (e.ctrlKey || e.metaKey) {
    if (k !== "z") return;
    KEYS.z(e);
  } else if (edge && first()?.kind === "sound")
    edit("trim_sound", { sound: first().id, edge, delta: (e.altKey ? -1 : 1) * (e.shiftKey ? 5 : 1) });
  else if (!e.altKey && KEYS[k]) KEYS[k](e);
  else if (edits.ofKey(chord(e)).length) edits.press(chord(e));
  else return;
  e.preventDefault();
});

const lends = roomLends({
  base: story,
  player,
  choice,
  edit,
  wide,
  acts,
  own: [
    { label: "Even out the voices, each speaker", act: () => acts.even() },
    { label: "Even out the voices, each piece for itself", act: () => acts.even("piece") },
    { label: "Duck music under speech", act: acts.duck },
    { label: "Fit music by bars, to the end or the out mark", act: acts.fit },
    { label: "Bites along the music, on bars", act: acts.spread },
    { label: "Room tone under spaces", act: acts.tone },
    { label: "Bring the whole to its loudness", act: acts.target },
    { label: "Measure the whole mix", act: acts.measure },
    { label: "Hear what is chosen alone", key: "A", act: acts.alone },
    { label: "Before and after of the clean-up", key: "C", act: acts.compare },
    { label: "Voice-over", key: "H", act: acts.voice },
  ],
});
edits.story = lends;
allEdits(lends, edits);
if (location.hash.length > 1) player.seek(num(location.hash.slice(1)) || 0);
const offered = $(`[data-do="${new URLSearchParams(location.search).get("do") ?? ""}"]`);
if (offered) {
  offered.focus();
  say(`${offered.title || offered.textContent}: press Enter to do it.`);
}
strip.frame = player.frame;
whole();
chosen();
window.kovel = {
  ...window.kovel,
  strip,
  sound: { edit, choose, idle: () => queue.end, drawn: () => $$("#panel [data-set]").length },
};
