// The Picture room: turns keys, clicks and drags into requests. The server holds the story and makes strip and panels.
import { $, $$, byId, inside, num, target } from "/static/js/dom.js";
import { redraw, say } from "/static/js/base.js";
import { transport, typing } from "/static/js/transport.js";
import { Edits } from "/static/js/edits.js";
import { allEdits } from "/static/js/alledits.js";
import { laneList } from "/static/js/lanelist.js";
import { roomChoice, roomEdits, roomLends } from "/static/js/roomedits.js";
import { settingsPanel } from "/static/js/settingspanel.js";
import { frameDrag } from "./framedrag.js";
import { paceLine } from "./paceline.js";

const room = byId("pictureroom"),
  project = `/p/${room.dataset.project}`,
  base = `${project}/picture`,
  story = `${project}/story`,
  place = byId("film"),
  panel = byId("panel"),
  zoom = byId("zoom");

const edits = new Edits({ base: story }),
  known = edits.load(),
  player = await transport($("[data-player]"), `${story}/plan`);
await known;

// ---- the strip
/** @type {Set<number>} */ const chosen = new Set();
const film = () => byId("film-in"),
  shots = () => $$(".film-shot", place),
  shot = (id) => $(`.film-shot[data-id="${id}"]`, place),
  about = (el) => ({
    id: num(el.dataset.id),
    kind: el.dataset.kind === "piece" ? "piece" : "cover", // a title is laid like one
    at: num(el.dataset.at),
    length: num(el.dataset.length),
    lane: el.closest(".film-row").dataset.lane,
  });
const px = () => num(film()?.dataset.px) || 1;
function scale() {
  const length = Math.max(1, player.plan.length),
    least = Math.min(8, (place.clientWidth - 4) / length);
  return least * (8 / least) ** (num(zoom.value) / 100);
}
async function drawFilm() {
  const r = await fetch(`${base}/film?px=${scale().toFixed(5)}`);
  if (!r.ok) return;
  const html = await r.text(),
    mid = (place.scrollLeft + place.clientWidth / 2) / px();
  const near = film() ? mid : player.frame;
  place.innerHTML = html;
  place.scrollLeft = near * px() - place.clientWidth / 2;
  for (const id of [...chosen]) if (!shot(id)) chosen.delete(id);
  mark();
  head();
  for (const what of ["undo", "redo"]) $(`[data-do=${what}]`).disabled = film().dataset[what] !== "1";
}
function mark() {
  for (const el of shots()) el.setAttribute("aria-pressed", String(chosen.has(num(el.dataset.id))));
  const one = shot([...chosen][0]);
  byId("chosen-said").textContent =
    chosen.size === 1 && one ? one.dataset.tells : chosen.size ? `${chosen.size} things chosen` : "";
}
function head() {
  const el = byId("film-head");
  if (!el) return;
  const x = player.frame * px();
  el.style.left = `${x}px`;
  if (player.playing && (x < place.scrollLeft || x > place.scrollLeft + place.clientWidth - 20))
    place.scrollLeft = x - place.clientWidth / 8;
}

// ---- what is chosen
let asked = 0;
function choose(id, more = false) {
  if (id === null) chosen.clear();
  else if (more && chosen.has(id)) chosen.delete(id);
  else {
    if (!more) chosen.clear();
    chosen.add(id);
  }
  mark();
  void showPanel();
}
async function showPanel() {
  const mine = ++asked;
  const what = new URLSearchParams({ items: [...chosen].join(","), scope: scope() });
  const r = await fetch(`${base}/panel?${what}`),
    html = await r.text();
  if (!r.ok || mine !== asked) return;
  redraw(panel, () => {
    panel.innerHTML = html;
  });
  pace.drawn();
  void showLevels();
}
let levelled = 0;
async function showLevels() {
  const el = byId("levels"),
    one = [...chosen][0];
  if (!el || player.playing) return;
  const mine = ++levelled,
    r = await fetch(`${base}/levels?at=${player.frame}&item=${one}`);
  const html = await r.text();
  if (r.ok && mine === levelled && byId("levels")) byId("levels").innerHTML = html;
}
let later = 0;
player.addEventListener("time", () => {
  head();
  if (player.playing) return;
  clearTimeout(later);
  later = setTimeout(showLevels, 150);
});
const one = () => (chosen.size === 1 && shot([...chosen][0]) ? about(shot([...chosen][0])) : null);
const first = () => (chosen.size && shot([...chosen][0]) ? about(shot([...chosen][0])) : null);
const said = () => [...chosen].join(" ");

// ---- edits
async function anew() {
  await player.reload();
  await drawFilm();
  await showPanel();
}
async function done(got, chosenThen) {
  if (got.did) say([`${got.did}.`, ...(got.notes || [])].join(" "));
  if (film() && got.revision !== undefined) film().dataset.revision = got.revision;
  await anew();
  const made = (got.made || []).length === 1 ? got.made[0] : null;
  if (made && shot(made) && !chosen.has(made) && said() === chosenThen) choose(made);
}
const { queue, send, edit, wide, step } = roomEdits({
  story,
  said,
  anew,
  done,
  stands: () => ({ revision: num(film().dataset.revision), story: num(film().dataset.story) }),
  refused: () => void anew(), // what was typed or dragged is not what stands
});
const scope = settingsPanel(panel, {
  chosenNow: () => chosen,
  player,
  project,
  chosen: showPanel,
  edit,
  send,
  first,
  listenAlone: () => {},
});
const choice = roomChoice({ first, choose, player, chosen: () => chosen, marks: { a: null, b: null } });
const tell = (text) => (byId("chosen-said").textContent = text);
const pace = paceLine(panel, { edit, tell, player, say });
const frame = frameDrag(player, { one, edit, tell });

// ---- what the room does
/** Sets several settings at the scope that is picked, in one step. */
async function setRows(settings, did) {
  const where = scope();
  if (where === "recording") {
    for (const [setting, value] of Object.entries(settings))
      await send(`${project}/recordings/${byId("panel-of").dataset.recording}/settings`, { setting, value });
    return;
  }
  const to = where === "items" ? [...chosen] : [where];
  const rows = to.flatMap((x) => Object.entries(settings).map(([n, v]) => [x, n, v]));
  await edit("set_several", { rows, did });
}
const need = () => chosen.size || say("Choose a piece or a cover first (G, V).", true) || false;
let copiedFrom = null;
const toggle = (name, on) => $(`[data-do=${name}]`).setAttribute("aria-pressed", String(on));
const acts = {
  undo: () => step("undo"),
  redo: () => step("redo"),
  push: () => need() && edit("push", { items: [...chosen], last: 112 }),
  steps: () => need() && edit("stepped_zoom", { items: [...chosen], values: "150 140 125" }),
  poses: () => send(`${base}/poses`, { revision: null, ask: true }),
  punch: () => send(`${base}/punch`, { zoom: 125, revision: null, ask: true }),
  faces: () => need() && send(`${base}/faces`, { items: [...chosen], revision: null }),
  split: () => need() && edit("split_screen", { items: [...chosen] }),
  before: () => {
    player.plainly = !player.plainly;
    player.shown = null;
    toggle("before", player.plainly);
    say(player.plainly ? "As it was filmed, without looks. C: as it is." : "With its look.");
  },
  halves: () => {
    player.halves = !player.halves;
    player.shown = null;
    toggle("halves", player.halves);
  },
  edges: () => {
    const el = byId("over");
    el.hidden = !el.hidden;
    toggle("edges", !el.hidden);
    safe();
  },
  match: () => {
    const id = byId("panel-of")?.dataset.recording;
    if (!need() || !id) return;
    const names = new Map(shots().map((s) => [num(s.dataset.id), s.dataset.tells.split(":")[0]]));
    byId("match-mine").textContent = names.get([...chosen][0]) || "it";
    byId("match-dialog").showModal();
  },
  white: () => {
    const on = player.canvas.dataset.pick !== "1";
    if (on && !need()) return;
    if (on) player.canvas.dataset.pick = "1";
    else delete player.canvas.dataset.pick;
    toggle("white", on);
    say(on ? "Click something in the picture that was grey or white in truth. Esc: never mind." : "Nothing picked.");
  },
  upright: () => byId("upright-dialog").showModal(),
  "table-out": async () => {
    const url = `${base}/look.cube?at=${player.frame}&item=${first().id}`,
      r = await fetch(url, { headers: { Accept: "application/json" } });
    if (!r.ok) return say((await r.json()).error, true);
    return location.assign(url);
  },
  "save-look": () => need() && byId("save-dialog").showModal(),
  "drop-look": () => {
    const name = byId("saved").value;
    if (!name) return say("Pick a saved look in the list first.", true);
    return send(`${base}/looks/away`, { name });
  },
  ramp: pace.ramp,
  unramp: pace.unramp,
  land: pace.land,
  "title-style": () => edit("title_style", { title: [...chosen][0] }),
  title: () => byId("title-dialog").showModal(),
  lanes: laneList(story, (command, params) => edit(command, params)),
  all: () => document.dispatchEvent(new Event("all-edits")),
  nearer: () => nearer(8),
  farther: () => nearer(-8),
};
room.addEventListener("click", (e) => {
  const b = inside(e, "[data-do]");
  if (b) acts[b.dataset.do]?.();
});
function nearer(by) {
  zoom.value = String(Math.max(0, Math.min(100, num(zoom.value) + by)));
  void drawFilm();
}
zoom.addEventListener("change", () => void drawFilm());
function safe() {
  const c = player.canvas,
    r = c.getBoundingClientRect(),
    o = byId("big").getBoundingClientRect(),
    k = Math.min(r.width / c.width, r.height / c.height),
    el = byId("over");
  el.style.left = `${r.left - o.left + (r.width - c.width * k) / 2}px`;
  el.style.top = `${r.top - o.top + (r.height - c.height * k) / 2}px`;
  el.style.width = `${c.width * k}px`;
  el.style.height = `${c.height * k}px`;
}
addEventListener("resize", () => {
  safe();
  void drawFilm();
});

// A grey that is picked: the mean of a few pixels of the picture as filmed.
player.canvas.addEventListener("click", async (e) => {
  const c = player.canvas;
  if (c.dataset.pick !== "1") return;
  const r = c.getBoundingClientRect(),
    k = Math.min(r.width / c.width, r.height / c.height);
  const x = (e.clientX - r.left - (r.width - c.width * k) / 2) / k,
    y = (e.clientY - r.top - (r.height - c.height * k) / 2) / k;
  const was = player.plainly;
  player.plainly = true;
  player.shown = null;
  player.draw(player.frame);
  const d = c.getContext("2d").getImageData(Math.max(0, x - 3), Math.max(0, y - 3), 7, 7).data;
  player.plainly = was;
  player.shown = null;
  acts.white();
  const rgb = [0, 1, 2].map((i) => {
    let sum = 0;
    for (let p = i; p < d.length; p += 4) sum += d[p];
    return Math.min(1, sum / (d.length / 4) / 255);
  });
  const answer = await fetch(`${base}/white`, {
    method: "POST",
    headers: { "Content-Type": "application/json", "X-Kovel": "1", Accept: "application/json" },
    body: JSON.stringify({ rgb }),
  });
  const got = await answer.json();
  if (!answer.ok) return void say(got.error, true);
  return void setRows(got, `White set by what was picked: warmth ${got.warmth} %, tint ${got.tint} %`);
});

// ---- dialogs and the panel's own controls
byId("match-dialog").addEventListener("toggle", async () => {
  if (!byId("match-dialog").open) return;
  const r = await fetch(`${base}/others?recording=${byId("panel-of").dataset.recording}`);
  const list = byId("match-other");
  list.replaceChildren(...(await r.json()).map(([id, name]) => new Option(name, id)));
});
byId("match-form").addEventListener("submit", () => {
  const other = num(byId("match-other").value);
  if (other) void send(`${base}/match`, { recording: num(byId("panel-of").dataset.recording), other });
});
byId("upright-form").addEventListener("submit", () => {
  say("Framing every piece…");
  void send(`${base}/shape`, { shape: byId("upright-shape").value }, () => location.reload());
});
// A lower third names who speaks at the playhead, until something else is typed.
byId("title-how").addEventListener("change", async () => {
  const text = byId("title-text");
  if (byId("title-how").value !== "lower third" || text.value.trim()) return;
  const r = await fetch(`${base}/speaker?at=${player.frame}`),
    { name } = await r.json();
  if (r.ok && name && !text.value.trim()) {
    text.value = `${name}\n`;
    text.focus();
  }
});
byId("title-form").addEventListener("submit", () => {
  const text = byId("title-text").value.trim();
  if (text) void edit("lay_title", { at: player.frame, text, how: byId("title-how").value });
  byId("title-text").value = "";
});
byId("save-form").addEventListener("submit", () => {
  const b = first();
  if (b) void send(`${base}/looks`, { name: byId("save-name").value, item: b.id });
});
panel.addEventListener("change", async (e) => {
  const el = target(e);
  if (el.id === "table-in" && el.files.length) {
    const form = new FormData();
    form.append("table", el.files[0]);
    await send(`${base}/tables`, form, (got) => void setRows({ table: got.name }, `Table ${got.name}`));
    el.value = "";
  } else if (el.id === "font-in" && el.files.length) {
    const form = new FormData();
    form.append("font", el.files[0]);
    await send(`${base}/fonts`, form, (got) => void setRows({ font: got.name }, `Font ${got.name}`));
    el.value = "";
  } else if (el.id === "saved" && el.value) {
    const r = await fetch(`${base}/looks/rows`, {
      method: "POST",
      headers: { "Content-Type": "application/json", "X-Kovel": "1", Accept: "application/json" },
      body: JSON.stringify({ name: el.value }),
    });
    const got = await r.json();
    if (!r.ok) say(got.error, true);
    else await setRows(got.settings, `Look: ${el.value}`);
  }
});

// ---- choosing
place.addEventListener("click", (e) => {
  const el = inside(e, ".film-shot");
  const r = film().getBoundingClientRect();
  player.stop();
  if (!el) return void player.seek((e.clientX - r.left) / px());
  const b = about(el),
    at = e.detail ? (e.clientX - r.left) / px() : b.at;
  if (!e.shiftKey) player.seek(Math.max(b.at, Math.min(b.at + b.length - 1, at)));
  return choose(b.id, e.shiftKey);
});
function next(kind) {
  const rows = shots()
    .map(about)
    .filter((b) => b.kind === kind && b.at <= player.frame && player.frame < b.at + b.length);
  if (!rows.length) return say(`There is no ${kind} at the playhead.`, true);
  const i = rows.findIndex((b) => chosen.has(b.id));
  return choose(rows[(i + 1) % rows.length].id);
}
function along(by) {
  const b = first(),
    lane = b ? b.lane : "dialogue",
    rows = $$(`.film-row[data-lane="${lane}"] .film-shot`, place).map(about),
    i = b ? rows.findIndex((x) => x.id === b.id) : by > 0 ? -1 : rows.length;
  const to = rows[i + by];
  if (!to) return say(`There is nothing ${by > 0 ? "after" : "before"} it in its lane.`);
  player.stop();
  player.seek(to.at);
  choose(to.id);
  return shot(to.id)?.scrollIntoView({ block: "nearest", inline: "nearest" });
}
async function alike() {
  const b = first();
  if (!b) return say("Choose a piece or a cover first (G, V).", true);
  const r = await fetch(`${base}/alike?item=${b.id}`);
  for (const id of await r.json()) chosen.add(id);
  mark();
  return showPanel();
}
async function paste() {
  if (copiedFrom === null) return say("Nothing was copied yet: choose something and press Ctrl C.", true);
  if (!need()) return undefined;
  const to = [...chosen].filter((id) => id !== copiedFrom);
  if (!to.length) return say("Choose what is to get it, then press Ctrl V.", true);
  const r = await fetch(`${base}/own?item=${copiedFrom}`);
  const names = await r.json();
  if (!names.length) return say("Nothing is set on what was copied itself.", true);
  return edit("copy_values", { source: copiedFrom, to, settings: names });
}

// ---- keys
const seams = () => [0, ...player.plan.seams.map((s) => s[0]), player.plan.length];
const seek = (f) => {
  player.stop();
  player.seek(f);
};
/** @type {Record<string, (e: KeyboardEvent) => any>} */
const KEYS = {
  arrowup: () => seek(seams().findLast((j) => j < player.frame) ?? 0),
  arrowdown: () => seek(seams().find((j) => j > player.frame) ?? player.frame),
  ".": () => nearer(8),
  ",": () => nearer(-8),
  0: () => nearer(-100),
  g: () => next("piece"),
  v: () => next("cover"),
  t: (e) => along(e.shiftKey ? -1 : 1),
  a: alike,
  "+": () => frame.zoom(1),
  "=": () => frame.zoom(1),
  "*": () => frame.zoom(10),
  "-": () => frame.zoom(-1),
  _: () => frame.zoom(-10),
  p: () => frame.push(),
  c: acts.before,
  h: acts.halves,
  w: acts.white,
  e: acts.edges,
  n: acts.title,
  s: acts.faces,
  q: acts.all,
  z: (e) => (e.shiftKey ? acts.redo : acts.undo)(),
  escape: () => (player.canvas.dataset.pick ? acts.white() : choose(null)),
};
const NUDGES = { arrowleft: [-1, 0], arrowright: [1, 0], arrowup: [0, -1], arrowdown: [0, 1] };
document.addEventListener("keydown", (e) => {
  if (typing(e) || $("dialog[open]")) {
    if (e.key === "Escape" && typing(e)) target(e).blur();
    return;
  }
  const k = e.key.toLowerCase();
  if (e.ctrlKey || e.metaKey) {
    if (k === "z") KEYS.z(e);
    else if (k === "c" && chosen.size) {
      copiedFrom = [...chosen][0];
      say("Copied: Ctrl V gives its framing and look to what is chosen then.");
    } else if (k === "v") void paste();
    else return;
  } else if (e.altKey && NUDGES[k]) {
    const by = (e.shiftKey ? 10 : 1) / 100;
    frame.nudge(NUDGES[k][0] * by, NUDGES[k][1] * by);
  } else if (!e.altKey && KEYS[k]) KEYS[k](e);
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
    { label: "Match this recording's colours to another one", act: acts.match },
    { label: "White by something grey that is picked", key: "W", act: acts.white },
    { label: "A version in another shape", act: acts.upright },
    { label: "As filmed, without looks", key: "C", act: acts.before },
    { label: "Before and after side by side", key: "H", act: acts.halves },
    { label: "Sit it on the speaker’s face", key: "S", act: acts.faces },
    { label: "Title, lower third, credits…", key: "N", act: acts.title },
    { label: "Safe areas", key: "E", act: acts.edges },
    { label: "Save this look under a name", act: acts["save-look"] },
    { label: "Save the look as a .cube table", act: acts["table-out"] },
    { label: "Choose all of the same recording", key: "A", act: alike },
  ],
});
edits.story = lends;
allEdits(lends, edits);
if (location.hash.length > 1) player.seek(num(location.hash.slice(1)) || 0);
await drawFilm();
place.scrollLeft = 0;
await showPanel();
const offered = $(`[data-do="${new URLSearchParams(location.search).get("do") || "-"}"]`);
if (offered) {
  offered.focus();
  say(`${offered.title || offered.textContent}: press Enter to do it.`);
}
window.kovel = { ...window.kovel, picture: { edit, choose, chosen, frame, idle: () => queue.end } };
