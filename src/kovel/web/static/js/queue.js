// What a page sends goes one after the other: none overtakes, replaces or drops the one before.

export class Queue {
  /** How many have not begun yet. */ waiting = 0;
  /** How many have not ended yet. */ open = 0;
  /** Done once all there are have ended. @type {Promise<any>} */ end = Promise.resolve();

  /**
   * Does it once all before it have ended, however they ended.
   * @param {() => Promise<T>} job @template T @returns {Promise<T>}
   */
  add(job) {
    this.waiting++;
    this.open++;
    const go = () => {
      this.waiting--;
      return job().finally(() => this.open--);
    };
    this.end = this.end.then(go, go);
    return this.end;
  }
}
