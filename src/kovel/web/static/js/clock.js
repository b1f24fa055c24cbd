// The clock that a film plays by: the sound's where there is sound, else the machine's.

export class Clock {
  /** When playing began, by the clock it plays by. */ zero = 0;
  /** How far the sound's clock is from the machine's, once both are known. @type {number|null} */ offset = null;
  latest = -Infinity;

  /** @param {number} zero seconds of the clock it plays by */
  begin(zero) {
    this.zero = zero;
    this.offset = null;
    this.latest = -Infinity;
  }

  /**
   * Seconds since it began; never runs back.
   * @param {AudioContext|null} context whose time counts, null for the machine's
   */
  seconds(context) {
    const p = performance.now() / 1000;
    if (!context) return p - this.zero;
    const a = context.currentTime - (context.outputLatency || 0);
    // currentTime moves in steps; it is followed smoothly
    if (this.offset === null || Math.abs(a - p - this.offset) > 0.06) this.offset = a - p;
    else this.offset += (a - p - this.offset) * 0.02;
    this.latest = Math.max(p + this.offset, this.latest);
    return this.latest - this.zero;
  }
}
