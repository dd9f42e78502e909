// The spectrogram of a de-esser or plosive stage: events outlined, beneath them what is heard and what is cut.

import { $, $$ } from "./dom.js";
import { on } from "./messages.js";

export const PICTURES = ["deess", "apart"];
export const LEFT = 36;
export const WIDTH = 620;
const [TOP, LOW] = [16, 166]; // of the spectrogram
const [OVER, CUT, DEEP] = [176, 222, 256]; // rows beneath: what is heard, what is cut
const OVER_DB = [-30, 6];
const CUT_DB = 12;
/** @type {any} */
export const view = { token: 0, told: null, shades: null, over: [0, 1], low: false, drag: null, chosen: new Set(), anchor: null };

export const bench = () => $("#bench");
export const shown = () => bench()?.dataset.picture ?? "";
export const minus = (v, digits = 1) => {
  const shown = Math.abs(v).toFixed(digits);
  return Number(shown) === 0 ? shown : `${v < 0 ? "−" : "+"}${shown}`;
};
export const x = (frame) => LEFT + ((frame - view.over[0]) / (view.over[1] - view.over[0])) * WIDTH;
const span = () => (view.low ? [20, 50] : [400, 40]);
const y = (f) => LOW - (Math.log(Math.max(f, span()[0]) / span()[0]) / Math.log(span()[1])) * (LOW - TOP);
export const rule = (name) => {
  const found = $$(".rule", bench()).find((r) => r.dataset.path === `${bench().dataset.path}/${name}`);
  return found ? Number(found.getAttribute("aria-valuenow")) : null;
};

export function draw() {
  const canvas = $("#spectrogram");
  if (!canvas || !view.shades) return;
  const style = getComputedStyle(document.documentElement);
  const value = (name) => style.getPropertyValue(name).trim();
  const rgb = (name) => [1, 3, 5].map((i) => parseInt(value(name).slice(i, i + 2), 16));
  const [paper, ink] = [rgb("--sheet"), rgb("--ink")];
  const ratio = 2;
  canvas.width = 660 * ratio;
  canvas.height = Number(canvas.getAttribute("data-height")) * ratio;
  const g = canvas.getContext("2d");
  const image = new ImageData(660, 150);
  for (let i = 0; i < view.shades.length; i++) {
    const s = (view.shades[i] / 255) ** 1.5;
    for (let c = 0; c < 3; c++) image.data[4 * i + c] = paper[c] + s * (ink[c] - paper[c]);
    image.data[4 * i + 3] = 255;
  }
  const small = new OffscreenCanvas(660, 150);
  small.getContext("2d").putImageData(image, 0, 0);
  g.scale(ratio, ratio);
  g.drawImage(small, LEFT, TOP, WIDTH, LOW - TOP);
  g.font = '10px "Spline Sans Mono", monospace';
  g.fillStyle = value("--pencil");
  g.textAlign = "right";
  const marks = view.low ? [[30, "30"], [60, "60"], [120, "120"], [250, "250"], [500, "500"]] : [[500, "500"], [1000, "1k"], [2000, "2k"], [5000, "5k"], [10000, "10k"]];
  for (const [f, t] of marks) g.fillText(t, 31, y(f) + 3);
  g.fillText("Hz", 14, 12);
  g.textAlign = "left";
  const [from, to] = [rule("low_hz"), rule("high_hz")];
  g.strokeStyle = value("--taken");
  g.lineWidth = 1;
  g.setLineDash([4, 3]);
  for (const f of [from, to]) if (f) line(g, LEFT, y(f), LEFT + WIDTH, y(f));
  g.setLineDash([]);
  outlines(g, value, from, to);
  if (shown() !== "apart") rows(g, value);
}

function line(g, x1, y1, x2, y2) {
  g.beginPath();
  g.moveTo(x1, y1);
  g.lineTo(x2, y2);
  g.stroke();
}

// where the events are: an outline each, its kind and excess over it
function outlines(g, value, from, to) {
  const fell = new Set((view.told.fallen ?? []).map((f) => f.start));
  let last = -100;
  for (const e of view.told.events) {
    const wide = Math.max(3, x(e.end) - x(e.start));
    const [high, low] = view.low ? [y(to ?? 120), LOW] : [y(13500), y(e.kind === "sh" ? 2600 : 3600)];
    g.strokeStyle = fell.has(e.start) ? value("--voice") : value("--taken");
    g.lineWidth = fell.has(e.start) ? 2 : view.told.events.length > 60 ? 0.6 : 1.3;
    if (e.apart) {
      g.globalAlpha = 0.22;
      g.fillStyle = value("--space");
      g.fillRect(x(e.start), high, wide, low - high);
      g.globalAlpha = 1;
      g.strokeStyle = value("--space");
    }
    g.strokeRect(x(e.start), high, wide, low - high);
    const text = view.low ? minus(e.excess_db, 0) : `${e.kind === "t" ? "t" : e.kind} ${minus(e.excess_db, 0)}`;
    if (x(e.start) - last > 34) {
      g.fillStyle = value("--taken");
      g.fillText(text, x(e.start), 12);
      last = x(e.start);
    }
  }
}

// what the stage hears, against its threshold, and what it takes off each event
function rows(g, value) {
  const threshold = rule("threshold_db");
  const at = (db) => CUT - 8 - ((Math.min(Math.max(db, OVER_DB[0]), OVER_DB[1]) - OVER_DB[0]) / (OVER_DB[1] - OVER_DB[0])) * (CUT - 8 - OVER);
  const n = view.told.over.length;
  g.fillStyle = value("--pencil");
  g.fillText("over", 6, OVER + 14);
  g.fillText("voice", 1, OVER + 25);
  g.strokeStyle = value("--pencil");
  g.lineWidth = 1;
  g.beginPath();
  view.told.over.forEach((db, i) => g.lineTo(LEFT + (i / n) * WIDTH, at(db)));
  g.stroke();
  if (threshold !== null) {
    g.strokeStyle = value("--taken");
    g.setLineDash([5, 3]);
    line(g, LEFT, at(threshold), LEFT + WIDTH, at(threshold));
    g.setLineDash([]);
  }
  g.fillStyle = value("--pencil");
  g.fillText("cut", 10, CUT + 9);
  g.fillText(`−${CUT_DB}`, 8, DEEP + 4);
  g.strokeStyle = value("--hair");
  line(g, LEFT, CUT, LEFT + WIDTH, CUT);
  let last = -100;
  for (const e of view.told.events) {
    const wide = Math.max(3, x(e.end) - x(e.start));
    g.fillStyle = value("--taken");
    const deep = Math.min(DEEP - CUT, (-e.cut_db / CUT_DB) * (DEEP - CUT));
    g.fillRect(x(e.start), CUT, wide, Math.max(deep, e.hand_db === null ? 0 : 1.5));
    if (e.hand_db !== null) {
      g.fillStyle = value("--ink");
      g.fillRect(x(e.start) + wide / 2 - 3, CUT + deep - 3, 6, 6);
    }
    if (-e.cut_db >= 0.05 && x(e.start) - last > 30) {
      g.fillStyle = value("--ink");
      if (deep > 20) g.fillText(minus(e.cut_db), x(e.start) + wide + 3, DEEP);
      else g.fillText(minus(e.cut_db), x(e.start), CUT + deep + 10);
      last = x(e.start);
    }
  }
}

on("light", draw);
