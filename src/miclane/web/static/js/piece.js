// A short piece where the playhead will be, wanted while the whole loop is rendered: what it has passed by then would be
// made for nobody.

import { player } from "./player.js";
import { state } from "./state.js";

const LENGTH_S = 0.21;
const MOST_AHEAD_S = 0.06;
const AT_THE_END_S = 0.0175; // nearer to it than that the beginning is what comes

let quickest = 0; // answers of late, in ms
let told = 0; // when the playhead said where it is
let moves = false; // whether it was elsewhere the time before: where there is no sound yet it waits

/** The playhead says where it is. @param {{ at: number, playing: boolean, starved?: boolean }} m */
export function placed({ at, playing, starved }) {
  moves = playing && !starved && player.at !== at;
  told = performance.now();
}

/** It has been put somewhere, and is there until it says otherwise. */
export function stands() {
  moves = false;
}

/** A change was answered. @param {number} ms */
export function answeredIn(ms) {
  quickest = quickest ? Math.min(ms, quickest * 1.1 + 1) : ms;
}

/** First frame and the frame after the last. @returns {[number, number]} */
export function piece() {
  const ahead_s = moves ? Math.min((performance.now() - told + 0.6 * quickest) / 1000, MOST_AHEAD_S) : 0;
  const there = player.at + Math.round(ahead_s * state.rate);
  const from = player.last - there < AT_THE_END_S * state.rate ? player.first : there;
  return [from, Math.min(from + Math.round(LENGTH_S * state.rate), player.last)];
}
