// A voice-over: counted in, spoken while the story plays, sent as a WAV file with how late the microphone was.
import { byId } from "/static/js/dom.js";
import { say } from "/static/js/base.js";
import { RATE } from "/static/js/sound.js";

const COUNT = 3;

/** @param {any} room project, player, done @returns {() => Promise<void>} starts a take, or ends the one under way */
export function voiceTake(room) {
  const dialog = byId("voice-dialog"),
    said = byId("voice-said");
  /** The one under way; `late` in samples. @type {{stream: MediaStream, context: AudioContext, blocks: Float32Array[],
   *   late: number, at: number, kept: boolean, going?: boolean}|null} */
  let take = null;

  async function begin() {
    const { player } = room;
    if (!navigator.mediaDevices?.getUserMedia)
      return say(
        "This browser or address gives no microphone to the page. Open Kovel at 127.0.0.1 in a current browser.",
        true,
      );
    let stream;
    try {
      stream = await navigator.mediaDevices.getUserMedia({
        audio: { channelCount: 1, echoCancellation: false, noiseSuppression: false, autoGainControl: false },
      });
    } catch {
      return say("The microphone could not be opened. Allow it for this page, or plug one in, then try again.", true);
    }
    const context = new AudioContext({ sampleRate: RATE });
    await context.audioWorklet.addModule("/static/sound/microphone.js");
    const node = new AudioWorkletNode(context, "microphone", { numberOfOutputs: 0 });
    take = { stream, context, blocks: [], late: 0, at: player.frame, kept: false };
    const mine = take;
    node.port.onmessage = (e) => {
      if (mine.going) mine.blocks.push(e.data);
    };
    context.createMediaStreamSource(stream).connect(node);
    dialog.showModal();
    for (let n = COUNT; n > 0 && take === mine; n--) {
      said.textContent = `Speak in ${n}…`;
      await new Promise((r) => setTimeout(r, 1000));
    }
    if (take !== mine) return undefined;
    said.textContent = "Recording. The story plays; speak now.";
    // headphones keep the story out of the microphone; what the way in and out takes is left out at the beginning
    await player.play(1);
    mine.going = true;
    mine.late = Math.round(((context.baseLatency || 0) + (player.sound.context?.outputLatency || 0)) * RATE);
    return undefined;
  }

  /** @param {boolean} keep */
  async function end(keep) {
    const t = take;
    if (!t) return;
    take = null;
    room.player.stop();
    t.going = false;
    for (const track of t.stream.getTracks()) track.stop();
    await t.context.close();
    dialog.close();
    if (!keep || !t.blocks.length) return;
    const form = new FormData();
    form.set("at", String(t.at));
    form.set("late", String(t.late));
    form.set("sound", new Blob([wav(t.blocks)], { type: "audio/wav" }), "voice.wav");
    const r = await fetch(`${room.project}/sound/voice`, {
      method: "POST",
      headers: { "X-Kovel": "1", Accept: "application/json" },
      body: form,
    });
    const body = await r.json();
    if (!r.ok) say(body.error, true);
    else await room.done(body);
  }

  byId("voice-stop").addEventListener("click", () => end(true));
  byId("voice-drop").addEventListener("click", () => end(false));
  dialog.addEventListener("cancel", (/** @type {Event} */ e) => {
    e.preventDefault();
    end(false);
  });
  dialog.addEventListener("keydown", (/** @type {KeyboardEvent} */ e) => {
    if (e.key !== " " && e.key.toLowerCase() !== "h") return;
    e.preventDefault();
    e.stopPropagation();
    end(true);
  });
  return async () => (take ? end(true) : begin());
}

/** 16-bit mono samples as a WAV file. @param {Float32Array[]} blocks */
function wav(blocks) {
  const n = blocks.reduce((m, b) => m + b.length, 0),
    view = new DataView(new ArrayBuffer(44 + 2 * n)),
    text = (/** @type {number} */ at, /** @type {string} */ s) =>
      [...s].forEach((c, i) => view.setUint8(at + i, c.charCodeAt(0)));
  text(0, "RIFF");
  view.setUint32(4, 36 + 2 * n, true);
  text(8, "WAVEfmt ");
  view.setUint32(16, 16, true);
  view.setUint16(20, 1, true);
  view.setUint16(22, 1, true);
  view.setUint32(24, RATE, true);
  view.setUint32(28, 2 * RATE, true);
  view.setUint16(32, 2, true);
  view.setUint16(34, 16, true);
  text(36, "data");
  view.setUint32(40, 2 * n, true);
  let at = 44;
  for (const b of blocks)
    for (const x of b) {
      view.setInt16(at, Math.max(-32768, Math.min(32767, Math.round(x * 32768))), true);
      at += 2;
    }
  return view.buffer;
}
