// How long the rest of a loop waits after a change, by how the hand goes that makes it.

const REST_MS = 250; // a hand that still moves would only throw the rest away,
const STEPS_MS = 1000; // and one that goes by steps, each so soon after the one before, is let make its next
const STEPS = 3;

let changedAt = -Infinity;
/** @type {number[]} */
let gaps = []; // between its last steps

/** In ms, after a change at `now`: as long as the hand has paused between its last steps, and a little longer. @param {number} now */
export function restAfter(now) {
  const gap = now - changedAt;
  changedAt = now;
  gaps = gap < STEPS_MS ? [gap, ...gaps].slice(0, STEPS) : [];
  return Math.max(REST_MS, 1.3 * Math.max(0, ...gaps));
}
