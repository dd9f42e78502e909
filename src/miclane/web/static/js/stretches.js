// A stretch of the strip, drawn over it with Shift or taken from the loop: made a phrase, looped, or thrown to a return.

import { $, $$, toast } from "./dom.js";
import { openMenu } from "./menu.js";
import { on } from "./messages.js";
import { player } from "./player.js";
import { change } from "./session.js";
import { state } from "./state.js";
import { setLoop } from "./strip.js";
import { TOP, frameAt, view, x } from "./strip_view.js";

const LEAST_S = 0.08;
const short = () => crypto.randomUUID().slice(0, 8);

/** A phrase where none was found, as far as its neighbours leave room. @param {number} first @param {number} last */
export function makePhrase(first, last) {
  const { phrases, phrases_of: lane } = state.data;
  if (!lane) return void toast("There is no voice here whose phrase it could be.");
  const middle = (first + last) / 2;
  if (phrases.some((p) => p.start <= middle && middle <= p.end)) return void toast("There is a phrase there already: drag its ends, or split it with S.");
  const index = phrases.filter((p) => p.end <= middle).length;
  const start = Math.round(Math.max(first, index ? phrases[index - 1].end : 0));
  const end = Math.round(Math.min(last, index < phrases.length ? phrases[index].start : state.frames));
  if (end - start < LEAST_S * state.rate) return void toast(`A phrase needs at least ${LEAST_S} s.`);
  change([{ op: "insert", path: `lanes/${lane}/phrases`, index, value: { id: `p${short()}`, start, end } }], { structure: true, data: true });
}

/** A send opened over a stretch; a lane that does not send there yet sends nothing but that. */
function throwTo(ret, first, last) {
  const value = { id: `t${short()}`, start_s: first / state.rate, end_s: last / state.rate, level_db: -3 };
  const sends = `lanes/${state.lane}/sends`;
  /** @type {import("./queue.js").Edit} */
  const edit = ret.sent
    ? { op: "insert", path: `${sends}/${ret.id}/throws`, index: 99, value }
    : { op: "insert", path: sends, index: 99, value: { id: ret.id, level_db: -60, throws: [value] } };
  change([edit], { structure: true, data: true });
}

/** What can be done with a stretch, as a menu at a place in the page. */
export function menuFor(first, last, x, y, back) {
  const items = [{ words: "Loop it", act: () => setLoop(first, last) }];
  if (state.data.phrases_of === state.lane) items.push({ words: "Make it a phrase", act: () => makePhrase(first, last) });
  if (!state.lane.includes(":")) for (const ret of state.data.returns) items.push({ words: `Throw it to ${ret.name}`, act: () => throwTo(ret, first, last) });
  openMenu(items, { x, y, label: `From ${(first / state.rate).toFixed(2)} s to ${(last / state.rate).toFixed(2)} s`, back });
}

/** What can be done with the loop, by keyboard. */
function stretchMenu() {
  const box = view.strip?.getBoundingClientRect();
  if (box) menuFor(player.first, player.last, box.left + Math.max(0, x(player.first)), box.top + 40, document.activeElement);
}

on("to-stretch", stretchMenu);

/** @type {{ from: number, box: DOMRect, band: HTMLElement } | null} */
let drag = null;
document.addEventListener("pointerdown", (event) => {
  const strip = event.target.closest?.("#strip");
  if (!strip || event.button !== 0 || event.target.closest("button")) return;
  const box = strip.getBoundingClientRect();
  if (!event.shiftKey && event.clientY - box.top >= TOP - 4) return; // above the waveform a stretch begins by itself
  event.preventDefault();
  event.stopPropagation();
  const band = document.createElement("i");
  band.className = "stretch";
  strip.append(band);
  drag = { from: event.clientX, box, band };
}, true);
const span = (event) => [drag.from, event.clientX].map((v) => Math.min(Math.max(v - drag.box.left, 0), drag.box.width)).sort((a, b) => a - b);
document.addEventListener("pointermove", (event) => {
  if (!drag) return;
  const [a, b] = span(event);
  drag.band.style.left = `${a}px`;
  drag.band.style.width = `${b - a}px`;
});
document.addEventListener("pointerup", (event) => {
  if (!drag) return;
  const [a, b] = span(event).map(frameAt);
  const band = drag.band;
  drag = null;
  if (b - a < LEAST_S * state.rate) return void band.remove();
  menuFor(Math.round(a), Math.round(b), event.clientX, event.clientY + 8, null);
});
// ---- throws in the strip: ends and ramps dragged, moved by keys, taken away ----

const EDGE = 6;
export function layThrows() {
  if (!view.strip?.isConnected) return;
  const focused = document.activeElement?.dataset?.throw;
  $$(".throw", view.strip).forEach((e) => e.remove());
  (state.data.throws ?? []).forEach((t, k) => {
    if (t.end < view.first || t.start > view.last) return;
    const box = document.createElement("button");
    box.className = "throw";
    box.dataset.throw = String(k);
    box.style.left = `${x(t.start)}px`;
    box.style.width = `${Math.max(14, x(t.end) - x(t.start))}px`;
    box.textContent = `throw to ${t.name}`;
    box.title = `${((t.end - t.start) / state.rate).toFixed(2)} s to ${t.name}, ramps of ${t.ramp_ms.toFixed(0)} ms. Drag an end, or the top right corner for the ramps; Alt ← → moves its start, with Shift its end; Delete takes it away.`;
    const ramp = document.createElement("i");
    ramp.style.width = `${Math.max(5, x(t.start + (t.ramp_ms / 1000) * state.rate) - x(t.start))}px`;
    box.append(ramp);
    view.strip.append(box);
    if (focused === String(k)) box.focus({ preventScroll: true });
  });
  const next = $(".throw, .edge", view.strip); // the throw that had the focus may be gone
  if (focused !== undefined && !view.strip.contains(document.activeElement)) next?.focus({ preventScroll: true });
}
on("throws", layThrows);

function setEnds(k, start, end, gesture, last) {
  const t = state.data.throws[k];
  t.start = Math.max(0, Math.min(start, t.end - 0.02 * state.rate));
  t.end = Math.max(end, t.start + 0.02 * state.rate);
  layThrows();
  /** @type {import("./queue.js").Edit[]} */
  const edits = [
    { op: "set", path: `${t.path}/start_s`, value: t.start / state.rate },
    { op: "set", path: `${t.path}/end_s`, value: t.end / state.rate },
  ];
  change(edits, { gesture, structure: last });
}

let held = null;
document.addEventListener("pointerdown", (event) => {
  const box = event.target.closest?.(".throw");
  if (!box || event.button !== 0) return;
  event.preventDefault();
  event.stopPropagation();
  box.focus();
  const r = box.getBoundingClientRect();
  const k = Number(box.dataset.throw);
  const t = state.data.throws[k];
  const which = event.target.closest("i") ? "ramp" : event.clientX - r.left < EDGE ? "start" : r.right - event.clientX < EDGE ? "end" : "both";
  held = { path: t.path, which, x: event.clientX, start: t.start, end: t.end, ramp: t.ramp_ms, gesture: `throw@${Date.now()}`, moved: false };
}, true);
function pulled(event, last) {
  const { path, which, start, end, ramp, gesture } = held;
  const k = state.data.throws.findIndex((t) => t.path === path); // where it stands by now
  if (k < 0) return undefined;
  const by = ((event.clientX - held.x) / view.strip.clientWidth) * (view.last - view.first);
  if (which === "ramp") {
    const t = state.data.throws[k];
    t.ramp_ms = Math.round(Math.min(500, Math.max(2, ramp + (1000 * by) / state.rate)));
    layThrows();
    return change([{ op: "set", path: `${t.send}/ramp_ms`, value: t.ramp_ms }], { gesture, structure: last });
  }
  return setEnds(k, which === "end" ? start : start + by, which === "start" ? end : end + by, gesture, last);
}
document.addEventListener("pointermove", (event) => {
  if (!held || (!held.moved && Math.abs(event.clientX - held.x) < 3)) return;
  held.moved = true;
  pulled(event, false);
});
document.addEventListener("pointerup", (event) => {
  if (held?.moved) pulled(event, true);
  held = null;
});
document.addEventListener("keydown", (event) => {
  const box = event.target.closest?.(".throw");
  if (!box) return;
  const t = state.data.throws[Number(box.dataset.throw)];
  const by = { ArrowLeft: -0.02, ArrowRight: 0.02 }[event.key];
  if (event.key === "Delete") change([{ op: "remove", path: t.path }], { structure: true, data: true });
  else if (by && event.altKey) setEnds(Number(box.dataset.throw), t.start + (event.shiftKey ? 0 : by * state.rate), t.end + (event.shiftKey ? by * state.rate : 0), `throw keys ${t.path}`, false);
  else return;
  event.preventDefault();
  event.stopPropagation();
});
