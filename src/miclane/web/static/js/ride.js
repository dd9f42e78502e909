// The ride: its curve over the waveform of the loop, points dragged, added and taken away, drawn anew after a setting.

import { $ } from "./dom.js";
import { moveHead } from "./heads.js";
import { ask } from "./line.js";
import { on } from "./messages.js";
import { measured } from "./player.js";
import { change, changedBy, post } from "./session.js";
import { state } from "./state.js";

const LEFT = 40;
const RIGHT = 700;
const MIDDLE = 150;
const PER_DB = 9.5;
const view = { points: [], over: [0, 1], chosen: -1, raw: null, key: "" };
const bench = () => $("#bench");
const svg = () => $("#ride");
const path = () => `${bench().dataset.path}/points`;
const x = (t) => LEFT + ((t * state.rate - view.over[0]) / (view.over[1] - view.over[0])) * (RIGHT - LEFT);
const y = (db) => MIDDLE - Math.min(15, Math.max(-15, db)) * PER_DB;
const timeAt = (px) => (view.over[0] + ((px - LEFT) / (RIGHT - LEFT)) * (view.over[1] - view.over[0])) / state.rate;
const round = (v, n) => Number(v.toFixed(n));

function draw() {
  const spot = $("#ride-points");
  if (!spot) return;
  const inside = view.points.map((p, k) => [p, k]).filter(([p]) => x(p.time_s) >= LEFT - 1 && x(p.time_s) <= RIGHT + 1);
  const at = (px) => {
    const t = timeAt(px);
    const k = view.points.findIndex((p) => p.time_s > t);
    if (!view.points.length) return 0;
    if (k <= 0) return view.points.at(k ? -1 : 0).gain_db;
    const [a, b] = [view.points[k - 1], view.points[k]];
    return a.gain_db + ((t - a.time_s) / (b.time_s - a.time_s)) * (b.gain_db - a.gain_db);
  };
  const line = [[LEFT, at(LEFT)], ...inside.map(([p]) => [x(p.time_s), p.gain_db]), [RIGHT, at(RIGHT)]];
  const d = `M${line.map(([px, g]) => `${px.toFixed(1)} ${y(g).toFixed(1)}`).join("L")}`;
  spot.innerHTML = `<path class="ride-area" d="${d}L${RIGHT} ${MIDDLE}L${LEFT} ${MIDDLE}Z"/><path class="curve" d="${d}"/>` +
    inside.map(([p, k]) => `<g class="ride-point${p.by_hand ? " by-hand" : ""}" tabindex="0" role="slider" aria-label="Gain at ${p.time_s.toFixed(1)} s" aria-valuemin="-15" aria-valuemax="15" aria-valuenow="${p.gain_db}" aria-valuetext="${p.gain_db.toFixed(1)} dB" data-k="${k}"><circle class="reach" cx="${x(p.time_s)}" cy="${y(p.gain_db)}" r="9"/>${p.by_hand ? `<rect x="${x(p.time_s) - 4}" y="${y(p.gain_db) - 4}" width="8" height="8"/>` : `<circle cx="${x(p.time_s)}" cy="${y(p.gain_db)}" r="3"/>`}</g>`).join("");
  if (!view.points.length) $("#ride-say").textContent = "No ride yet. “Draw it anew” draws one from the loudness of what comes in.";
}

async function drawWave() {
  const canvas = $("#ride-wave");
  if (!canvas) return;
  const [first, last] = view.over;
  const key = `${state.lane}:${first}:${last}`;
  if (key !== view.key) {
    const answer = await ask(`/s/${state.id}/raw?lane=${state.lane}&start=${first}&stop=${last}&columns=660`).catch(() => null);
    if (!answer?.ok || view.over[0] !== first || view.over[1] !== last) return;
    view.raw = new Float32Array(await answer.arrayBuffer());
    view.key = key;
  }
  const ratio = 2;
  canvas.width = 710 * ratio;
  canvas.height = 300 * ratio;
  const g = canvas.getContext("2d");
  g.scale(ratio, ratio);
  g.fillStyle = getComputedStyle(document.documentElement).getPropertyValue("--raw-fill");
  const n = view.raw.length / 2;
  const top = view.raw.reduce((m, v) => Math.max(m, Math.abs(v)), 0.02);
  for (let i = 0; i < n; i++) {
    const [a, b] = [view.raw[i], view.raw[n + i]];
    g.fillRect(LEFT + (i / n) * (RIGHT - LEFT), MIDDLE - (b / top) * 130, 1.2, Math.max(0.7, ((b - a) / top) * 130));
  }
}

on("bench", ({ picture }) => {
  if (picture !== "ride" || !svg()) return;
  view.points = JSON.parse($("#ride-data").textContent);
  view.over = measured();
  draw();
  drawWave();
});
on("light", () => svg() && drawWave());
on("position", (told) => svg() && moveHead($("#ride-head"), (frame) => x(frame / state.rate), [LEFT, RIGHT], told));

function put(gesture, last = false) {
  $("#ride-data").textContent = JSON.stringify(view.points);
  draw();
  return change([{ op: "set", path: path(), value: view.points }], { gesture, structure: last });
}

const local = (event) => {
  const p = new DOMPoint(event.clientX, event.clientY).matrixTransform(svg().getScreenCTM().inverse());
  return [p.x, p.y];
};
const gainAt = (py) => round(Math.min(15, Math.max(-15, (MIDDLE - py) / PER_DB)), 1);

function moveTo(k, time, gain) {
  const before = view.points[k - 1]?.time_s ?? -0.02;
  const after = view.points[k + 1]?.time_s ?? 7200;
  view.points[k] = { time_s: round(Math.min(Math.max(time, before + 0.02), after - 0.02), 3), gain_db: gain, by_hand: true };
}

let drag = null;
document.addEventListener("pointerdown", (event) => {
  const point = event.target.closest?.(".ride-point");
  if (!point || event.button !== 0) return;
  event.preventDefault();
  drag = { k: Number(point.dataset.k), gesture: `ride@${Date.now()}`, moved: false };
  svg().setPointerCapture(event.pointerId);
});
document.addEventListener("pointermove", (event) => {
  if (!drag || !svg()) return;
  drag.moved = true;
  const [px, py] = local(event);
  moveTo(drag.k, timeAt(px), gainAt(py));
  put(drag.gesture);
});
document.addEventListener("pointerup", () => {
  if (drag?.moved) put(drag.gesture);
  drag = null;
});
document.addEventListener("dblclick", (event) => {
  if (!event.target.closest("#ride") || event.target.closest(".ride-point")) return;
  const [px, py] = local(event);
  view.points.push({ time_s: round(Math.max(0, timeAt(px)), 3), gain_db: gainAt(py), by_hand: true });
  view.points.sort((a, b) => a.time_s - b.time_s);
  put("");
});
document.addEventListener("keydown", (event) => {
  const point = event.target.closest?.(".ride-point");
  if (!point) return;
  const k = Number(point.dataset.k);
  const [dt, db] = { ArrowUp: [0, 0.5], ArrowDown: [0, -0.5], ArrowLeft: [-0.05, 0], ArrowRight: [0.05, 0] }[event.key] ?? [];
  if (dt === undefined && event.key !== "Delete") return;
  event.preventDefault();
  event.stopPropagation();
  if (event.key === "Delete") view.points.splice(k, 1);
  else moveTo(k, view.points[k].time_s + dt, round(Math.min(15, Math.max(-15, view.points[k].gain_db + db)), 1));
  put(event.key === "Delete" ? "" : `ride-key-${k}`);
  $(`.ride-point[data-k="${k}"]`)?.focus();
});

async function redraw(clear = false) {
  const stage = bench().dataset.stage;
  const told = await post(`/s/${state.id}/lane/${state.lane}/ride/${stage}?clear=${clear}`);
  if (told) changedBy(told);
}
document.addEventListener("click", (event) => {
  if (event.target.closest("#ride-draw")) redraw();
  if (event.target.closest("#ride-clear")) redraw(true);
});
let later = 0;
on("changed", ({ edits }) => {
  if (bench()?.dataset.picture !== "ride" || !edits?.some((e) => /\/(target_lufs|up_db|down_db|speed_s|share|freeze)$/.test(e.path ?? ""))) return;
  clearTimeout(later);
  later = setTimeout(redraw, 250);
});
