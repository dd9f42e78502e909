// The EQ's pins: dragged, moved by arrows, added, made dynamic; the curve follows before the sound is there.

import { reloadBody } from "./bench.js";
import { $, $$ } from "./dom.js";
import { on, say } from "./messages.js";
import { change, set } from "./session.js";

const bench = () => $("#bench");

export const svgPoint = (svg, event) => {
  const p = new DOMPoint(event.clientX, event.clientY).matrixTransform(svg.getScreenCTM().inverse());
  return [p.x, p.y];
};
export const geometry = (svg) => Object.fromEntries(["left", "right", "top", "bottom", "low", "high"].map((k) => [k, Number(svg.dataset[k])]));
export const toHz = (g, x) => 20 * 1000 ** Math.min(Math.max((x - g.left) / (g.right - g.left), 0), 1);
export const toDb = (g, y) => g.low + (g.high - g.low) * Math.min(Math.max((g.bottom - y) / (g.bottom - g.top), 0), 1);
const hasGain = (shape) => ["bell", "low_shelf", "high_shelf"].includes(shape);
const bandPath = (k) => `${bench().dataset.path}/bands/${k}`;
export const sig = (v) => Number(v.toPrecision(4));

let drag = null;
document.addEventListener("pointerdown", (event) => {
  const pin = event.target.closest(".pin");
  if (!pin || event.button !== 0) return;
  event.preventDefault();
  const svg = pin.ownerSVGElement;
  const band = Number(pin.dataset.band);
  pin.focus({ preventScroll: true });
  if (Number(bench().dataset.band) !== band) pick(band);
  const [x, y] = svgPoint(svg, event);
  const stem = $("line", pin);
  const [px, py] = [Number(stem.getAttribute("x1")), Number(stem.getAttribute("y2"))];
  const grip = event.target.closest(".grip");
  const width = grip !== null;
  const held = grip ? [x - Number(grip.getAttribute("x")) - 6, 0] : [x - px, y - py]; // where it is held, from its middle
  const g = geometry(svg);
  drag = { band, shape: pin.dataset.shape, width, g, held, from: [event.clientX, event.clientY], moved: false, gesture: `pin${band}@${Date.now()}`, frequency: toHz(g, px) };
  svg.setPointerCapture(event.pointerId);
});
document.addEventListener("pointermove", (event) => {
  if (!drag) return;
  const svg = $("#eq");
  if (!svg) return;
  if (!drag.moved && Math.hypot(event.clientX - drag.from[0], event.clientY - drag.from[1]) < 3) return; // a click edits nothing
  drag.moved = true;
  const at = svgPoint(svg, event);
  const [x, y] = [at[0] - drag.held[0], at[1] - drag.held[1]];
  const began = performance.now();
  const edits = [];
  const put = (name, value) => {
    edits.push({ op: "set", path: `${bandPath(drag.band)}/${name}`, value });
    say("moved", { path: `${bandPath(drag.band)}/${name}`, value });
  };
  if (drag.width) {
    const ratio = Math.max(1.01, toHz(drag.g, x) / drag.frequency);
    put("q", sig(Math.min(40, Math.max(0.1, ratio / (ratio * ratio - 1)))));
  } else {
    put("frequency_hz", sig(Math.min(20000, Math.max(20, toHz(drag.g, x)))));
    if (hasGain(drag.shape)) put("gain_db", Math.round(toDb(drag.g, y) * 10) / 10);
  }
  change(edits, { gesture: drag.gesture, began });
});
document.addEventListener("pointerup", () => (drag = null));
document.addEventListener("pointercancel", () => (drag = null));

let keyGesture = "";
let keyTimer = 0;
document.addEventListener("keydown", (event) => {
  const pin = event.target.closest?.(".pin");
  if (!pin || event.ctrlKey || event.altKey || event.metaKey) return;
  const band = Number(pin.dataset.band);
  if (event.key === "Delete") {
    event.preventDefault();
    return change([{ op: "remove", path: bandPath(band) }], { structure: true });
  }
  if (event.key === "Enter") {
    event.preventDefault();
    event.stopPropagation();
    return pick(band);
  }
  const [sx, sy] = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] }[event.key] ?? [];
  if (sx === undefined) return;
  event.preventDefault();
  event.stopPropagation();
  if (Number(bench().dataset.band) !== band) return pick(band);
  clearTimeout(keyTimer);
  keyGesture ||= `pin${band}@${Date.now()}`;
  keyTimer = setTimeout(() => (keyGesture = ""), 900);
  const fine = event.shiftKey ? 0.2 : 1;
  const rule = (name) => $(`.rule[data-path="${bandPath(band)}/${name}"]`);
  const name = sx ? "frequency_hz" : "gain_db";
  if (!rule(name)) return;
  const now = Number(rule(name).getAttribute("aria-valuenow"));
  const value = sx ? sig(now * 2 ** ((sx * fine) / 24)) : Math.round((now + sy * 0.5 * fine) * 10) / 10;
  say("moved", { path: `${bandPath(band)}/${name}`, value });
  set(`${bandPath(band)}/${name}`, value, { gesture: keyGesture });
});

function pick(band) {
  reloadBody(undefined, band).then(() => $(`.pin[data-band="${band}"]`)?.focus({ preventScroll: true }));
}

document.addEventListener("click", (event) => {
  const at = (selector) => event.target.closest(selector);
  const band = at("[data-pick-band]");
  if (band) return pick(Number(band.dataset.pickBand));
  const pin = event.detail === 0 && at(".pin"); // pressed without a pointer
  if (pin) return pick(Number(pin.dataset.band));
  const add = at("[data-add-band]");
  if (add) {
    const index = Number(add.dataset.index);
    return void change([{ op: "insert", path: add.dataset.addBand, index, value: { shape: "bell", frequency_hz: 1000, gain_db: 0, q: 1.4 } }], { structure: true, select: { band: index } });
  }
  const dynamic = at("[data-make-dynamic]");
  if (dynamic) {
    const value = dynamic.getAttribute("aria-pressed") === "true" ? null : { threshold_db: Number(dynamic.dataset.threshold ?? -30), change_db: -6 };
    return void set(`${dynamic.dataset.makeDynamic}/dynamic`, value, { structure: true, select: { band: Number(bench().dataset.band) } });
  }
});
document.addEventListener("change", (event) => {
  const key = event.target.closest("#band-key");
  if (!key) return;
  const path = key.dataset.bandPath;
  /** @type {import("./queue.js").Edit[]} */
  const edits = [{ op: "set", path: `${path}/dynamic/keyed_by`, value: key.value ? "key" : "itself" }];
  if (key.value) edits.unshift({ op: "set", path: `${key.dataset.stagePath}/key`, value: { lane: key.value, tap: "treated" } });
  change(edits, { structure: true });
});

document.addEventListener("dblclick", (event) => {
  const svg = event.target.closest("#eq");
  if (!svg || event.target.closest(".pin")) return;
  const g = geometry(svg);
  const [x, y] = svgPoint(svg, event);
  const value = { shape: "bell", frequency_hz: sig(toHz(g, x)), gain_db: Math.round(toDb(g, y) * 2) / 2, q: 1.4 };
  const index = $$(".pin", svg).length;
  change([{ op: "insert", path: `${bench().dataset.path}/bands`, index, value }], { structure: true, select: { band: index } });
});

// the curve follows at once, before the sound is there
on("changed", ({ curves, structure }) => {
  if (structure) return;
  const mine = curves[bench()?.dataset.path];
  if (!mine || !$("#eq-curve")) return;
  $("#eq-curve").setAttribute("d", mine.curve);
  $("#eq-taken").setAttribute("d", mine.taken);
  for (const p of mine.pins) {
    const pin = $(`.pin[data-band="${p.index}"]`);
    if (!pin) continue;
    const line = $("line", pin);
    for (const [k, v] of Object.entries({ x1: p.x, x2: p.x, y1: p.zero, y2: p.y })) line.setAttribute(k, v);
    $(".foot-box", pin).setAttribute("x", p.x - 8);
    $(".foot-box", pin).setAttribute("y", p.y - 8);
    $("text", pin).setAttribute("x", p.x);
    $("text", pin).setAttribute("y", p.y + 4);
    if (p.change_y !== null && $(".reach", pin)) $(".reach", pin).setAttribute("d", `M${p.x} ${p.y}V${p.change_y}m-5 0h10`);
    if (p.from !== null && $(".bracket", pin)) {
      $(".bracket", pin).setAttribute("d", `M${p.from} ${p.half_y - 4}v8M${p.from} ${p.half_y}H${p.to}M${p.to} ${p.half_y - 4}v8`);
      $(".grip", pin).setAttribute("x", p.to - 6);
      $(".grip", pin).setAttribute("y", p.half_y - 9);
    }
  }
});
