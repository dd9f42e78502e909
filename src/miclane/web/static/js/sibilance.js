// Sibilants and plosives on the bench: cuts by hand, the lisp guard, what goes apart.

import { open } from "./bench.js";
import { $, $$, toast } from "./dom.js";
import { once, over } from "./focus.js";
import { picture } from "./looking.js";
import { on } from "./messages.js";
import { measured, play, player } from "./player.js";
import { change, changedBy, post, set } from "./session.js";
import { hearBand } from "./sides.js";
import { PICTURES, bench, draw, minus, shown, view, x } from "./spectrogram.js";
import { state } from "./state.js";

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
  choose([...view.chosen].filter(eventAt));
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
const eventAt = (start) => view.told?.events.find((o) => o.start === start);

// Cuts of single events: each start with its gain, or null to hand it back to the stage.
function byHand(gains, gesture, last) {
  let kept = JSON.parse($("#hand-data").textContent);
  for (const [start, gain] of gains) {
    const e = eventAt(start);
    if (!e) continue;
    const [from, to] = [round(e.start / state.rate), round(e.end / state.rate)];
    kept = kept.filter((p) => p.end_s <= from || p.start_s >= to);
    e.hand_db = gain === null ? null : Math.round(Math.min(6, Math.max(-24, gain)) * 10) / 10;
    if (gain === null) continue;
    kept.push({ start_s: from, end_s: to, gain_db: e.hand_db });
    e.cut_db = e.hand_db;
  }
  kept.sort((a, b) => a.start_s - b.start_s);
  $("#hand-data").textContent = JSON.stringify(kept);
  draw();
  change([{ op: "set", path: `${bench().dataset.path}/by_hand`, value: kept }], { gesture, structure: last });
}

// ---- several at once: those that are chosen, the one in the hand among them ----

const inHand = (start) => (view.chosen.has(start) ? [...view.chosen] : [start]).map(eventAt).filter(Boolean);

function choose(starts, anchor = view.anchor) {
  view.chosen = new Set(starts);
  view.anchor = anchor;
  showChosen();
}

function showChosen() {
  for (const b of $$("#events button")) b.classList.toggle("chosen", view.chosen.has(Number(b.dataset.start)));
  const count = view.chosen.size;
  if ($("#chosen-say")) $("#chosen-say").textContent = count > 1 ? `${count} chosen` : "";
  if ($("#chosen-apart")) $("#chosen-apart").disabled = !count;
}

const between = (a, b) => view.told.events.filter((e) => e.start >= Math.min(a, b) && e.start <= Math.max(a, b)).map((e) => e.start);

function pick(event, start) {
  if (event.shiftKey && view.anchor !== null && eventAt(view.anchor)) choose(between(view.anchor, start));
  else if (event.ctrlKey || event.metaKey) {
    const next = new Set(view.chosen);
    if (!next.delete(start)) next.add(start);
    choose(next, start);
  } else if (!view.chosen.has(start)) choose([start], start);
}

const WHICH = {
  s: () => view.told.events.filter((e) => e.kind !== "t" || view.low),
  worst: () => [...view.told.events].sort((a, b) => b.excess_db - a.excess_db).slice(0, 5),
  none: () => [],
};

/** Those of the loop go their own way, or come back. */
function setApart(events, away) {
  const rest = (state.data.apart ?? []).filter((a) => !events.some((e) => a.end > e.start && a.start < e.end));
  if (away) rest.push(...events.map((e) => ({ id: `a${crypto.randomUUID().slice(0, 8)}`, start: e.start, end: e.end })));
  rest.sort((a, b) => a.start - b.start);
  state.data.apart = rest;
  change([{ op: "set", path: `lanes/${state.lane}/apart`, value: rest }], { structure: true, data: true });
}

function press(event, start) {
  const e = eventAt(start);
  if (!e) return;
  const several = event.shiftKey && view.anchor !== null && eventAt(view.anchor);
  const events = several ? between(view.anchor, start).map(eventAt) : [e];
  const away = several ? eventAt(view.anchor).apart : !e.apart; // a run goes the way of the one it began with
  view.anchor = start;
  setApart(events, away);
}

function begin(starts, y) {
  view.drag = { from: starts.map((e) => [e.start, e.cut_db]), y, gesture: `hand ${crypto.randomUUID().slice(0, 8)}`, moved: false };
}
document.addEventListener("pointerdown", (event) => {
  const b = event.target.closest("#events button");
  if (!b || shown() === "apart" || event.button !== 0) return;
  event.preventDefault();
  b.focus();
  const start = Number(b.dataset.start);
  pick(event, start);
  if (event.ctrlKey || event.metaKey) return;
  b.setPointerCapture(event.pointerId);
  begin(inHand(start), event.clientY);
});
// the same by the mark in the strip; where no de-esser is open, that opens the first of the lane
on("event", ({ start, y: from }) => {
  if (shown() !== "deess" || bench().dataset.low === "1") {
    const first = $('.station[data-report="only=sibilance"]');
    if (!first) return toast("No de-esser on this lane yet: add one to cut single sibilants.");
    return open(first.dataset.stage);
  }
  if (!eventAt(start)) return toast("This sibilant is outside the loop.");
  $(`#events button[data-start="${start}"]`)?.focus();
  if (!view.chosen.has(start)) choose([start], start);
  begin(inHand(start), from);
});

// a stretch drawn over the picture chooses what lies in it
let marquee = null;
document.addEventListener("pointerdown", (event) => {
  if (event.target.id !== "spectrogram" || event.button !== 0) return;
  const box = $("#spectrogram").getBoundingClientRect();
  marquee = { box, from: event.clientX, frame: document.createElement("i") };
  marquee.frame.className = "marquee";
  $("#events-box").append(marquee.frame);
});
function stretch(event) {
  const [a, b] = [marquee.from, event.clientX].sort((p, q) => p - q).map((v) => v - marquee.box.left);
  marquee.frame.style.left = `${a}px`;
  marquee.frame.style.width = `${b - a}px`;
  return [a, b].map((v) => (660 * v) / marquee.box.width);
}
document.addEventListener("pointermove", (event) => {
  if (marquee) return void stretch(event);
  const d = view.drag;
  if (!d || (!d.moved && Math.abs(event.clientY - d.y) < 3)) return;
  d.moved = true;
  byHand(d.from.map(([start, cut]) => [start, cut - (event.clientY - d.y) / 8]), d.gesture, false);
});
document.addEventListener("pointerup", (event) => {
  if (marquee) {
    const [a, b] = stretch(event);
    marquee.frame.remove();
    marquee = null;
    const inside = b - a < 4 ? [] : view.told.events.filter((e) => x(e.end) > a && x(e.start) < b);
    if (shown() === "apart") return void (inside.length && setApart(inside, inside.some((e) => !e.apart)));
    choose(inside.map((e) => e.start), inside[0]?.start ?? null);
    if (inside.length) $(`#events button[data-start="${inside[0].start}"]`)?.focus();
    return;
  }
  const d = view.drag;
  view.drag = null;
  if (d?.moved) byHand(d.from.map(([start, cut]) => [start, cut - (event.clientY - d.y) / 8]), d.gesture, true);
});
document.addEventListener("keydown", (event) => {
  const b = event.target.closest?.("#events button");
  if (!b) return;
  const start = Number(b.dataset.start);
  const by = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
  if (by && !event.altKey) {
    const row = $$("#events button");
    const next = row[row.indexOf(b) + by];
    event.preventDefault();
    event.stopPropagation();
    if (!next) return;
    next.focus();
    if (event.shiftKey && shown() !== "apart") choose(between(view.anchor ?? start, Number(next.dataset.start)), view.anchor ?? start);
    return;
  }
  if (shown() === "apart" || !eventAt(start)) return;
  const step = event.shiftKey ? 2 : 0.5;
  const events = inHand(start);
  if (event.key === "ArrowUp" || event.key === "ArrowDown") byHand(events.map((e) => [e.start, e.cut_db + (event.key === "ArrowUp" ? step : -step)]), `hand keys ${start}`, false);
  else if (event.key === "Delete" || event.key === "Backspace") byHand(events.map((e) => [e.start, null]), "", true);
  else return;
  event.preventDefault();
  event.stopPropagation();
});

document.addEventListener("click", async (event) => {
  const at = (selector) => event.target.closest(selector);
  if (at("#events button") && shown() === "apart") return press(event, Number(at("#events button").dataset.start));
  const which = at("[data-which]");
  if (which && !view.told) toast("They are still being measured.");
  else if (which) {
    const events = WHICH[which.dataset.which]();
    if (shown() !== "apart") {
      choose(events.map((e) => e.start), events[0]?.start ?? null);
      if (events.length) $(`#events button[data-start="${events[0].start}"]`)?.focus();
    } else if (which.dataset.which === "none") setApart(view.told.events, false);
    else setApart(events, true);
  }
  if (at("#chosen-apart")) {
    const events = [...view.chosen].map(eventAt).filter(Boolean).map((e) => [e.start, e.end]);
    const told = await post(`/s/${state.id}/lane/${state.lane}/apart`, { stage: bench().dataset.stage, how: "after", events });
    if (told) changedBy(told, { data: true });
  }
  const start = at("#begin, #back");
  if (start && once(start)) {
    const told = await post(`/s/${state.id}/lane/${state.lane}/begin/${bench().dataset.stage}${start.id === "back" ? `?back=true&hear=${player.hear}&first=${measured()[0]}&last=${measured()[1]}` : ""}`);
    if (told) changedBy(told);
    else over(start);
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
