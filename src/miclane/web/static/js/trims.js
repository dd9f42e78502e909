// Phrase trims: bars against the target, dragged alone or a section at a time; suggestions.

import { $, $$ } from "./dom.js";
import { live } from "./focus.js";
import { on, say } from "./messages.js";
import { change, changedBy, post } from "./session.js";
import { state } from "./state.js";

const svg = () => $("#trims");
const scale = () => {
  const [low, high, top, bottom] = ["low", "high", "top", "bottom"].map((k) => Number(svg().dataset[k]));
  return { perDb: (bottom - top) / (high - low), bottom, low };
};
const trimOf = (bar) => Number(bar.getAttribute("aria-valuenow"));
const hold = (v) => Math.round(Math.min(24, Math.max(-24, v)) * 10) / 10;
const barsOf = (group) => (group.classList.contains("section") ? $$(".bar-group", svg()).filter((b) => b.dataset.section === group.dataset.section) : [group]);
const text = (v) => (v === 0 ? "0.0" : `${v > 0 ? "+" : "−"}${Math.abs(v).toFixed(1)}`);

function show(bar, trim) {
  const { perDb, bottom, low } = scale();
  const y = Math.min(bottom, bottom - (Number(bar.dataset.raw) + Number(svg().dataset.gain) + trim - low) * perDb);
  bar.setAttribute("aria-valuenow", trim);
  bar.setAttribute("aria-valuetext", `${text(trim)} dB`);
  const now = $(".now", bar);
  now.setAttribute("y", y);
  now.setAttribute("height", bottom - y);
  const grip = $(".grip", bar);
  grip.setAttribute("d", grip.getAttribute("d").replace(/^M([\d.]+) [\d.]+/, `M$1 ${y}`));
  const label = $("text", bar);
  label.textContent = text(trim);
  label.setAttribute("y", y - 6);
}

function move(bars, trims, gesture, last = false) {
  const edits = bars.map((bar, k) => {
    show(live(bar), hold(trims[k]));
    return { op: "set", path: `lanes/${state.lane}/phrases/${bar.dataset.phrase}/trim_db`, value: hold(trims[k]) };
  });
  return change(edits, { gesture, structure: last, began: performance.now() });
}

let drag = null;
document.addEventListener("pointerdown", (event) => {
  const group = event.target.closest?.("#trims .bar-group, #trims .section");
  if (!group || event.button !== 0) return;
  event.preventDefault();
  group.focus({ preventScroll: true });
  const bars = barsOf(group);
  drag = { bars, from: bars.map(trimOf), y: event.clientY, per: svg().getScreenCTM().d * scale().perDb, gesture: `trim@${Date.now()}`, moved: false };
});
document.addEventListener("pointermove", (event) => {
  if (!drag) return;
  const by = ((drag.y - event.clientY) / drag.per) * (event.shiftKey ? 0.2 : 1);
  if (!drag.moved && Math.abs(drag.y - event.clientY) < 2) return;
  drag.moved = true;
  drag.to = drag.from.map((v) => v + by);
  move(drag.bars, drag.to, drag.gesture);
});
document.addEventListener("pointerup", () => {
  if (drag?.moved) move(drag.bars, drag.to, drag.gesture, true);
  drag = null;
});
document.addEventListener("dblclick", (event) => {
  const group = event.target.closest("#trims .bar-group, #trims .section");
  if (group) move(barsOf(group), barsOf(group).map(() => 0), "", true);
});

let keyGesture = "";
let keyTimer = 0;
document.addEventListener("keydown", (event) => {
  const group = event.target.closest?.("#trims .bar-group, #trims .section");
  const by = { ArrowUp: 0.5, ArrowDown: -0.5, PageUp: 3, PageDown: -3 }[event.key];
  if (!group || !by) return;
  event.preventDefault();
  event.stopPropagation();
  clearTimeout(keyTimer);
  keyGesture ||= `trim@${Date.now()}`;
  keyTimer = setTimeout(() => (keyGesture = ""), 900);
  const bars = barsOf(group);
  move(bars, bars.map((b) => trimOf(b) + by * (event.shiftKey ? 0.2 : 1)), keyGesture);
});

document.addEventListener("click", async (event) => {
  const button = event.target.closest("[data-trims]");
  if (!button) return;
  const section = $("#trim-section").value;
  if (button.dataset.trims === "clear") {
    const bars = $$(".bar-group", svg()).filter((b) => !section || b.dataset.section === section);
    return void move(bars, bars.map(() => 0), "", true);
  }
  const stage = $("#bench").dataset.stage;
  const told = await post(`/s/${state.id}/lane/${state.lane}/trims/${stage}`, { share: Number(button.dataset.trims), section });
  if (told) changedBy(told, { data: true });
});

// the target and the gain move the picture too
let redraw = 0;
on("changed", ({ edits, structure }) => {
  if (structure || !svg() || !edits.some((e) => /\/(target_lufs|gain_db)$/.test(e.path ?? ""))) return;
  clearTimeout(redraw);
  redraw = setTimeout(() => say("redraw"), 350);
});
