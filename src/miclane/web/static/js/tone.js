// What the EQ's bench shows and lets hear of the sound: spectra, held moments, the hunt, a band alone, bands at work.

import { $, $$, toast } from "./dom.js";
import { picture } from "./looking.js";
import { on } from "./messages.js";
import { geometry, sig, svgPoint, toHz } from "./pins.js";
import { measured, play, player } from "./player.js";
import { change } from "./session.js";
import { hearBand } from "./sides.js";
import { state } from "./state.js";

const bench = () => $("#bench");
const isEq = () => bench()?.dataset.picture === "eq";
const view = { of: "loop", held: [], token: 0, motion: null };

// ---- spectra ----

async function drawSpectrum() {
  if (!isEq() || !$("#measured")) return;
  const mine = ++view.token;
  const stage = bench().dataset.stage;
  const [first, last] = measured();
  const query = `hear=${player.hear}&first=${first}&last=${last}&of=${view.of}&at=${Math.max(0, player.at)}`;
  const answer = await picture(`/s/${state.id}/lane/${state.lane}/spectrum/${stage}?${query}`, { part: true });
  if (!answer || mine !== view.token || bench()?.dataset.stage !== stage) return;
  const spot = $("#measured");
  if (!spot) return;
  spot.innerHTML = await answer.text();
  const sung = $(".comb", spot)?.getAttribute("aria-label") ?? "";
  if ($("#sung-note")) $("#sung-note").textContent = sung && `${sung.replace(" and its harmonics", "")}.`;
}

let momentAt = 0;
on("position", () => {
  if (view.of !== "moment" || !isEq() || performance.now() - momentAt < 180) return;
  momentAt = performance.now();
  drawSpectrum();
});

function showHeld() {
  const spot = $("#eq-held");
  if (!spot) return;
  spot.innerHTML = view.held.map((h, k) => `<path class="held held-${k % 3}" d="${h.d}"/>`).join("");
  $("#drop-moments").hidden = !view.held.length;
  $("#drop-moments").textContent = view.held.length ? `Let go (${view.held.length})` : "Let go";
}

function showChoice() {
  $$("#spectrum-of button").forEach((b) => b.setAttribute("aria-checked", b.dataset.of === view.of));
}

document.addEventListener("click", (event) => {
  const at = (selector) => event.target.closest(selector);
  const choice = at("#spectrum-of button");
  if (choice) {
    view.of = choice.dataset.of;
    showChoice();
    drawSpectrum();
  } else if (at("#hold-moment")) {
    const d = $("#eq-after")?.getAttribute("d");
    if (!d) return toast("There is no spectrum to hold here.");
    view.held = [...view.held, { d }].slice(-3);
    showHeld();
  } else if (at("#drop-moments")) {
    view.held = [];
    showHeld();
  } else if (at("#hear-band")) {
    const button = at("#hear-band");
    const same = player.band && player.band.stage === button.dataset.stage && player.band.index === Number(button.dataset.band);
    hearBand(same ? null : { stage: button.dataset.stage, index: Number(button.dataset.band) });
    if (!same && !player.playing) play();
  }
});

function showHearing() {
  const button = $("#hear-band");
  if (!button) return;
  const mine = player.band && player.band.stage === button.dataset.stage && player.band.index === Number(button.dataset.band);
  button.setAttribute("aria-pressed", !!mine);
  button.textContent = mine ? "Hearing it alone" : "Hear this band";
}
on("variant", showHearing);
on("range", showHearing);

// ---- dynamic bands at work ----

async function loadMotion() {
  view.motion = null;
  const live = $("#eq-live");
  if (live) live.setAttribute("d", "");
  if (!isEq() || !$(".pin .reach")) return;
  const stage = bench().dataset.stage;
  const [first, last] = measured();
  const answer = await picture(`/s/${state.id}/lane/${state.lane}/motion/${stage}?hear=${player.hear}&first=${first}&last=${last}`);
  if (!answer || bench()?.dataset.stage !== stage) return;
  const told = await answer.json();
  if (!told.gains.length) return;
  view.motion = told;
  sayBand();
  drawLive(player.at);
}

function sayBand() {
  const spot = $("#band-level");
  const k = view.motion?.bands.indexOf(Number(bench().dataset.band)) ?? -1;
  if (!spot || k < 0) return;
  const gains = view.motion.gains[k];
  const most = gains.reduce((m, v) => (Math.abs(v) > Math.abs(m) ? v : m), 0);
  const busy = (100 * gains.filter((v) => Math.abs(v) > 0.5).length) / Math.max(gains.length, 1);
  spot.textContent = Math.abs(most) < 0.05 ? "does nothing in this loop: it never gets past the threshold" : `up to ${most.toFixed(1).replace("-", "−")} dB, at work ${busy.toFixed(0)} % of the loop`;
}

const LIVE_MS = 45;
let liveAt = 0;

function drawLive(at) {
  const m = view.motion;
  const now = performance.now();
  if (now - liveAt < LIVE_MS) return;
  liveAt = now;
  const live = $("#eq-live");
  const svg = $("#eq");
  if (!m || !live || !svg) return;
  const g = geometry(svg);
  const i = Math.floor(((at - m.first) / state.rate) * m.points_per_s);
  const total = [...m.still];
  let moved = false;
  m.gains.forEach((gains, k) => {
    const gain = gains[Math.min(Math.max(i, 0), gains.length - 1)] ?? 0;
    const rows = m.curves[k];
    const place = m.changes[k] ? Math.min(Math.max((gain / m.changes[k]) * (rows.length - 1), 0), rows.length - 1) : 0;
    const low = Math.floor(place);
    const high = Math.min(low + 1, rows.length - 1);
    if (place > 0.02) moved = true;
    for (let j = 0; j < total.length; j++) total[j] += rows[low][j] + (place - low) * (rows[high][j] - rows[low][j]);
  });
  const y = (v) => g.bottom - ((Math.min(Math.max(v, g.low), g.high) - g.low) / (g.high - g.low)) * (g.bottom - g.top);
  const d = moved ? `M${m.x.map((x, j) => `${x} ${y(total[j]).toFixed(1)}`).join("L")}` : "";
  if (live.getAttribute("d") !== d) live.setAttribute("d", d);
}
on("position", ({ at }) => view.motion && drawLive(at));

// ---- hunt ----

const hunt = { on: false, path: "", index: 0, frequency: 600, gesture: "", armed: false, by: "", /** @type {{ by: string, frequency?: number } | null} */ wish: null };
const number = (id, fallback) => {
  const v = Number($(id)?.value);
  return Number.isFinite(v) && v > 0 ? v : fallback;
};

function showHunt() {
  const spot = $("#eq-hunt");
  if (!spot) return;
  $("#hunt").setAttribute("aria-pressed", hunt.on || hunt.armed);
  $("#hunt").firstChild.textContent = hunt.on ? `Hunting at ${hunt.frequency.toFixed(0)} Hz` : hunt.armed ? "Press on the plot" : "Hunt";
  if (!hunt.on) return void (spot.innerHTML = "");
  const g = geometry($("#eq"));
  const x = g.left + (Math.log(hunt.frequency / 20) / Math.log(1000)) * (g.right - g.left);
  spot.innerHTML = `<line x1="${x}" x2="${x}" y1="${g.top}" y2="${g.bottom}"/><text x="${x}" y="${g.bottom - 18}" text-anchor="middle">${hunt.frequency.toFixed(0)} Hz</text>`;
}

function startHunt(by, frequency) {
  if (!isEq()) return toast("Open an EQ to hunt with it.");
  if (hunt.on) return;
  // what is drawn is about to be drawn again: its bands are not those there are, so it begins on those that come
  if (bench().dataset.stale) return void (hunt.wish = { by, frequency });
  hunt.wish = null;
  Object.assign(hunt, { on: true, by, gesture: `hunt@${Date.now()}`, index: $$(".pin").length, path: bench().dataset.path, frequency: frequency ?? hunt.frequency });
  const value = { shape: "bell", frequency_hz: sig(hunt.frequency), gain_db: number("#hunt-boost", 9), q: number("#hunt-q", 8) };
  if (!player.playing) play();
  change([{ op: "insert", path: `${hunt.path}/bands`, index: hunt.index, value }], { gesture: hunt.gesture }).then((told) => {
    if (told || !hunt.on) return;
    hunt.on = hunt.armed = false; // refused: there is nothing to sweep
    showHunt();
  });
  showHunt();
}

function sweep(frequency) {
  if (!hunt.on) return;
  hunt.frequency = Math.min(16000, Math.max(40, frequency));
  showHunt();
  change([{ op: "set", path: `${hunt.path}/bands/${hunt.index}/frequency_hz`, value: sig(hunt.frequency) }], { gesture: hunt.gesture });
}

function endHunt(keep) {
  if (!hunt.on) return;
  hunt.on = hunt.armed = false;
  const band = `${hunt.path}/bands/${hunt.index}`;
  const cut = [{ op: "set", path: `${band}/frequency_hz`, value: sig(hunt.frequency) }, { op: "set", path: `${band}/gain_db`, value: -number("#hunt-cut", 5) }];
  change(keep ? cut : [{ op: "remove", path: band }], { gesture: hunt.gesture, structure: true, select: { band: keep ? hunt.index : 0 } });
  showHunt();
}

const typing = (target) => target.closest?.("input, textarea, select, dialog[open], .menu");
let held = false;
document.addEventListener("keydown", (event) => {
  if (typing(event.target) || event.ctrlKey || event.metaKey || event.altKey) return;
  if (event.key.toLowerCase() === "g" && !event.repeat && !held) {
    held = true;
    startHunt("key", lastPointer());
  } else if (hunt.on && (event.key === "ArrowLeft" || event.key === "ArrowRight")) {
    event.preventDefault();
    event.stopImmediatePropagation();
    sweep(hunt.frequency * 2 ** (((event.key === "ArrowLeft" ? -1 : 1) * (event.shiftKey ? 0.25 : 1)) / 12));
  } else if (event.key === "Escape" && hunt.on) endHunt(false);
  else if (event.key === "Escape" && hunt.armed) {
    hunt.armed = false;
    showHunt();
  }
}, true);
document.addEventListener("keyup", (event) => {
  if (event.key.toLowerCase() !== "g") return;
  held = false;
  if (hunt.wish?.by === "key") hunt.wish = null;
  if (hunt.by === "key") endHunt(true);
});
// by keyboard alone: Enter on the button begins, the arrows sweep, Enter cuts; Escape, or going elsewhere, leaves it
document.addEventListener("click", (event) => {
  if (event.detail || !event.target.closest?.("#hunt")) return;
  if (hunt.on) endHunt(true);
  else startHunt("button");
});
document.addEventListener("focusout", (event) => {
  if (hunt.by !== "button" || event.target.id !== "hunt") return;
  setTimeout(() => document.activeElement?.id !== "hunt" && hunt.by === "button" && endHunt(false)); // it may have been drawn anew
});
addEventListener("blur", () => {
  held = false;
  hunt.wish = null;
  endHunt(true);
});

let pointer = null; // where the mouse is over the plot
const lastPointer = () => (pointer && $("#eq")?.matches(":hover") ? pointer : undefined);
document.addEventListener("pointermove", (event) => {
  const svg = $("#eq");
  if (!svg || !(event.target.closest?.("#eq") || hunt.by === "mouse")) return;
  pointer = toHz(geometry(svg), svgPoint(svg, event)[0]);
  if (hunt.on) sweep(pointer);
});
document.addEventListener("pointerdown", (event) => {
  if (event.button !== 0) return;
  if (event.target.closest("#hunt")) {
    hunt.armed = !hunt.armed;
    return showHunt();
  }
  const svg = event.target.closest("#eq");
  if (!svg || !hunt.armed) return;
  event.preventDefault();
  event.stopImmediatePropagation();
  svg.setPointerCapture(event.pointerId);
  startHunt("mouse", toHz(geometry(svg), svgPoint(svg, event)[0]));
}, true);
for (const end of ["pointerup", "pointercancel"]) document.addEventListener(end, () => hunt.by === "mouse" && endHunt(true));

// ---- what is drawn when ----

on("bench", ({ picture: shown }) => {
  if (hunt.armed) showHunt(); // also on a bench that was drawn anew
  if (player.band && player.band.stage !== bench().dataset.stage) hearBand(null);
  if (shown !== "eq") return void (hunt.wish = null);
  if (hunt.wish && !bench().dataset.stale) startHunt(hunt.wish.by, hunt.wish.frequency);
  showChoice();
  showHeld();
  showHearing();
  drawSpectrum();
  loadMotion();
});
