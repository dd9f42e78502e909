// Sibilants and plosives on the bench: cuts by hand, the lisp guard, what goes apart.

import { on } from "./messages.js";
import { change, changedBy, picture, post, set, state, toast, $, $$ } from "./session.js";
import { open } from "./bench.js";
import { hearBand, measured, play, player } from "./player.js";
import { PICTURES, bench, draw, minus, shown, view, x } from "./spectrogram.js";

async function refresh() {
  if (!PICTURES.includes(shown()) || !$("#spectrogram") || !state.frames) return;
  const mine = ++view.token;
  const stage = bench().dataset.stage;
  const [first, last] = measured();
  const base = `/s/${state.id}/lane/${state.lane}`;
  const over = `hear=${player.hear}&first=${first}&last=${last}`;
  const low = bench().dataset.low === "1";
  const treated = player.variant !== "untreated";
  const listens = shown() !== "apart";
  const [drawn, told] = await Promise.all([
    picture(`${base}/spectrogram/${stage}?${over}&start=${first}&stop=${last}&treated=${treated && listens}&low=${low}`),
    listens ? picture(`${base}/events/${stage}?${over}`) : null,
  ]);
  if (!drawn || mine !== view.token || bench()?.dataset.stage !== stage) return;
  const shades = new Uint8Array(await drawn.arrayBuffer());
  const answer = told ? await told.json() : null;
  if (mine !== view.token || (listens && !answer)) return;
  Object.assign(view, { told: answer, shades, over: [first, last], low });
  if (!listens) view.told = { events: within(state.data.events.filter((e) => e.kind !== "breath" && e.kind !== "f")), over: [], fallen: [], offer: null };
  draw();
  handles();
  sayWhat();
}

const within = (events) => events.filter((e) => e.end > view.over[0] && e.start < view.over[1]).map((e) => ({ ...e, apart: (state.data.apart ?? []).some((a) => a.start < e.end && a.end > e.start) }));

function handles() {
  const box = $("#events");
  if (!box) return;
  const now = document.activeElement?.closest?.("#events button")?.dataset.start;
  box.replaceChildren();
  const share = (v) => `${(100 * v) / 660}%`;
  for (const e of view.told.events) {
    const b = document.createElement("button");
    b.dataset.start = e.start;
    b.style.left = share(x(e.start) - 3);
    b.style.width = share(Math.max(9, x(e.end) - x(e.start) + 6));
    const name = e.name ?? e.kind;
    const where = `${(e.start / state.rate).toFixed(2)} s`;
    if (shown() === "apart") {
      b.setAttribute("aria-pressed", e.apart);
      b.setAttribute("aria-label", `${name} at ${where}, ${e.apart ? "goes its own way" : "stays with the voice"}`);
    } else {
      b.setAttribute("role", "slider");
      b.setAttribute("aria-valuemin", -24);
      b.setAttribute("aria-valuemax", 6);
      b.setAttribute("aria-valuenow", e.cut_db);
      b.setAttribute("aria-valuetext", `${minus(e.cut_db)} dB${e.hand_db === null ? "" : ", by hand"}`);
      b.setAttribute("aria-label", `${name} at ${where}`);
    }
    const told = [`${name}, ${minus(e.excess_db)} dB to the voice around it`];
    if (e.after_db !== undefined) told.push(`${minus(e.after_db)} after`);
    if (e.centre_hz) told.push(`centre ${(e.centre_hz / 1000).toFixed(1)} kHz`);
    if (e.hand_db !== null && e.hand_db !== undefined) told.push("cut by hand");
    b.title = told.join(" · ");
    box.append(b);
    if (String(e.start) === now) b.focus();
  }
}

function sayWhat() {
  const spot = $("#deess-say");
  if (!spot) return;
  const events = view.told.events;
  const low = view.low;
  if (!events.length) {
    spot.textContent = low ? "No plosive in this loop. Its lines of p and b are the place to set this stage." : "No sibilants in this loop. Pick a phrase with an s, sh or ch in it to set the de-esser.";
  } else if (shown() === "apart") {
    const away = events.filter((e) => e.apart).length;
    spot.textContent = `${away} of the ${events.length} sibilants in this loop go their own way. Press one to let it go or to bring it back.`;
  } else {
    const deepest = Math.max(0, ...events.map((e) => -e.cut_db));
    const what = low ? (events.length > 1 ? "plosives" : "plosive") : events.length > 1 ? "sibilants" : "sibilant";
    spot.textContent = `${events.length} ${what}, in dB over the voice around; the deepest cut is ${deepest.toFixed(1)} dB. Dashed: band, threshold.`;
  }
  const figure = $("#lisp-figure");
  if (!figure) return;
  const fell = view.told.fallen;
  const worst = fell.reduce((m, f) => (f.under_db > m.under_db ? f : m), { under_db: 0 });
  $("#lisp").classList.toggle("warn", fell.length > 0);
  $("#lisp-say").textContent = fell.length ? `${fell.length} ${fell.length > 1 ? "sibilants fall" : "sibilant falls"} too far under the voice` : "No sibilant falls too far under the voice";
  figure.textContent = fell.length ? `by ${worst.under_db.toFixed(1)} dB at ${worst.at}; the line is ${minus(view.told.line_db, 0)} dB` : `the line is ${minus(view.told.line_db, 0)} dB to the voice around`;
  const answer = $("#lisp-answer");
  answer.hidden = view.told.offer === null;
  if (view.told.offer !== null) {
    answer.dataset.value = view.told.offer;
    answer.textContent = `Cut ${view.told.offer.toFixed(1)} dB at most`;
  }
}

// ---- by hand ----

const round = (v) => Math.round(v * 1e4) / 1e4;
function byHand(start, gain, gesture, last) {
  const events = view.told.events;
  const e = events.find((o) => o.start === start);
  if (!e) return;
  const path = `${bench().dataset.path}/by_hand`;
  const old = JSON.parse($("#hand-data").textContent);
  const [from, to] = [round(e.start / state.rate), round(e.end / state.rate)];
  const kept = old.filter((p) => p.end_s <= from || p.start_s >= to);
  if (gain !== null) kept.push({ start_s: from, end_s: to, gain_db: Math.round(Math.min(6, Math.max(-24, gain)) * 10) / 10 });
  kept.sort((a, b) => a.start_s - b.start_s);
  $("#hand-data").textContent = JSON.stringify(kept);
  e.hand_db = gain === null ? null : kept.find((p) => p.start_s === from).gain_db;
  if (gain !== null) e.cut_db = e.hand_db;
  draw();
  change([{ op: "set", path, value: kept }], { gesture, structure: last });
}

function toggleApart(start) {
  const e = view.told.events.find((o) => o.start === start);
  if (!e) return;
  const rest = (state.data.apart ?? []).filter((a) => a.end <= e.start || a.start >= e.end);
  if (!e.apart) rest.push({ id: `a${crypto.randomUUID().slice(0, 8)}`, start: e.start, end: e.end });
  rest.sort((a, b) => a.start - b.start);
  state.data.apart = rest;
  change([{ op: "set", path: `lanes/${state.lane}/apart`, value: rest }], { structure: true, data: true });
}

document.addEventListener("pointerdown", (event) => {
  const b = event.target.closest("#events button");
  if (!b || shown() === "apart") return;
  event.preventDefault();
  b.focus();
  b.setPointerCapture(event.pointerId);
  const e = view.told.events.find((o) => o.start === Number(b.dataset.start));
  view.drag = { start: e.start, from: e.cut_db, y: event.clientY, gesture: `hand ${crypto.randomUUID().slice(0, 8)}`, moved: false };
});
// the same by the mark in the strip; where no de-esser is open, that opens the first of the lane
on("event", ({ start, y: from }) => {
  if (shown() !== "deess" || bench().dataset.low === "1") {
    const first = $('.station[data-report="only=sibilance"]');
    if (!first) return toast("No de-esser on this lane yet: add one to cut single sibilants.");
    return open(first.dataset.stage);
  }
  const e = view.told?.events.find((o) => o.start === start);
  if (!e) return toast("This sibilant is outside the loop.");
  $(`#events button[data-start="${start}"]`)?.focus();
  view.drag = { start, from: e.cut_db, y: from, gesture: `hand ${crypto.randomUUID().slice(0, 8)}`, moved: false };
});
document.addEventListener("pointermove", (event) => {
  const d = view.drag;
  if (!d || (!d.moved && Math.abs(event.clientY - d.y) < 3)) return;
  d.moved = true;
  byHand(d.start, d.from - (event.clientY - d.y) / 8, d.gesture, false);
});
document.addEventListener("pointerup", (event) => {
  const d = view.drag;
  view.drag = null;
  if (d?.moved) byHand(d.start, d.from - (event.clientY - d.y) / 8, d.gesture, true);
});
document.addEventListener("keydown", (event) => {
  const b = event.target.closest?.("#events button");
  if (!b || shown() === "apart") return;
  const start = Number(b.dataset.start);
  const e = view.told.events.find((o) => o.start === start);
  if (!e) return;
  const step = event.shiftKey ? 2 : 0.5;
  if (event.key === "ArrowUp" || event.key === "ArrowDown") byHand(start, e.cut_db + (event.key === "ArrowUp" ? step : -step), `hand keys ${start}`, false);
  else if (event.key === "Delete" || event.key === "Backspace") byHand(start, null, "", true);
  else return;
  event.preventDefault();
  event.stopPropagation();
});

document.addEventListener("click", async (event) => {
  const at = (selector) => event.target.closest(selector);
  if (at("#events button") && shown() === "apart") return toggleApart(Number(at("#events button").dataset.start));
  const begin = at("#begin, #back");
  if (begin) {
    begin.disabled = true;
    const told = await post(`/s/${state.id}/lane/${state.lane}/begin/${bench().dataset.stage}${begin.id === "back" ? `?back=true&hear=${player.hear}&first=${measured()[0]}&last=${measured()[1]}` : ""}`);
    if (told) changedBy(told);
    else begin.disabled = false;
  }
  if (at("#hand-clear")) set(`${bench().dataset.path}/by_hand`, [], { structure: true });
  if (at("#lisp-answer")) set(`${bench().dataset.path}/max_cut_db`, Number(at("#lisp-answer").dataset.value), { structure: true });
  const apart = at("#apart, [data-about]");
  if (apart) {
    const about = apart.dataset.about;
    const told = await post(`/s/${state.id}/lane/${state.lane}/apart`, { stage: about ?? apart.dataset.after, how: about ? "about" : "after" });
    if (told) changedBy(told, { data: true });
  }
  const part = at("[data-part]");
  if (part) {
    const index = Number(part.dataset.part);
    const same = player.band?.index === index && player.band.stage === bench().dataset.stage;
    hearBand(same ? null : { stage: bench().dataset.stage, index });
    if (!same && !player.playing) play();
  }
});

function showHearing() {
  for (const b of $$("[data-part]")) b.setAttribute("aria-pressed", !!player.band && player.band.stage === bench().dataset.stage && player.band.index === Number(b.dataset.part));
}

// ---- the balance along the chain ----

on("bench", () => {
  showHearing();
  if (!PICTURES.includes(shown())) return;
  refresh();
});
on("variant", () => {
  showHearing();
  if (PICTURES.includes(shown())) refresh();
});
