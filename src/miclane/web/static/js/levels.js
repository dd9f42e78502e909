// Fader and sends that are otherwise in sections: a line over the waveform, its levels, ends and ramps dragged or moved by keys.

import { $, $$ } from "./dom.js";
import { on } from "./messages.js";
import { shown } from "./rule.js";
import { change } from "./session.js";
import { state } from "./state.js";
import { TOP, slim, view, wave, x } from "./strip_view.js";

const [LOW, HIGH] = [-36, 12];
const LABEL = 150;
const LONGEST_MS = 60_000;
const NS = "http://www.w3.org/2000/svg";

const y = (db) => TOP + wave() * (1 - (Math.min(Math.max(db, LOW), HIGH) - LOW) / (HIGH - LOW));
const dbAt = (py) => LOW + (1 - (py - TOP) / wave()) * (HIGH - LOW);
const words = (line, s) => `${line.label} ${shown(s.value, "dB", true).join(" ")}, ${s.where}`;

/** The line of one level, from where it leaves the song's level to where it is back. */
function pathOf(line) {
  const points = [[view.first, line.level_db]];
  line.stretches.forEach((s, k) => {
    const before = line.stretches[k - 1];
    if (!before || before.end[1] <= s.begin[0]) points.push([s.begin[0], line.level_db]);
    points.push([s.begin[1], s.value], [Math.max(s.begin[1], s.end[0]), s.value]);
    const next = line.stretches[k + 1];
    if (!s.open && (!next || next.begin[0] >= s.end[1])) points.push([s.end[1], line.level_db]);
  });
  const last = line.stretches.at(-1);
  points.push([Math.max(view.last, points.at(-1)[0]), last.open ? last.value : line.level_db]);
  return points.map(([frame, db], k) => `${k ? "L" : "M"}${x(frame).toFixed(1)} ${y(db).toFixed(1)}`).join("");
}

function handle(kind, line, s, left, top, title, width) {
  const button = document.createElement("button");
  button.type = "button";
  button.className = `level ${kind}${line.label.startsWith("to ") ? " of-space" : ""}`;
  Object.assign(button.dataset, { kind, line: line.path, local: s.id });
  button.style.left = `${left}px`;
  button.style.top = `${top}px`;
  if (width !== undefined) button.style.width = `${width}px`;
  button.title = title;
  button.setAttribute("aria-label", title.split(". ")[0]);
  view.strip.append(button);
  return button;
}

export function layLevels() {
  if (!view.strip?.isConnected) return;
  const had = document.activeElement?.matches?.(".strip .level") ? { ...document.activeElement.dataset } : null;
  $$(".level, svg.levels", view.strip).forEach((e) => e.remove());
  const lines = state.data?.levels ?? [];
  if (!lines.length || slim()) return;
  const svg = document.createElementNS(NS, "svg");
  svg.setAttribute("class", "levels");
  svg.setAttribute("aria-hidden", "true");
  view.strip.append(svg);
  for (const [k, line] of lines.entries()) {
    if (!line.stretches.length) continue;
    const path = document.createElementNS(NS, "path");
    path.setAttribute("d", pathOf(line));
    path.setAttribute("class", line.label.startsWith("to ") ? "of-space" : "");
    svg.append(path);
    for (const s of line.stretches) {
      if (s.end[1] < view.first || s.begin[0] > view.last) continue;
      const [a, b] = [x(s.begin[1]), x(Math.max(s.begin[1], s.end[0]))];
      const left = Math.max(a, 0);
      const flat = handle("flat", line, s, left, y(s.value) - 7, `${words(line, s)}. Drag up or down, or ↑ ↓; Alt ← → moves its start, with Shift its end; Delete sets it as the song.`, Math.max(12, Math.min(b, view.strip.clientWidth) - left));
      const label = document.createElement("span");
      label.textContent = words(line, s);
      label.style.left = `${24 + LABEL * k}px`; // so that none hides another
      flat.append(label);
      const middles = [x((s.begin[0] + s.begin[1]) / 2), x((s.end[0] + s.end[1]) / 2)];
      const half = (y(s.value) + y(line.level_db)) / 2;
      handle("begins", line, s, middles[0] - 5, half - 5, `Where ${words(line, s)}, begins. Drag it, or ← →.`);
      handle("ramp_in", line, s, a + 6, y(s.value) - 4, `How long ${words(line, s)}, takes to come. Drag it, or ← →.`);
      if (s.open) continue;
      handle("ends", line, s, middles[1] - 5, half - 5, `Where ${words(line, s)}, ends. Drag it, or ← →.`);
      handle("ramp_out", line, s, b - 14, y(s.value) - 4, `How long ${words(line, s)}, takes to go. Drag it, or ← →.`);
    }
  }
  if (had) $(`.level[data-kind="${had.kind}"][data-local="${CSS.escape(had.local)}"]`, view.strip)?.focus({ preventScroll: true });
}
on("throws", layLevels);

function find(button) {
  const line = state.data.levels.find((l) => l.path === button.dataset.line);
  return { line, all: line.stretches.filter((s) => s.id === button.dataset.local) };
}

const held = (value, least, most) => Math.min(Math.max(value, least), most);

/** What a handle does by so many frames and dB, from how it was when it was taken hold of; the edits of that. */
function moved(kind, line, all, was, frames, db) {
  const ms = (1000 * frames) / state.rate;
  const s = all[0];
  /** @type {[string, number][]} */
  const set = [];
  if (kind === "flat") set.push(["value", Math.round(10 * held(was.value + db, -60, 12)) / 10]);
  if (kind === "begins" || kind === "ends") set.push([`${kind}_ms`, Math.round(held(was[`${kind}_ms`] + ms, -LONGEST_MS, LONGEST_MS))]);
  if (kind === "ramp_in") set.push([kind, Math.round(held(was.long_in + 2 * ms, 2, 30_000))]);
  if (kind === "ramp_out") set.push([kind, Math.round(held(was.long_out - 2 * ms, 2, 30_000))]);
  const [name, value] = set[0];
  const field = kind.startsWith("ramp") ? `${name}_ms` : name;
  const begun = s[field];
  all.forEach((each) => {
    each[field] = value;
    const edge = kind.endsWith("s") ? (kind === "begins" ? each.begin : each.end) : kind === "ramp_in" ? each.begin : each.end;
    if (kind === "begins" || kind === "ends") for (const k of [0, 1]) edge[k] += ((value - begun) * state.rate) / 1000;
    else if (kind !== "flat") {
      const middle = (edge[0] + edge[1]) / 2;
      const half = (value * state.rate) / 2000;
      edge[0] = middle - half;
      edge[1] = middle + half;
    }
  });
  layLevels();
  return [{ op: "set", path: `local_values/${s.id}/${field}`, value }];
}

const told = (s, rate) => ({ ...s, long_in: (1000 * (s.begin[1] - s.begin[0])) / rate, long_out: (1000 * (s.end[1] - s.end[0])) / rate });

/** @type {any} */
let drag = null;
document.addEventListener("pointerdown", (event) => {
  const button = event.target.closest?.(".strip .level");
  if (!button || event.button !== 0) return;
  event.preventDefault();
  event.stopPropagation();
  button.focus();
  const { line, all } = find(button);
  drag = { kind: button.dataset.kind, line, all, was: told(all[0], state.rate), x: event.clientX, y: event.clientY, gesture: `level ${all[0].id}@${Date.now()}`, moved: false };
}, true);
function pulled(event, last) {
  const frames = ((event.clientX - drag.x) / view.strip.clientWidth) * (view.last - view.first);
  const db = dbAt(event.clientY) - dbAt(drag.y);
  const edits = moved(drag.kind, drag.line, drag.all, drag.was, frames, event.shiftKey ? db / 10 : db);
  change(edits, { gesture: drag.gesture, structure: last, data: last, where: "", alternative: "" });
}
document.addEventListener("pointermove", (event) => {
  if (!drag || (!drag.moved && Math.hypot(event.clientX - drag.x, event.clientY - drag.y) < 3)) return;
  drag.moved = true;
  pulled(event, false);
});
document.addEventListener("pointerup", (event) => {
  if (drag?.moved) pulled(event, true);
  drag = null;
});
document.addEventListener("pointercancel", () => (drag = null));

const STEP_S = 0.02;
let keyGesture = "";
let keyTimer = 0;
document.addEventListener("keydown", (event) => {
  const button = event.target.closest?.(".strip .level");
  if (!button) return;
  const { line, all } = find(button);
  let { kind } = button.dataset;
  if (event.key === "Delete") change([{ op: "remove", path: `local_values/${all[0].id}` }], { structure: true, data: true, where: "", alternative: "" });
  else {
    const along = { ArrowLeft: -1, ArrowRight: 1 }[event.key] ?? 0;
    const up = { ArrowDown: -0.5, ArrowUp: 0.5 }[event.key] ?? 0;
    if (event.ctrlKey || event.metaKey || !(along || up)) return;
    if (kind === "flat" && along) {
      if (!event.altKey) return;
      kind = event.shiftKey ? "ends" : "begins";
    }
    clearTimeout(keyTimer);
    keyGesture ||= `level keys ${all[0].id}@${Date.now()}`;
    const fine = event.shiftKey && kind !== "ends" ? 0.1 : 1;
    const edits = moved(kind, line, all, told(all[0], state.rate), along * STEP_S * state.rate * fine, up * fine);
    change(edits, { gesture: keyGesture, where: "", alternative: "" });
    keyTimer = setTimeout(() => (keyGesture = ""), 900);
  }
  event.preventDefault();
  event.stopPropagation();
});
