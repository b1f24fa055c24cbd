// What the open room lends to scripts that stand in every room.

/**
 * @type {{player: any, stands: (() => {revision: number, story: number}) | null}} `player`: the page's, if it has one;
 * `stands` is there where a story is edited
 */
export const room = { player: null, stands: null };
