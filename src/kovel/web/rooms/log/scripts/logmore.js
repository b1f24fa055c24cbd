// In the Log: the frame that stands for the recording, and a walk through the words that the recogniser was unsure of.
import { $, byId, inside } from "/static/js/dom.js";
import { room } from "/static/js/room.js";
import { post, say } from "/static/js/base.js";
import { onKeys } from "/static/js/keys.js";

const log = byId("log");
const here = `/p/${log.dataset.project}/recordings/${log.dataset.recording}`;

async function unsure(back = false) {
  const q = new URLSearchParams({ frame: String(room.player.frame), back: String(back) });
  const got = await (await fetch(`${here}/unsure?${q}`, { headers: { Accept: "application/json" } })).json();
  if (got.frame === null || got.error) return say(got.error || got.said);
  room.player.seek(got.frame);
  say(got.said);
}

document.addEventListener("click", (e) => {
  if (inside(e, "[data-poster]")) post(`${here}/poster`, { values: { frame: room.player.frame }, swap: "none" });
  if (inside(e, "[data-unsure]")) unsure();
  if (inside(e, "[data-alike]")) {
    const q = new URLSearchParams({ recording: log.dataset.recording, frame: String(room.player.frame) });
    htmx.ajax("GET", `/p/${log.dataset.project}/search/like?${q}`, { target: "#found", swap: "innerHTML" });
  }
});
onKeys({ unsure: () => unsure(), unsure_before: () => unsure(true) });

// An address may say where to go, and to play from there.
export function goToAddress() {
  const m = location.hash.match(/^#(\d+)(-play)?$/);
  if (!m) return;
  room.player.stop();
  room.player.seek(Number(m[1]));
  $("#words .w.is-now")?.scrollIntoView({ block: "center" });
  if (m[2]) void room.player.play(1);
}
addEventListener("hashchange", goToAddress);
