// A stretch of a recording, raw and cleaned by one key: it loops until it is ended, and goes over in the same place.
import { say } from "/static/js/base.js";
import { Recording } from "/static/js/media.js";
import { RATE } from "/static/js/sound.js";

const LONG = 8; // seconds around the playhead, where nothing is marked

export class BeforeAfter {
  /** @param {{project: string, player: import("/static/js/player.js").Player,
   *   stretch: (long: number) => {recording: number, a: number, b: number, wanted: Record<string, any>}|null}} room */
  constructor(room) {
    this.room = room;
    /** What is heard by turns. @type {any} */ this.on = null;
  }

  /** Begins, changes over, or (`end`) ends. */
  async press(end = false) {
    if (this.on) return end ? this.stop() : this.change();
    if (end) return undefined;
    const at = this.room.stretch(LONG);
    if (!at) return say("Choose a piece or a sound first: its recording is heard raw and cleaned.", true);
    const { recording, a, b, wanted } = at,
      rec = await Recording.of(recording),
      first = Math.round(a * RATE),
      last = Math.round(b * RATE);
    const r = await fetch(`${this.room.project}/sound/recordings/${recording}/hear`, {
      method: "POST",
      headers: { "Content-Type": "application/json", "X-Kovel": "1", Accept: "application/json" },
      body: JSON.stringify({ a: first, b: last, settings: wanted }),
    });
    if (!r.ok) return say((await r.json()).error, true);
    const ch = rec.facts.channels,
      cleaned = new Int16Array(await r.arrayBuffer()),
      raw = new Int16Array(cleaned.length);
    for (let s = Math.floor(first / RATE); s * RATE < last; s++) {
      const x = await rec.second(s),
        from = Math.max(0, first - s * RATE) * ch;
      raw.set(
        x.subarray(from, from + raw.length - Math.max(0, s * RATE - first) * ch),
        Math.max(0, s * RATE - first) * ch,
      );
    }
    const { sound } = this.room.player;
    await sound.open();
    const context = /** @type {AudioContext} */ (sound.context),
      out = /** @type {GainNode} */ (sound.out),
      begun = context.currentTime + 0.05;
    const loops = [raw, cleaned].map((x) => {
      const buffer = context.createBuffer(ch, x.length / ch, RATE);
      for (let c = 0; c < ch; c++)
        buffer.copyToChannel(
          Float32Array.from({ length: x.length / ch }, (_, i) => x[i * ch + c] / 32768),
          c,
        );
      const node = context.createBufferSource(),
        gain = context.createGain();
      node.buffer = buffer;
      node.loop = true;
      node.connect(gain).connect(out);
      node.start(begun);
      return { node, gain };
    });
    this.on = { loops, context, after: true };
    this.room.player.stop();
    this.show();
    return undefined;
  }

  show() {
    const { loops, context, after } = this.on;
    loops.forEach((/** @type {{gain: GainNode}} */ { gain }, /** @type {number} */ k) =>
      gain.gain.setTargetAtTime(k === Number(after) ? 1 : 0, context.currentTime, 0.008),
    );
    say(after ? "Cleaned. C: raw, Esc or Space ends it." : "Raw, as recorded. C: cleaned, Esc or Space ends it.");
  }

  change() {
    this.on.after = !this.on.after;
    this.show();
  }

  stop() {
    for (const { node } of this.on.loops) node.stop();
    this.on = null;
    say("");
  }
}
