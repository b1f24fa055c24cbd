// What the open room lends to scripts that stand in every room.

/**
 * @type {{player: import("./player.js").Player | null, stands: (() => {revision: number, story: number}) | null}}
 * `stands` is there where a story is edited
 */
export const room = { player: null, stands: null };
