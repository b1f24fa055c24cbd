// Asks the server again where no answer came: a page that opens does not stand for ever because one got lost.

const PATIENCE = 30_000; // ms for an answer to begin

/**
 * An answer to a question that changes nothing. Rejects after the third try.
 * @param {string} url @param {RequestInit} [options]
 */
export async function fetched(url, options = {}) {
  for (let left = 3; ; left--) {
    const waiting = new AbortController(),
      bell = setTimeout(() => waiting.abort(), PATIENCE);
    try {
      return await fetch(url, { ...options, signal: waiting.signal });
    } catch (error) {
      if (left === 1) throw error;
      await new Promise((r) => setTimeout(r, 300));
    } finally {
      clearTimeout(bell);
    }
  }
}
