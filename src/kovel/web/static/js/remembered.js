// Where one stood in a room, for when one comes back to it or loads it again: kept in this browser, for so many places.

const MOST = 80,
  KEY = "kovel-places";

/** @returns {[place: string, stood: any][]} what was used last, last */
function read() {
  try {
    const rows = JSON.parse(localStorage.getItem(KEY) || "[]");
    return Array.isArray(rows) ? rows : [];
  } catch {
    return [];
  }
}

/**
 * Stand again where one stood, and remember it from now on.
 * @param {string} place the room, and what is open in it
 * @param {() => Record<string, any>} stands where one stands now
 * @param {(stood: Record<string, any>) => unknown} back goes there; not called where the address says where to go
 */
export async function remembered(place, stands, back) {
  place = `${place} · ${document.title}`; // another data folder may be served at this address some day
  const stood = read().find(([other]) => other === place)?.[1];
  if (stood && location.hash.length < 2) {
    try {
      await back(stood);
    } catch (error) {
      console.warn(error); // it was another story then: one begins at the beginning
    }
  }
  const keep = () => {
    const others = read().filter(([other]) => other !== place);
    localStorage.setItem(KEY, JSON.stringify([...others, [place, stands()]].slice(-MOST)));
  };
  addEventListener("pagehide", keep);
  document.addEventListener("visibilitychange", () => document.hidden && keep());
}
