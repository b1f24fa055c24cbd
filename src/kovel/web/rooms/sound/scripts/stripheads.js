// The names of the strip's lanes beside it, with what mutes a lane or lets it alone be heard.
import { FRAMES, RULER } from "./stripfilm.js";

/** @type {Record<string, string>} */ const NAMES = {
  dialogue: "Dialogue",
  natural: "Natural",
  effect: "Effects",
  voice: "Voice",
  music: "Music",
};

/** @param {import("./strip.js").Strip} strip @param {number} top of the loudness @param {number} tall */
export function nameLanes(strip, top, tall) {
  const lines = [
    ["", RULER, FRAMES, "Frames"],
    ...strip.data.lanes.map((/** @type {{ name: string }} */ l) => [
      l.name,
      strip.tall[l.name].y,
      strip.tall[l.name].size,
      NAMES[l.name],
      l,
    ]),
    ["", top, tall, "Loudness"],
  ];
  strip.heads.replaceChildren(
    ...lines.map(([lane, y, size, text, l]) => {
      const el = document.createElement("div"),
        label = document.createElement(l && strip.tall[lane].open ? "button" : "span");
      el.className = `strip-head${l && !l.heard ? " is-off" : ""}`;
      el.style.top = `${y}px`;
      el.style.height = `${size}px`;
      label.textContent = text;
      if (label instanceof HTMLButtonElement) {
        label.dataset.taller = lane;
        label.title = `${text}: taller, taller still, as the others`;
      }
      el.append(label);
      if (l && strip.tall[lane].open)
        for (const [what, on, says] of [
          ["muted", l.muted, "mute"],
          ["solo", l.solo, "solo"],
        ]) {
          const b = document.createElement("button");
          b.className = "btn btn-plain strip-switch";
          b.dataset.lane = lane;
          b.dataset.switch = what;
          b.setAttribute("aria-pressed", String(on));
          b.setAttribute("aria-label", `${says} ${text}`);
          b.textContent = says;
          el.append(b);
        }
      return el;
    }),
  );
}
