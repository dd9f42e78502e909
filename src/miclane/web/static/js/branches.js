// Branches beside the voice by what they are used for, and the return that several lanes share.

import { change, state } from "./session.js";

const short = () => crypto.randomUUID().slice(0, 8);
const named = (stages) => stages.map((s) => ({ id: `s${short()}`, ...s }));

const USES = {
  Copy: () => [],
  Thicken: () => [
    { kind: "compressor", name: "Crush", threshold_db: -36, ratio: 12, knee_db: 3, attack_ms: 0.6, release_ms: 240, makeup_db: 10 },
    { kind: "limiter", name: "Catch", ceiling_dbtp: -9 },
  ],
  "Hold up": () => [
    { kind: "lift", name: "Lift", threshold_db: -20, ratio: 3, most_db: 12, noise_db: -50, limit_db: -47 },
    { kind: "compressor", name: "Even", response: "optical", threshold_db: -28, ratio: 6, knee_db: 10, attack_ms: 6, release_ms: 120 },
  ],
  Bite: () => [
    { kind: "eq", name: "Above the body", bands: [{ shape: "low_cut", frequency_hz: 900, slope_db_per_octave: 12 }] },
    { kind: "compressor", name: "Quick", response: "fet", threshold_db: -34, ratio: 8, attack_ms: 0.2, release_ms: 60, makeup_db: 8 },
    { kind: "drive", name: "Edge", curve: "tape", amount_db: 9 },
  ],
};

export function branchFor(use, blend_db) {
  return { id: `b${short()}`, name: use, blend_db, stages: named(USES[use]()) };
}

document.addEventListener("click", (event) => {
  if (!event.target.closest("#share-branch")) return;
  const id = `shared${short()}`;
  const before = [...document.querySelectorAll(".side .space .who")].filter((who) => who.textContent.startsWith("Shared crush")).length;
  const value = { id, name: before ? `Shared crush ${before + 1}` : "Shared crush", bus: "vocals", stages: named(USES.Thicken()) };
  const edits = [
    { op: "insert", path: "returns", index: 99, value },
    { op: "insert", path: `lanes/${state.lane}/sends`, index: 99, value: { id, level_db: -20 } },
  ];
  change(edits, { structure: true, data: true }).then((told) => {
    if (!told) return;
    location.assign(`/s/${state.id}/lane/return:${id}?stage=take`);
  });
});
