// How long the rest of a loop waits after a change, by how the hand goes that makes it.

const REST_MS = 250; // a hand that still moves would only throw the rest away,
const STEPS_MS = 900; // and one that goes by steps, each so soon after the one before, is let make its next

let changedAt = -Infinity;

/** In ms, after a change at `now`. @param {number} now */
export function restAfter(now) {
  const since = now - changedAt;
  changedAt = now;
  return since < STEPS_MS ? Math.max(REST_MS, 1.3 * since) : REST_MS;
}
