// What the parts of a page tell one another: every message there is, and what it carries.

/**
 * @typedef {{ version: number, edits: import("./queue.js").Edit[], began: number, curves?: any, gesture?: string, structure?: boolean,
 *   data?: boolean, select?: any, jumped?: boolean, elsewhere?: boolean, sound?: any, applied_ms?: number, render_ms?: number, token?: string }} Changed
 *
 * @typedef {object} Messages
 * @property {{ changed?: string, version?: number, prints?: string }} news  a session was changed somewhere, or its prints have got on
 * @property {{}} line             the connection to the server is there, or there again
 * @property {{}} changing         edits are on their way
 * @property {{ version: number, began: number, token: string, sound: any, applied_ms: number, render_ms: number }} ahead  what will be heard of
 *   edits has come before they are kept
 * @property {Changed} changed     the session is of a newer version
 * @property {{}} refused          edits were refused; what is shown is not what is kept
 * @property {{}} redraw           the route and the bench are wanted anew
 * @property {{ picture: string, stage: string }} bench  a stage has been opened, or its picture is wanted anew
 * @property {{ picture: string }} pictured  the measured part of its picture has been drawn
 * @property {{ path: string, value: number }} moved  a setting was moved by something that is not its rule
 * @property {{}} playing          playing has begun or ended
 * @property {{ at: number, playing: boolean, mean: number, peak: number, starved?: boolean, guard?: number }} position  where the playhead is
 * @property {{ first: number, last: number, generation: number }} rendered  the loop has been rendered
 * @property {{ version: number, ms: number }} heard  the sound of a version has come to the loudspeaker
 * @property {{}} range            another loop
 * @property {{}} hear             lane, vocals or mix
 * @property {{}} variant          another side of a comparison is heard
 * @property {{}} phrase           the playhead is in another phrase
 * @property {{}} phrases          phrases have been moved
 * @property {{}} marks            places in the strip
 * @property {any} readings        figures of the loop
 * @property {{ start: number, y: number }} event  a sibilant's mark in the strip was pressed
 * @property {{}} throws           the strip has been laid out, and its throws are wanted on it
 * @property {{}} to-stretch       what can be done with the loop is wanted
 * @property {{}} to-route         the hand wants the route
 * @property {{ began: number }} alternative  another alternative is heard
 * @property {{}} alternative-gone  the one that was chosen is gone
 * @property {{ ids: string[] }} alternatives  those that there are
 * @property {{ by: number }} to-alternative  the alternative after, or before, is wanted
 * @property {{}} to-scope         the bench is to be set for the next of song, section, phrase
 * @property {{}} light            day or night, eyes on or off
 */

const wire = new EventTarget();

/** @template {keyof Messages} K @param {K} name @param {Messages[K]} [detail] */
export function say(name, detail) {
  wire.dispatchEvent(new CustomEvent(name, { detail: detail ?? {} }));
}

/** @template {keyof Messages} K @param {K} name @param {(detail: Messages[K]) => void} listener */
export function on(name, listener) {
  wire.addEventListener(name, (event) => listener(/** @type {CustomEvent} */ (event).detail));
}
