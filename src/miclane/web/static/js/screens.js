// Screens say of themselves what they do when they are shown and when the session has changed.

/**
 * @typedef {object} Screen
 * @property {() => void} [shown]  its page, or a part of it, has been put into the window
 * @property {(change: import("./messages.js").Changed) => void} [changed]  what it shows may have been added or taken away
 */

/** @type {Map<string, Screen>} */
const screens = new Map();

/** @param {string} name @param {Screen} screen */
export function register(name, screen) {
  screens.set(name, screen);
}

/** @param {string} name @returns {Screen} */
export const screenOf = (name) => screens.get(name) ?? {};
