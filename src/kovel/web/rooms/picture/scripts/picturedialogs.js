// The Picture room's dialogs, what is picked in the picture, and the panel's files: tables, fonts, saved looks.
import { byId, num, target, brush } from "/static/js/dom.js";
import { say } from "/static/js/base.js";

/** @param {{base: string, panel: HTMLElement, player: import("/static/js/player.js").Player,
 *   acts: Record<string, any>, first: () => any, edit: (command: string, params: object) => any,
 *   send: (url: string, values: object, then?: (got: any) => void) => any,
 *   setRows: (settings: object, did: string) => any}} room */
export function dialogs({ base, panel, player, acts, first, edit, send, setRows }) {
  acts["table-out"] = async () => {
    const url = `${base}/look.cube?at=${player.frame}&item=${first()?.id}`,
      r = await fetch(url, { headers: { Accept: "application/json" } });
    if (!r.ok) return say((await r.json()).error, true);
    return location.assign(url);
  };
  // A grey that is picked: the mean of a few pixels of the picture as filmed.
  player.canvas.addEventListener("click", async (/** @type {MouseEvent} */ e) => {
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
    const d = brush(c).getImageData(Math.max(0, x - 3), Math.max(0, y - 3), 7, 7).data;
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
  byId("match-dialog").addEventListener("toggle", async () => {
    if (!byId("match-dialog").open) return;
    const r = await fetch(`${base}/others?recording=${byId("panel-of").dataset.recording}`);
    const list = byId("match-other");
    list.replaceChildren(
      ...(await r.json()).map((/** @type {[string, string]} */ [id, name]) => new Option(name, id)),
    );
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
}
