// The line of a ring tamer: points dragged, put in and taken away, and the line itself taken hold of anywhere.

import { $, $$ } from "./dom.js";
import { on } from "./messages.js";
import { svgPoint } from "./pins.js";
import { change, unkept } from "./session.js";
import { state } from "./state.js";

const LEFT = 40;
const RIGHT = 700;
const TOP = 22;
const BOTTOM = 190;
const LOW_DB = -3;
const HIGH_DB = 24;
const LOW_HZ = 180;
const HIGH_HZ = 10000;
const OCTAVES = Math.log2(HIGH_HZ / LOW_HZ);
const REGION = 2 ** 0.4; // to either side of where the line is taken hold of
const LEAST = 1.015; // from one point to the next
const bench = () => $("#bench");
const svg = () => $("#tame");
const lineDb = () => Number(svg().dataset.line);
const hzAt = (x) => LOW_HZ * 2 ** (OCTAVES * Math.min(1, Math.max(0, (x - LEFT) / (RIGHT - LEFT))));
const dbAt = (y) => LOW_DB + (HIGH_DB - LOW_DB) * Math.min(1, Math.max(0, (BOTTOM - y) / (BOTTOM - TOP)));
const xOf = (hz) => LEFT + (Math.log2(hz / LOW_HZ) / OCTAVES) * (RIGHT - LEFT);
const yOf = (db) => BOTTOM - ((Math.min(HIGH_DB, Math.max(LOW_DB, db)) - LOW_DB) / (HIGH_DB - LOW_DB)) * (BOTTOM - TOP);

/** @typedef {{ frequency_hz: number, by_db: number }} Point */
/** @type {Point[] | null} what the hand has made of the line, until that is drawn */
let kept = null;
/** @returns {Point[]} */
const drawn = () => kept ?? $$(".tame-point").map((p) => ({ frequency_hz: Number(p.dataset.hz), by_db: Number(p.dataset.by) }));

/** The line at a frequency, over where it is as a whole. @param {Point[]} points @param {number} hz */
function byAt(points, hz) {
  if (!points.length) return 0;
  const k = points.findIndex((p) => p.frequency_hz > hz);
  if (k <= 0) return points.at(k ? -1 : 0)?.by_db ?? 0;
  const [a, b] = [points[k - 1], points[k]];
  return a.by_db + (Math.log(hz / a.frequency_hz) / Math.log(b.frequency_hz / a.frequency_hz)) * (b.by_db - a.by_db);
}

const rounded = (p) => ({ frequency_hz: Math.round(p.frequency_hz * 10) / 10, by_db: Math.round(Math.min(24, Math.max(-24, p.by_db)) * 10) / 10 });

/** @param {Point[]} points @param {string} gesture @param {boolean} last */
function put(points, gesture, last) {
  kept = points.map((p) => ({ ...p }));
  trace(kept);
  return change([{ op: "set", path: `${bench().dataset.path}/line`, value: points.map(rounded) }], { gesture, structure: last });
}

/** @param {Point[]} points */
function trace(points) {
  if (!svg()) return; // it is being drawn anew
  const path = [[LOW_HZ, byAt(points, LOW_HZ)], ...points.map((p) => [p.frequency_hz, p.by_db]), [HIGH_HZ, byAt(points, HIGH_HZ)]];
  const d = `M${path.map(([hz, by]) => `${xOf(hz).toFixed(1)} ${yOf(lineDb() + by).toFixed(1)}`).join("L")}`;
  for (const line of $$(".tame-line, .tame-reach")) line.setAttribute("d", d);
  points.forEach((p, k) => place($(`.tame-point[data-k="${k}"]`), p));
  for (const gone of $$(".tame-point").slice(points.length)) {
    if (gone === document.activeElement) $(`.tame-point[data-k="${points.length - 1}"]`)?.focus();
    gone.remove();
  }
}

/** @param {any} point @param {Point} at */
function place(point, { frequency_hz, by_db }) {
  if (!point) return; // put in just now: it comes with what is measured
  const over = Math.min(HIGH_DB, Math.max(LOW_DB, lineDb() + by_db)).toFixed(1);
  Object.assign(point.dataset, { hz: String(frequency_hz), by: String(by_db) });
  const told = { "aria-label": `Line at ${frequency_hz.toFixed(0)} Hz`, "aria-valuenow": over, "aria-valuetext": `${over} dB` };
  for (const [name, value] of Object.entries(told)) point.setAttribute(name, value);
  for (const circle of $$("circle", point)) {
    circle.setAttribute("cx", xOf(frequency_hz).toFixed(1));
    circle.setAttribute("cy", yOf(lineDb() + by_db).toFixed(1));
  }
}

/** A point among the others, where there is room for it: the points, and which it is. @param {Point[]} points @param {Point} point */
function among(points, point) {
  const kept = points.filter((p) => Math.abs(Math.log(p.frequency_hz / point.frequency_hz)) > Math.log(LEAST));
  const all = [...kept, point].sort((a, b) => a.frequency_hz - b.frequency_hz);
  return { points: all, k: all.indexOf(point) };
}

/** @type {{ points: Point[], k: number, gesture: string, moved: boolean } | null} */
let drag = null;
document.addEventListener("pointerdown", (event) => {
  const at = (selector) => /** @type {any} */ (event.target).closest?.(selector);
  const point = at(".tame-point");
  if (event.button !== 0 || (!point && !at(".tame-reach"))) return;
  event.preventDefault();
  const gesture = `line@${Date.now()}`;
  if (point) {
    point.focus();
    drag = { points: drawn(), k: Number(point.dataset.k), gesture, moved: false };
    return;
  }
  const hz = hzAt(svgPoint(svg(), event)[0]); // the line is taken hold of: what lies beside the region stays
  const before = drawn();
  let points = before;
  for (const edge of [hz / REGION, hz * REGION]) {
    if (edge > LOW_HZ && edge < HIGH_HZ) ({ points } = among(points, { frequency_hz: edge, by_db: byAt(before, edge) }));
  }
  const held = among(points, { frequency_hz: hz, by_db: byAt(before, hz) });
  drag = { ...held, gesture, moved: false };
});
document.addEventListener("pointermove", (event) => {
  if (!drag || !svg()) return;
  drag.moved = true;
  const [x, y] = svgPoint(svg(), event);
  move(drag.points, drag.k, hzAt(x), dbAt(y) - lineDb());
  put(drag.points, drag.gesture, false);
});
document.addEventListener("pointerup", () => {
  if (drag?.moved) put(drag.points, drag.gesture, true);
  drag = null;
});

/** @param {Point[]} points @param {number} k @param {number} hz @param {number} by */
function move(points, k, hz, by) {
  const low = (points[k - 1]?.frequency_hz ?? 20) * LEAST;
  const high = (points[k + 1]?.frequency_hz ?? 20000) / LEAST;
  points[k] = { frequency_hz: Math.min(Math.max(hz, low), high), by_db: by };
}

document.addEventListener("dblclick", (event) => {
  const target = /** @type {Element} */ (event.target);
  if (!target.closest("#tame") || target.closest(".tame-point")) return;
  const [x, y] = svgPoint(svg(), event);
  put(among(drawn(), { frequency_hz: hzAt(x), by_db: dbAt(y) - lineDb() }).points, "", true);
});
let focused = -1; // the point that the hand is at: it is drawn anew, and the hand has it again
document.addEventListener("focusin", (event) => {
  const point = /** @type {any} */ (event.target).closest?.(".tame-point");
  if (point) focused = Number(point.dataset.k);
});
document.addEventListener("pointerdown", (event) => {
  if (!(/** @type {Element} */ (event.target).closest?.(".tame-point"))) focused = -1;
});
document.addEventListener("keydown", (event) => {
  if (event.key === "Tab") focused = -1;
});
document.addEventListener("keydown", (event) => {
  const point = /** @type {any} */ (event.target).closest?.(".tame-point");
  if (!point) return;
  const k = Number(point.dataset.k);
  const points = drawn();
  const step = { ArrowUp: [1, 0.5], ArrowDown: [1, -0.5], ArrowLeft: [2 ** (-1 / 24), 0], ArrowRight: [2 ** (1 / 24), 0] }[event.key];
  if (!step && event.key !== "Delete") return;
  event.preventDefault();
  event.stopPropagation();
  if (step) {
    move(points, k, points[k].frequency_hz * step[0], points[k].by_db + step[1]);
  } else points.splice(k, 1);
  focused = step ? k : Math.max(0, k - 1);
  put(points, step ? `line-key-${k}` : "", !step);
});
on("pictured", ({ picture }) => {
  if (picture !== "tame") return;
  if (!drag && !unkept()) kept = null;
  else if (kept) trace(kept); // what is drawn is older than what the hand has made of it
  const at = document.activeElement;
  if (focused >= 0 && (at === document.body || at?.matches(".station[aria-current]"))) $(`.tame-point[data-k="${focused}"]`)?.focus();
});

document.addEventListener("click", (event) => {
  if (bench()?.dataset.kind !== "tame" || state.screen !== "lane") return;
  const target = /** @type {Element} */ (event.target);
  if (target.closest("#tame-flat")) put([], "", true);
  if (!target.closest("#tame-add") || !svg()) return;
  const points = drawn();
  const ends = [LOW_HZ, ...points.map((p) => p.frequency_hz), HIGH_HZ];
  let widest = 0;
  ends.forEach((hz, k) => void (k && hz / ends[k - 1] > ends[widest + 1] / ends[widest] && (widest = k - 1)));
  const hz = Math.sqrt(ends[widest] * ends[widest + 1]);
  put(among(points, { frequency_hz: hz, by_db: byAt(points, hz) }).points, "", true);
});
document.addEventListener("change", (event) => {
  const key = /** @type {any} */ (event.target);
  if (key.id !== "tame-key") return;
  const value = key.value ? { lane: key.value, tap: "treated" } : null;
  change([{ op: "set", path: `${bench().dataset.path}/key`, value }], { structure: true });
});
