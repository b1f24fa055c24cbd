// What the room does with the whole mix: even voices, ducking, music fitted, room tone, its loudness.
import { byId, num } from "/static/js/dom.js";
import { say } from "/static/js/base.js";
import { readTime } from "/static/js/times.js";

/** @param {{base: string, strip: import("./strip.js").Strip, first: () => any, block: (id: number) => any,
 *   send: (url: string, values: object, then?: (got: any) => void) => any}} room */
export function ofTheMix({ base, strip, first, block, send }) {
  /** @param {string} title @param {any[]} rows @param {string[]} notes */
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
  const at = (/** @type {number} */ f) =>
    `${Math.floor(f / strip.fps / 60)}:${((Math.floor((f / strip.fps) * 10) / 10) % 60).toFixed(1).padStart(4, "0")}`;
  const revision = () => ({ revision: /** @type {number|null} */ (null) }); // the one that stands when it is sent
  const music = () => {
    const b = first();
    return b?.kind === "sound"
      ? b
      : strip.data.blocks.find((/** @type {{ lane: string; }} */ x) => x.lane === "music");
  };
  byId("duck-form").addEventListener("submit", async () => {
    const frames = async (/** @type {string} */ name) => {
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
  return {
    even: (apart = "speaker") =>
      send(`${base}/even`, { apart, ...revision() }, (got) =>
        told(got.did.split(":")[0], [
          ["Voice", "its speech was at", "changed by"],
          ...got.voices.map((/** @type {{ name: any; loudness: any; set: number; }} */ v) => [
            v.name,
            `${v.loudness} LUFS`,
            `${v.set > 0 ? "+" : ""}${v.set} dB`,
          ]),
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
              ...got.seams.map((/** @type {{ at: any; from: number; to: number; alike: number; }} */ j) => [
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
      const n = (/** @type {number} */ x) => (x === null ? "–" : x.toFixed(1));
      return say(`Measured: ${n(got.whole)} LUFS, range ${n(got.range)} LU, true peak ${n(got.peak)} dBTP.`);
    },
  };
}
