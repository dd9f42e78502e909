// The notes of a tune: found, chosen, dragged to other notes, cut, joined; and the scale they go to.

import { reloadBody } from "./bench.js";
import { $, $$ } from "./dom.js";
import { once, over } from "./focus.js";
import { moveHead } from "./heads.js";
import { on } from "./messages.js";
import { measured, player } from "./player.js";
import { change, changedBy, post, set } from "./session.js";
import { state } from "./state.js";

const LEFT = 46;
const RIGHT = 700;
const CENT = 0.01;
const FURTHEST = 12; // semitones that a note is moved
const bench = () => $("#bench");
const svg = () => $("#tune");
const here = () => bench()?.dataset.kind === "tune";
const number = (name) => Number(svg().dataset[name]);
const pathOf = (id) => `${bench().dataset.path}/notes/${id}`;
/** @param {number} midi */
const allowed = (midi) => svg().dataset.allowed.split(" ").includes(String(((midi % 12) + 12) % 12));

/** The allowed note nearest to one, or the next of them up or down. @param {number} midi @param {number} [way] */
function nearest(midi, way = 0) {
  let best = Math.round(midi);
  let least = Infinity;
  for (let m = 20; m <= 110; m++) {
    if (!allowed(m) || (way > 0 && m <= midi + CENT) || (way < 0 && m >= midi - CENT)) continue;
    if (Math.abs(m - midi) < least) [best, least] = [m, Math.abs(m - midi)];
  }
  return best;
}

/** @type {string} */
let wanted = ""; // the note that the hand is at
const bar = (id) => $(`.note-bar[data-note-id="${CSS.escape(id)}"]`);

/** @param {any} spot */
const whereIs = (spot) => Number(spot.dataset.now ?? spot.dataset.midi);

/** @param {string} id @param {number} midi @param {string} gesture @param {boolean} last */
function moveTo(id, midi, gesture, last) {
  const spot = bar(id);
  wanted = id;
  const sung = Number(spot?.dataset.sung ?? midi);
  const value = Math.round(Math.min(110, sung + FURTHEST, Math.max(20, sung - FURTHEST, midi)) * 100) / 100;
  if (spot) {
    const by = (Number(spot.dataset.midi) - value) * number("per");
    spot.setAttribute("transform", `translate(0 ${by})`);
    spot.dataset.now = String(value); // until it is drawn anew
  }
  return change([{ op: "set", path: `${pathOf(id)}/to`, value }], { gesture, structure: last });
}

/** @type {{ id: string, index: number, y: number, from: number, midi: number, gesture: string, moved: boolean } | null} */
let drag = null;
document.addEventListener("pointerdown", (event) => {
  const spot = /** @type {Element} */ (event.target).closest?.(".note-bar");
  if (!spot || event.button !== 0) return;
  event.preventDefault();
  const { noteId, note } = /** @type {any} */ (spot).dataset;
  const midi = whereIs(spot);
  /** @type {any} */ (spot).focus();
  drag = { id: noteId, index: Number(note), y: event.clientY, from: midi, midi, gesture: `note@${Date.now()}`, moved: false };
});
document.addEventListener("pointermove", (event) => {
  if (!drag || !svg()) return;
  const per = number("per") * (svg().getBoundingClientRect().height / 282);
  const by = (drag.y - event.clientY) / per;
  if (!drag.moved && Math.abs(drag.y - event.clientY) < 3) return;
  drag.moved = true;
  const midi = event.shiftKey ? drag.from + by / 4 : nearest(drag.from + by);
  if (Math.abs(midi - drag.midi) < CENT / 2) return;
  drag.midi = midi;
  moveTo(drag.id, midi, drag.gesture, false);
});
document.addEventListener("pointerup", () => {
  const done = drag;
  drag = null;
  if (!done) return;
  if (done.moved) moveTo(done.id, done.midi, done.gesture, true);
  choose(done.index);
});

let byHand = false; // whether the note of the panel was chosen, by hand or once for this loop
on("range", () => (byHand = false));

/** @param {number} index */
function choose(index) {
  if (!here()) return;
  byHand = true;
  if (Number(bench().dataset.band) === index && $("#note-panel")) return;
  wanted = $(`.note-bar[data-note="${index}"]`)?.dataset.noteId ?? wanted;
  reloadBody(undefined, index);
}

// The bars come with the picture, after the bench: the hand that had one has it again, unless it has gone elsewhere.
on("pictured", ({ picture }) => {
  if (picture !== "tune") return;
  const bars = $$(".note-bar").map((b) => Number(b.dataset.note));
  if (!byHand && bars.length && !bars.includes(Number(bench().dataset.band))) {
    byHand = true; // for this loop, whatever comes of it
    reloadBody(undefined, bars[0]); // one that is heard and seen; the hand stays where it is
  }
  if (!wanted) return;
  const at = document.activeElement;
  if (at === document.body || at?.matches(".station[aria-current]")) bar(wanted)?.focus();
});
document.addEventListener("pointerdown", (event) => {
  if (!(/** @type {Element} */ (event.target).closest?.(".note-bar"))) wanted = "";
});
document.addEventListener("keydown", (event) => {
  if (event.key === "Tab") wanted = "";
});

document.addEventListener("keydown", (event) => {
  const spot = /** @type {any} */ (event.target).closest?.(".note-bar");
  if (!spot) return;
  const way = { ArrowUp: 1, ArrowDown: -1 }[event.key];
  const beside = { ArrowRight: 1, ArrowLeft: -1 }[event.key];
  if (event.key === "Enter" || event.key === " ") choose(Number(spot.dataset.note));
  else if (event.key === "Delete") ask("found", spot.dataset.noteId);
  else if (way) {
    const midi = whereIs(spot);
    const to = event.shiftKey ? midi + way * 5 * CENT : nearest(midi, way);
    moveTo(spot.dataset.noteId, to, `note-key-${spot.dataset.noteId}`, false);
  } else if (beside) {
    const bars = $$(".note-bar");
    const other = bars[bars.indexOf(spot) + beside];
    other?.focus();
    wanted = other?.dataset.noteId ?? wanted;
  } else return;
  event.preventDefault();
  event.stopPropagation();
});

/** @param {string} does @param {string} id */
async function ask(does, id) {
  const at = player.at / state.rate;
  const told = await post(`/s/${state.id}/lane/${state.lane}/notes/${bench().dataset.stage}/${id}?does=${does}&at_s=${at.toFixed(3)}`);
  if (told) changedBy(told);
}

document.addEventListener("click", async (event) => {
  if (!here()) return;
  const at = (selector) => /** @type {any} */ (event.target).closest(selector);
  const find = at("#notes-find") ?? at("#notes-clear");
  if (find && once(find)) {
    const told = await post(`/s/${state.id}/lane/${state.lane}/notes/${bench().dataset.stage}?clear=${find.id === "notes-clear"}`);
    if (told) changedBy(told);
    over(find);
  }
  const scale = at("[data-tune-scale]");
  if (scale) set(`${bench().dataset.path}/scale`, scale.dataset.tuneScale, { structure: true });
  const to = at("[data-note-to]");
  if (to) set(`${$("#note-panel").dataset.notePath}/to`, Number(to.dataset.noteTo), { structure: true });
  const does = at("[data-note-does]");
  if (does) ask(does.dataset.noteDoes, $("#note-panel").dataset.noteId);
  const step = at("#note-before") ? -1 : at("#note-after") ? 1 : 0;
  if (step) choose(Number(bench().dataset.band) + step);
});

on("position", (told) => {
  const [first, last] = measured();
  moveHead($("#tune-head"), (frame) => LEFT + ((frame - first) / (last - first)) * (RIGHT - LEFT), [LEFT, RIGHT], told);
});
