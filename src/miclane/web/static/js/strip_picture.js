// The strip drawn: raw behind treated, sibilants and breaths, a row of reduction a stage.

import { on } from "./messages.js";
import { player } from "./player.js";
import { state } from "./state.js";
import { TOP, color, row, slim, view, wave as tall, x } from "./strip_view.js";

// tall enough for a row a stage whose name can be read
function grow(rows) {
  const height = Math.min(290, Math.max(204, TOP + tall() + 26 + rows * 11));
  if (Math.abs(view.strip.clientHeight - height) < 2) return;
  view.strip.style.height = `${height}px`;
  requestAnimationFrame(draw);
}

function wave(g, low, high, left, width, middle, scale, fill) {
  g.fillStyle = fill;
  g.beginPath();
  const n = low.length;
  const half = tall() / 2;
  for (let i = 0; i < n; i++) g.lineTo(left + (i / n) * width, middle - Math.min(1, high[i] * scale) * half);
  for (let i = n - 1; i >= 0; i--) g.lineTo(left + (i / n) * width, middle - Math.max(-1, low[i] * scale) * half);
  g.closePath();
  g.fill();
}

function hatch(g) {
  const tile = document.createElement("canvas");
  tile.width = tile.height = 5;
  const t = tile.getContext("2d");
  t.strokeStyle = color("--taken");
  t.lineWidth = 1;
  t.beginPath();
  t.moveTo(-1, 6);
  t.lineTo(6, -1);
  t.stroke();
  return g.createPattern(tile, "repeat");
}

export function draw() {
  const { strip, canvas } = view;
  if (!strip?.isConnected) return;
  const ratio = devicePixelRatio || 1;
  const [w, h] = [strip.clientWidth, strip.clientHeight];
  view.width = w;
  Object.assign(strip.dataset, { first: view.first, last: view.last, marks: TOP + tall() + 8 });
  canvas.width = w * ratio;
  canvas.height = h * ratio;
  const g = canvas.getContext("2d");
  g.scale(ratio, ratio);
  g.clearRect(0, 0, w, h);
  const [la, lb] = [x(player.first), x(player.last)];
  g.fillStyle = color("--loop");
  g.fillRect(la, TOP - 4, lb - la, h - TOP + 4);
  const middle = TOP + tall() / 2;
  const raw = view.raw?.lane === state.lane ? view.raw : null;
  const loudest = raw ? raw.flat.reduce((m, v) => Math.max(m, Math.abs(v)), 0.02) : 1;
  const treated = row("treated-high");
  const top = treated ? treated.reduce((m, v) => Math.max(m, Math.abs(v)), 0.02) : 0;
  const scale = 0.96 / Math.max(loudest, top);
  if (raw) {
    const n = raw.flat.length / 2;
    wave(g, raw.flat.subarray(0, n), raw.flat.subarray(n), x(raw.first), x(raw.last) - x(raw.first), middle, scale, color("--raw-fill"));
  }
  const rows = view.rows;
  const eyesOff = document.documentElement.dataset.eyes === "off";
  if (rows && rows.lane === state.lane && treated && !eyesOff) {
    wave(g, row("treated-low"), treated, x(rows.first), x(rows.last) - x(rows.first), middle, scale, color(fillOf()));
  }
  if (state.frames && rows?.lane !== state.lane && !eyesOff) {
    g.font = '12px "Instrument Sans", sans-serif';
    g.fillStyle = color("--pencil");
    g.fillText(view.failed ? "This could not be measured; the next change tries again." : "Measuring what sounds here …", Math.max(la, 0) + 10, middle - 8);
  }
  g.strokeStyle = color("--hair");
  g.beginPath();
  g.moveTo(0, middle + 0.5);
  g.lineTo(w, middle + 0.5);
  g.stroke();
  g.font = '11px "Spline Sans Mono", monospace';
  g.fillStyle = color("--taken");
  const rowsTop = TOP + tall() + 12;
  if (!slim()) events(g, rowsTop, w);
  if (rows && rows.lane === state.lane && !eyesOff && !slim()) {
    const stages = rows.names.slice(4);
    const room = h - rowsTop - 14;
    const each = Math.min(24, room / Math.max(stages.length, 1));
    grow(stages.length);
    const fill = hatch(g);
    const [left, right] = [x(rows.first), x(rows.last)]; // asked of the page once, not for every place
    stages.forEach((id, k) => {
      const values = row(id);
      const y = rowsTop + k * each;
      g.strokeStyle = color("--hair");
      g.beginPath();
      g.moveTo(0, y + 0.5);
      g.lineTo(w, y + 0.5);
      g.stroke();
      g.beginPath();
      g.moveTo(left, y);
      for (let i = 0; i < values.length; i++) g.lineTo(left + ((i + 0.5) / values.length) * (right - left), y + Math.min(each - 2, -values[i] * (each / 12)));
      g.lineTo(right, y);
      g.closePath();
      g.fillStyle = fill;
      g.fill();
      g.strokeStyle = color("--taken");
      g.lineWidth = 0.8;
      g.stroke();
      const name = state.data.stages.find((s) => s.id === id)?.name ?? "";
      if (each > 7.5) {
        g.font = '10px "Instrument Sans", sans-serif';
        g.fillStyle = color("--pencil");
        const short = name.length > 16 ? `${name.slice(0, 15)}…` : name;
        if (la > 74) g.fillText(short, 2, y + 9);
      }
    });
  }
  g.font = '10.5px "Spline Sans Mono", monospace';
  g.fillStyle = color("--pencil");
  const label = (frame) => {
    const s = frame / state.rate;
    return `${Math.floor(s / 60)}:${String(Math.floor(s % 60)).padStart(2, "0")}`;
  };
  g.fillText(label(view.first), 2, h - 2);
  const end = label(view.last);
  g.fillText(end, w - g.measureText(end).width - 2, h - 2);
}

// sibilants, other sounds and breaths, each over a line as long as it is
function events(g, rowsTop, w) {
  let lastLabel = -20;
  /** @type {number[]} */
  const named = []; // where other sounds have their names
  g.fillStyle = color("--pencil");
  for (const b of state.data.breaths ?? []) {
    const at = x((b.start + b.end) / 2);
    if (at < 8 || at > w - 8 || x(b.end) - x(b.start) < 12) continue;
    g.fillRect(x(b.start), rowsTop - 2, x(b.end) - x(b.start), 1);
    g.fillText("br", at - 7, rowsTop - 5);
  }
  g.fillStyle = color("--taken");
  for (const m of state.data.marks ?? []) {
    if (m.kind === "s" || x(m.end) < 0 || x(m.start) > w) continue;
    g.fillRect(x(m.start), rowsTop - 2, Math.max(2, x(m.end) - x(m.start)), 2.5);
    if (x(m.start) - (named.at(-1) ?? -20) < 10) continue;
    g.fillText(m.kind, x(m.start) - 1, rowsTop - 5);
    named.push(x(m.start));
  }
  for (const e of state.data.events) {
    if (e.kind === "breath" || e.kind === "f") continue;
    const at = x((e.start + e.end) / 2);
    if (at < 0 || at > w) continue;
    g.fillRect(x(e.start), rowsTop - 2, Math.max(1.5, x(e.end) - x(e.start)), 1.5);
    if (at - lastLabel > 4 + 6 * e.kind.length && !named.some((place) => Math.abs(place - at) < 5 + 4 * e.kind.length)) {
      g.fillText(e.kind, at - 3 * e.kind.length, rowsTop - 5);
      lastLabel = at;
    }
  }
}

// whose sound it is says the colour
function fillOf() {
  const { role, lane } = state.data;
  if (role === "return") return "--space";
  if (role === "music" || lane === "bus:music") return "--music";
  return lane === "bus:mix" ? "--pencil" : "--voice-fill";
}

on("light", draw);
on("marks", draw);
