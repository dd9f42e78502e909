// Sibilants and plosives: their spectrogram, what a stage hears of each and takes off it, cuts by hand, the lisp guard,
// the balance along the chain, sibilants apart.

import { on } from "./messages.js";
import { change, changedBy, picture, post, set, state, toast, $, $$ } from "./session.js";
import { open } from "./bench.js";
import { hearBand, measured, play, player, unhurried } from "./player.js";

const PICTURES = ["deess", "apart"];
const LEFT = 36;
const WIDTH = 620;
const [TOP, LOW] = [16, 166]; // of the spectrogram
const [OVER, CUT, DEEP] = [176, 222, 256]; // rows beneath: what is heard, what is cut
const OVER_DB = [-30, 6];
const CUT_DB = 12;
const view = { token: 0, told: null, shades: null, over: [0, 1], low: false, drag: null };

const bench = () => $("#bench");
const shown = () => bench()?.dataset.picture ?? "";
const minus = (v, digits = 1) => {
  const shown = Math.abs(v).toFixed(digits);
  return Number(shown) === 0 ? shown : `${v < 0 ? "−" : "+"}${shown}`;
};
const x = (frame) => LEFT + ((frame - view.over[0]) / (view.over[1] - view.over[0])) * WIDTH;
const span = () => (view.low ? [20, 50] : [400, 40]);
const y = (f) => LOW - (Math.log(Math.max(f, span()[0]) / span()[0]) / Math.log(span()[1])) * (LOW - TOP);
const rule = (name) => {
  const found = $$(".rule", bench()).find((r) => r.dataset.path === `${bench().dataset.path}/${name}`);
  return found ? Number(found.getAttribute("aria-valuenow")) : null;
};

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

function draw() {
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

async function drawBalance() {
  const row = $("#balance");
  if (!row || !state.frames || !player.last || player.hear === "return") return;
  const [first, last] = measured();
  const answer = await picture(`/s/${state.id}/lane/${state.lane}/balance?hear=${player.hear}&first=${first}&last=${last}`);
  if (!answer || !row.isConnected) return;
  const told = await answer.json();
  row.hidden = !told.stations.length;
  row.replaceChildren();
  if (row.hidden) return;
  const by = Object.fromEntries(told.raised.map((r) => [r.id, r.by]));
  const name = document.createElement("span");
  name.className = "name";
  name.textContent = "s to voice";
  const at = (id) => Number($(`.station[data-stage="${CSS.escape(id)}"]`)?.dataset.x ?? 26);
  for (const s of told.stations) {
    const spot = document.createElement("span");
    spot.className = by[s.id] ? "mono raised" : "mono";
    spot.style.left = `${s.id === "take" ? 27 : at(s.id)}px`;
    spot.textContent = minus(s.db);
    spot.title = by[s.id] ? `${s.name} raises the sibilants by ${by[s.id].toFixed(1)} dB against the voice` : `sibilants to voice after ${s.name}, dB`;
    row.append(spot);
  }
  const most = told.raised.reduce((m, r) => (!m || r.by > m.by ? r : m), null);
  name.textContent = most ? `dB, s to voice; ${most.name} +${most.by.toFixed(1)}` : "dB, s to voice";
  name.title = told.raised.map((r) => `${r.name} raises the sibilants by ${r.by.toFixed(1)} dB`).join("; ") || "no stage raises the sibilants against the voice";
  row.append(name);
  document.body.dataset.balance = String(state.version);
}

on("bench", () => {
  drawBalance();
  showHearing();
  if (!PICTURES.includes(shown())) return;
  refresh();
});
on("variant", () => {
  showHearing();
  if (PICTURES.includes(shown())) refresh();
});
on("light", draw);
on("rendered", unhurried(drawBalance));
on("phrase", unhurried(drawBalance));
