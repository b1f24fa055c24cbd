// What is kept of what was fetched: so many bytes over all recordings; what was used longest ago goes first.

export class Kept {
  /** @param {number} room bytes */
  constructor(room) {
    this.room = room;
    this.taken = 0;
    /** @type {Map<string, {bytes: number, forget: () => void}>} */
    this.held = new Map();
  }

  /** It was used just now. @param {string} key */
  use(key) {
    const one = this.held.get(key);
    if (!one) return;
    this.held.delete(key);
    this.held.set(key, one);
  }

  /**
   * It is there, and takes so much.
   * @param {string} key @param {number} bytes @param {() => void} forget lets go of it
   */
  add(key, bytes, forget) {
    this.drop(key);
    this.held.set(key, { bytes, forget });
    this.taken += bytes;
    for (const [old, one] of this.held) {
      if (this.taken <= this.room || old === key) break;
      this.drop(old);
      one.forget();
    }
  }

  /** It is gone already. @param {string} key */
  drop(key) {
    this.taken -= this.held.get(key)?.bytes ?? 0;
    this.held.delete(key);
  }
}
