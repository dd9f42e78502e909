// The map of what stands over the voice: time by frequency, each thing that masks by a hatch of its own.

import { color } from "./strip_view.js";

export const LEFT = 44; // of the axis
const TICKS = [125, 250, 500, 1000, 2000, 4000, 8000];
const CELL_PX = 9; // what stands over the voice is drawn in cells so wide: most of it counts
const LEAST_DB = 1;
const LEAST_HZ = 142; // below it nothing tells words apart
const INKS = { music: "--music", space: "--space", voice: "--pencil" };
const SIZE = 8; // of a tile

/** Strokes of a tile of 8 by 8, as lines from x, y to x, y; a line without length is a dot. */
const HATCHES = [
  [[-2, 2, 2, -2], [0, 8, 8, 0], [6, 10, 10, 6]],
  [[2, 2, 2, 2], [6, 6, 6, 6]],
  [[0, 2, 8, 2], [0, 6, 8, 6]],
  [[-2, 6, 2, 10], [0, 0, 8, 8], [6, -2, 10, 2]],
  [[2, 0, 2, 8], [6, 0, 6, 8]],
  [[0, 4, 8, 4], [4, 0, 4, 8]],
  [[1, 3, 3, 1], [5, 7, 7, 5]],
  [[0, 0, 4, 4], [4, 4, 8, 0]],
  [[4, 4, 4, 4]],
  [[2, 1, 2, 4], [6, 5, 6, 8]],
];

/** @param {CanvasRenderingContext2D} ink @param {number} k @param {string} kind */
function hatch(ink, k, kind) {
  const tile = new OffscreenCanvas(2 * SIZE, 2 * SIZE);
  const pen = tile.getContext("2d");
  if (!pen) return "";
  pen.scale(2, 2);
  pen.strokeStyle = color(INKS[kind]);
  pen.lineWidth = 1;
  pen.lineCap = "round";
  for (const [a, b, c, d] of HATCHES[k % HATCHES.length]) {
    pen.beginPath();
    pen.moveTo(a, b);
    pen.lineTo(a === c && b === d ? c + 0.01 : c, d);
    pen.stroke();
  }
  const pattern = ink.createPattern(tile, "repeat");
  pattern?.setTransform(new DOMMatrix().scale(0.625));
  return pattern ?? "";
}

/**
 * @typedef {{ bands: number, places: number, edges_hz: number[], names: { path: string, name: string, kind: string }[], over: Int8Array,
 *   whose: Int8Array, voice: Int8Array, pockets: { path: string, stage: string, bands: number[][] }[], taken: Int8Array[] }} Planes
 */

/** @param {ArrayBuffer} bytes @returns {Planes} */
export function planesOf(bytes) {
  const length = new DataView(bytes).getUint32(0, true);
  const head = JSON.parse(new TextDecoder().decode(new Uint8Array(bytes, 4, length)));
  const size = head.bands * head.places;
  const plane = (k) => new Int8Array(bytes, 4 + length + k * size, size);
  const after = 4 + length + 3 * size;
  const bands = head.pockets.reduce((sum, p) => sum + p.bands.length, 0);
  const taken = Array.from({ length: bands }, (_, k) => new Int8Array(bytes, after + k * head.places, head.places));
  return { ...head, over: plane(0), whose: plane(1), voice: plane(2), taken };
}

/** @param {HTMLCanvasElement} canvas */
function fresh(canvas, width, height) {
  canvas.width = Math.round(width * devicePixelRatio);
  canvas.height = Math.round(height * devicePixelRatio);
  const ink = /** @type {CanvasRenderingContext2D} */ (canvas.getContext("2d"));
  ink.scale(devicePixelRatio, devicePixelRatio);
  ink.clearRect(0, 0, width, height);
  return ink;
}

/** Where a frequency stands: bands are equally high. @param {Planes} map */
export function yOf(map, hz, height) {
  const { edges_hz: edges } = map;
  const erb = (f) => Math.log10(1 + 0.00437 * f);
  return height - (height * (erb(hz) - erb(edges[0]))) / (erb(edges[edges.length - 1]) - erb(edges[0]));
}

/** @param {HTMLCanvasElement} canvas @param {Planes} map */
export function drawMap(canvas, map) {
  const width = canvas.clientWidth;
  const height = canvas.clientHeight;
  const ink = fresh(canvas, width, height);
  const wide = (width - LEFT) / Math.max(map.places, 1);
  const high = height / Math.max(map.bands, 1);
  ink.fillStyle = color("--sheet");
  ink.fillRect(LEFT, 0, width - LEFT, height);
  ink.font = "11px 'Spline Sans Mono'";
  ink.textAlign = "right";
  ink.textBaseline = "middle";
  for (const hz of TICKS) {
    const y = Math.round(yOf(map, hz, height)) + 0.5;
    ink.strokeStyle = color("--hair");
    ink.beginPath();
    ink.moveTo(LEFT, y);
    ink.lineTo(width, y);
    ink.stroke();
    ink.fillStyle = color("--pencil");
    ink.fillText(hz < 1000 ? String(hz) : `${hz / 1000}k`, LEFT - 6, Math.min(Math.max(y, 7), height - 7));
  }
  const hatches = map.names.map((n, k) => hatch(ink, k, n.kind));
  const tints = map.names.map((n) => color(INKS[n.kind]));
  const step = Math.max(1, Math.round(CELL_PX / wide));
  for (let band = 0; band < map.bands; band++) {
    const y = height - (band + 1) * high;
    const counts = map.edges_hz[band + 1] >= LEAST_HZ ? 1 : 0.35;
    runs(map, band, step, (from, to, whose, over) => {
      const strength = counts * Math.min(over / 12, 1);
      const box = [LEFT + from * wide, y, (to - from) * wide, high + 0.5];
      ink.globalAlpha = 0.06 + 0.2 * strength;
      ink.fillStyle = tints[whose];
      ink.fillRect(box[0], box[1], box[2], box[3]);
      ink.globalAlpha = 0.12 + 0.75 * strength;
      ink.fillStyle = hatches[whose];
      ink.fillRect(box[0], box[1], box[2], box[3]);
    });
  }
  ink.globalAlpha = 1;
  drawVoice(ink, map, wide, high, height);
  drawTaken(ink, map, wide, height);
}

// the voice as strokes, where it has its energy
function drawVoice(ink, map, wide, high, height) {
  ink.fillStyle = color("--voice");
  for (let band = 0; band < map.bands; band++) {
    const row = map.voice.subarray(band * map.places, (band + 1) * map.places);
    const y = height - (band + 0.5) * high - 0.8;
    for (let from = 0; from < map.places; ) {
      const shade = level(row[from]);
      let to = from + 1;
      while (to < map.places && level(row[to]) === shade) to += 1;
      if (shade) {
        ink.globalAlpha = 0.25 * shade;
        ink.fillRect(LEFT + from * wide, y, (to - from) * wide, 1.6);
      }
      from = to;
    }
  }
  ink.globalAlpha = 1;
}

// what the pockets take, hanging from the top of each of their bands as far as they are open
function drawTaken(ink, map, wide, height) {
  const inside = map.pockets.flatMap((p) => p.bands);
  ink.strokeStyle = ink.fillStyle = color("--taken");
  inside.forEach(([low, high], k) => {
    const top = Math.max(0, yOf(map, high, height));
    const tall = Math.min(height, yOf(map, low, height)) - top;
    const row = map.taken[k];
    const most = Math.max(1, ...row.map(Math.abs));
    ink.globalAlpha = 0.15;
    ink.beginPath();
    ink.moveTo(LEFT, top);
    row.forEach((gain, j) => ink.lineTo(LEFT + (j + 0.5) * wide, top + (tall * Math.abs(gain)) / most));
    ink.lineTo(LEFT + map.places * wide, top);
    ink.fill();
    ink.globalAlpha = 0.9;
    ink.lineWidth = 1.2;
    ink.stroke();
  });
  ink.globalAlpha = 1;
}

/** 0 to 4: from 32 half decibels under the loudest place up. @param {number} half */
const level = (half) => Math.max(0, Math.min(4, Math.ceil((half + 48) / 12)));

/** Stretches of a band in which one thing stands over the voice, in cells of `step` places. @param {Planes} map @param {number} band */
function runs(map, band, step, take) {
  let [begun, whose, sum, cells] = [0, -1, 0, 0];
  const end = (at) => {
    if (whose >= 0) take(begun, at, whose, sum / cells);
    [begun, whose, sum, cells] = [at, -1, 0, 0];
  };
  for (let from = 0; from < map.places; from += step) {
    const [found, over] = cell(map, band * map.places + from, Math.min(step, map.places - from));
    if (found !== whose) end(from);
    whose = found;
    sum += over;
    cells += 1;
  }
  end(map.places);
}

/** Who stands over the voice in most of some places (-1: nobody), and by how many decibels. @param {Planes} map */
function cell(map, start, count) {
  const shares = new Map();
  let over = 0;
  let places = 0;
  for (let k = start; k < start + count; k++) {
    if (map.over[k] <= 0) continue;
    shares.set(map.whose[k], (shares.get(map.whose[k]) ?? 0) + 1);
    over += map.over[k] / 2;
    places += 1;
  }
  if (2 * places <= count || over / places < LEAST_DB) return [-1, 0];
  const [whose] = [...shares].reduce((best, each) => (each[1] > best[1] ? each : best));
  return [whose, over / places];
}

/** What is at a place of the map: whose it is, by how much, and from where to where in its band. @param {Planes} map */
export function at(map, place, band) {
  const k = band * map.places + place;
  return { whose: map.over[k] > 0 ? map.names[map.whose[k]] : null, over: map.over[k] / 2, low: map.edges_hz[band], high: map.edges_hz[band + 1] };
}

/** A sample of the hatch of something. @param {HTMLElement} spot @param {Planes} map @param {string} path */
export function sample(spot, map, path) {
  const k = map.names.findIndex((n) => n.path === path);
  if (k < 0) return;
  const canvas = document.createElement("canvas");
  canvas.setAttribute("aria-hidden", "true");
  spot.replaceChildren(canvas);
  const ink = fresh(canvas, 26, 16);
  ink.globalAlpha = 0.18;
  ink.fillStyle = color(INKS[map.names[k].kind]);
  ink.fillRect(0, 0, 26, 16);
  ink.globalAlpha = 1;
  ink.fillStyle = hatch(ink, k, map.names[k].kind);
  ink.fillRect(0, 0, 26, 16);
}
