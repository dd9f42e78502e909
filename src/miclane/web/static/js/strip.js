// The phrase strip: raw behind treated, phrases, sibilants, a row of reduction a stage, loop ends, playhead.

import { on, say } from "./messages.js";
import { picture, state, $, $$, toast } from "./session.js";
import { measured, player, range, seek, unhurried } from "./player.js";

const view = { first: 0, last: 1, strip: null, canvas: null, rows: null, names: [], token: 0, loopIds: [] };
const color = (name) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();
const TOP = 24;
const WAVE = 68;

export function initStrip() {
  view.strip = $("#strip");
  if (!state.data?.phrases) return;
  view.canvas = view.strip && $("canvas", view.strip);
  view.rows = null;
  const { phrases } = state.data;
  const kept = sessionStorage.getItem(`loop:${state.id}`);
  if (player.loopedFor === state.id && player.last <= state.frames) {
    show(player.first, player.last);
  } else if (kept && JSON.parse(kept)[1] <= state.frames) {
    const [a, b] = JSON.parse(kept);
    setLoop(a, b, false);
  } else if (phrases.length) {
    const k = Math.min(3, phrases.length - 1);
    loopPhrases(k, k);
  } else setLoop(0, Math.min(state.frames, 8 * state.rate), false);
  player.loopedFor = state.id;
  layout();
  draw();
}

// the window onto the song: the loop with its neighbourhood
function show(first, last) {
  const room = Math.max((last - first) * 0.3, 1.6 * state.rate);
  view.first = Math.max(0, Math.round(first - room));
  view.last = Math.min(state.frames, Math.round(last + room));
}

export function setLoop(first, last, keepView = true) {
  const a = Math.max(0, Math.round(first));
  const b = Math.min(state.frames, Math.max(a + Math.round(0.2 * state.rate), Math.round(last)));
  if (!keepView || a < view.first || b > view.last) show(a, b);
  sessionStorage.setItem(`loop:${state.id}`, JSON.stringify([a, b]));
  const at = player.at >= a && player.at < b ? player.at : a;
  range(a, b, at);
  layout();
  load();
}

// where there is no loop yet: some phrases from the fourth on, or the first seconds of what has none
export function loopSomewhere(most) {
  const { phrases } = state.data;
  if (!phrases.length) return void range(0, Math.min(state.frames, 8 * state.rate), 0);
  const k = Math.min(3, Math.max(0, phrases.length - most));
  loopPhrases(k, Math.min(k + most - 1, phrases.length - 1));
}

// a loop of phrases runs from a little before the first to a little after the last
export function loopPhrases(from, to) {
  const { phrases } = state.data;
  const [a, b] = [Math.min(from, to), Math.max(from, to)];
  view.loopIds = [a, b];
  const before = a ? phrases[a - 1].end : 0;
  const after = b + 1 < phrases.length ? phrases[b + 1].start : state.frames;
  const lead = 0.25 * state.rate;
  const tail = 0.7 * state.rate;
  setLoop(Math.max(before + 0.03 * state.rate, phrases[a].start - lead), Math.min(after - 0.03 * state.rate, phrases[b].end + tail), false);
}

export function phraseAt(frame) {
  const { phrases } = state.data ?? { phrases: [] };
  let found = 0;
  phrases.forEach((p, i) => {
    if (p.start - 0.3 * state.rate <= frame) found = i;
  });
  return found;
}

const x = (frame) => ((frame - view.first) / (view.last - view.first)) * view.strip.clientWidth;
export const frameAt = (px) => view.first + (px / view.strip.clientWidth) * (view.last - view.first);

export function layout() {
  if (!view.strip?.isConnected) return;
  $$(".phrase, .edge", view.strip).forEach((e) => e.remove());
  const { phrases } = state.data;
  phrases.forEach((p, i) => {
    if (p.end < view.first || p.start > view.last) return;
    const box = document.createElement("button");
    box.className = "phrase";
    box.dataset.index = i;
    const left = Math.max(0, x(p.start));
    box.style.left = `${left}px`;
    box.style.width = `${Math.max(24, Math.min(view.strip.clientWidth, x(p.end)) - left)}px`;
    box.title = `${p.words || `Phrase ${i + 1}`}, ${p.lufs.toFixed(1)} LUFS raw${p.trim_db ? `, trim ${p.trim_db.toFixed(1)} dB` : ""}. Double-click or F2: words, split, join. Drag an end to move it.`;
    box.setAttribute("aria-pressed", p.start < player.last && p.end > player.first);
    const words = document.createElement("span");
    words.textContent = p.words || `phrase ${i + 1}`;
    const level = document.createElement("span");
    level.className = "mono";
    level.textContent = p.lufs.toFixed(1).replace("-", "−");
    box.append(words, level);
    box.addEventListener("click", (event) => {
      if (event.shiftKey && view.loopIds.length) loopPhrases(Math.min(view.loopIds[0], i), Math.max(view.loopIds[1], i));
      else loopPhrases(i, i);
    });
    view.strip.append(box);
  });
  for (const which of ["first", "last"]) {
    const edge = document.createElement("button");
    edge.className = "edge";
    edge.setAttribute("aria-label", which === "first" ? "Start of the loop" : "End of the loop");
    edge.style.left = `${x(player[which])}px`;
    edge.addEventListener("pointerdown", (event) => dragEdge(event, which, edge));
    edge.addEventListener("keydown", (event) => {
      const step = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
      if (!step) return;
      event.preventDefault();
      event.stopPropagation();
      const by = step * (event.shiftKey ? 0.01 : 0.1) * state.rate;
      setLoop(which === "first" ? player.first + by : player.first, which === "last" ? player.last + by : player.last);
    });
    view.strip.append(edge);
  }
  const head = $(".head", view.strip);
  head.hidden = false;
  head.style.transform = `translateX(${x(player.at)}px)`;
}

function dragEdge(event, which, edge) {
  event.preventDefault();
  edge.setPointerCapture(event.pointerId);
  let frame = player[which];
  const move = (e) => {
    frame = snap(frameAt(e.clientX - view.strip.getBoundingClientRect().left), e.altKey);
    edge.style.left = `${x(frame)}px`;
  };
  edge.addEventListener("pointermove", move);
  edge.addEventListener("pointerup", () => {
    edge.removeEventListener("pointermove", move);
    const [a, b] = which === "first" ? [frame, player.last] : [player.first, frame];
    if (b - a > 0.2 * state.rate) setLoop(a, b);
    else {
      toast("A loop needs at least 0.2 s.");
      layout();
    }
  }, { once: true });
}

function snap(frame, free) {
  if (free) return frame;
  const near = 9 * ((view.last - view.first) / view.strip.clientWidth);
  for (const p of state.data.phrases) for (const edge of [p.start, p.end]) if (Math.abs(edge - frame) < near) return edge;
  return frame;
}

// the sibilant whose mark beneath the wave is at a place in the strip
function eventAt(px, py) {
  const row = TOP + WAVE + 10;
  if (py < row - 14 || py > row + 5) return null;
  return state.data.events.find((e) => e.kind !== "breath" && e.kind !== "f" && px > x(e.start) - 4 && px < x(e.end) + 4) ?? null;
}

export async function load() {
  if (!view.strip?.isConnected || !state.frames) return;
  const token = ++view.token;
  const columns = Math.min(2000, Math.max(200, Math.round(view.strip.clientWidth)));
  const [first, last] = measured();
  const loopColumns = Math.max(16, Math.round((columns * (last - first)) / (view.last - view.first)));
  const base = `/s/${state.id}/strip?lane=${state.lane}&hear=${player.hear}`;
  try {
    if (view.rawKey !== `${state.lane}:${view.first}:${view.last}:${columns}`) {
      const raw = await fetch(`/s/${state.id}/raw?lane=${state.lane}&start=${view.first}&stop=${view.last}&columns=${columns}`);
      if (token !== view.token || !raw.ok) return;
      view.raw = new Float32Array(await raw.arrayBuffer());
      view.rawKey = `${state.lane}:${view.first}:${view.last}:${columns}`;
      draw();
    }
    const answer = await picture(`${base}&start=${first}&stop=${last}&columns=${loopColumns}`);
    if (token !== view.token) return;
    view.failed = !answer;
    if (!answer) return void draw();
    const names = answer.headers.get("x-rows").split(",").filter(Boolean);
    const flat = new Float32Array(await answer.arrayBuffer());
    view.rows = { first, last, n: names.length ? flat.length / names.length : 0, flat, names, lane: state.lane };
    draw();
  } catch {
    /* the next change loads it again */
  }
}

// tall enough for a row a stage whose name can be read
function grow(rows) {
  const height = Math.min(290, Math.max(204, TOP + WAVE + 26 + rows * 11));
  if (Math.abs(view.strip.clientHeight - height) < 2) return;
  view.strip.style.height = `${height}px`;
  requestAnimationFrame(draw);
}

function row(name) {
  const k = view.rows?.names.indexOf(name) ?? -1;
  return k < 0 ? null : view.rows.flat.subarray(k * view.rows.n, (k + 1) * view.rows.n);
}

function wave(g, low, high, left, width, middle, scale, fill) {
  g.fillStyle = fill;
  g.beginPath();
  const n = low.length;
  for (let i = 0; i < n; i++) g.lineTo(left + (i / n) * width, middle - Math.min(1, high[i] * scale) * (WAVE / 2));
  for (let i = n - 1; i >= 0; i--) g.lineTo(left + (i / n) * width, middle - Math.max(-1, low[i] * scale) * (WAVE / 2));
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
  Object.assign(strip.dataset, { first: view.first, last: view.last, marks: TOP + WAVE + 8 });
  canvas.width = w * ratio;
  canvas.height = h * ratio;
  const g = canvas.getContext("2d");
  g.scale(ratio, ratio);
  g.clearRect(0, 0, w, h);
  const [la, lb] = [x(player.first), x(player.last)];
  g.fillStyle = color("--loop");
  g.fillRect(la, TOP - 4, lb - la, h - TOP + 4);
  const middle = TOP + WAVE / 2;
  const loudest = view.raw ? view.raw.reduce((m, v) => Math.max(m, Math.abs(v)), 0.02) : 1;
  const treated = row("treated-high");
  const top = treated ? treated.reduce((m, v) => Math.max(m, Math.abs(v)), 0.02) : 0;
  const scale = 0.96 / Math.max(loudest, top);
  if (view.raw) {
    const n = view.raw.length / 2;
    wave(g, view.raw.subarray(0, n), view.raw.subarray(n), 0, w, middle, scale, color("--raw-fill"));
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
  const rowsTop = TOP + WAVE + 12;
  let lastLabel = -20;
  g.fillStyle = color("--pencil");
  for (const b of state.data.breaths ?? []) {
    const at = x((b.start + b.end) / 2);
    if (at < 8 || at > w - 8 || x(b.end) - x(b.start) < 12) continue;
    g.fillRect(x(b.start), rowsTop - 2, x(b.end) - x(b.start), 1);
    g.fillText("br", at - 7, rowsTop - 5);
  }
  g.fillStyle = color("--space");
  for (const t of state.data.throws ?? []) {
    if (x(t.end) < 0 || x(t.start) > w) continue;
    g.fillRect(x(t.start), TOP + 1, Math.max(3, x(t.end) - x(t.start)), 3);
    g.fillText(`throw to ${t.name}`, Math.max(2, x(t.start)), TOP + 14);
  }
  g.fillStyle = color("--taken");
  for (const m of state.data.marks ?? []) {
    if (m.kind === "s" || x(m.end) < 0 || x(m.start) > w) continue;
    g.fillRect(x(m.start), rowsTop - 2, Math.max(2, x(m.end) - x(m.start)), 2.5);
    g.fillText(m.kind, x(m.start) - 1, rowsTop - 5);
  }
  for (const e of state.data.events) {
    if (e.kind === "breath" || e.kind === "f") continue;
    const at = x((e.start + e.end) / 2);
    if (at < 0 || at > w) continue;
    g.fillRect(x(e.start), rowsTop - 2, Math.max(1.5, x(e.end) - x(e.start)), 1.5);
    if (at - lastLabel > 4 + 6 * e.kind.length) {
      g.fillText(e.kind, at - 3 * e.kind.length, rowsTop - 5);
      lastLabel = at;
    }
  }
  if (rows && rows.lane === state.lane && !eyesOff) {
    const stages = rows.names.slice(4);
    const room = h - rowsTop - 14;
    const each = Math.min(24, room / Math.max(stages.length, 1));
    grow(stages.length);
    const fill = hatch(g);
    stages.forEach((id, k) => {
      const values = row(id);
      const y = rowsTop + k * each;
      g.strokeStyle = color("--hair");
      g.beginPath();
      g.moveTo(0, y + 0.5);
      g.lineTo(w, y + 0.5);
      g.stroke();
      g.beginPath();
      g.moveTo(x(rows.first), y);
      for (let i = 0; i < values.length; i++) g.lineTo(x(rows.first + ((i + 0.5) / values.length) * (rows.last - rows.first)), y + Math.min(each - 2, -values[i] * (each / 12)));
      g.lineTo(x(rows.last), y);
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

// whose sound it is says the colour
function fillOf() {
  const { role, lane } = state.data;
  if (role === "return") return "--space";
  if (role === "music" || lane === "bus:music") return "--music";
  return lane === "bus:mix" ? "--pencil" : "--voice-fill";
}

document.addEventListener("pointerdown", (event) => {
  const strip = event.target.closest("#strip");
  if (!strip || event.target.closest("button")) return;
  const marked = eventAt(event.clientX - strip.getBoundingClientRect().left, event.clientY - strip.getBoundingClientRect().top);
  if (marked) {
    event.preventDefault();
    return say("event", { start: marked.start, y: event.clientY });
  }
  seek(Math.round(frameAt(event.clientX - strip.getBoundingClientRect().left)));
});
document.addEventListener("wheel", (event) => {
  const strip = event.target.closest?.("#strip");
  if (!strip || !state.data) return;
  event.preventDefault();
  const pivot = frameAt(event.clientX - strip.getBoundingClientRect().left);
  const width = view.last - view.first;
  const by = event.deltaY > 0 ? 1.25 : 0.8;
  const next = Math.min(state.frames, Math.max(1.5 * state.rate, width * by));
  if (event.shiftKey) {
    const slide = Math.sign(event.deltaY) * width * 0.15;
    view.first = Math.round(Math.max(0, Math.min(state.frames - width, view.first + slide)));
    view.last = view.first + width;
  } else {
    view.first = Math.round(Math.max(0, pivot - ((pivot - view.first) / width) * next));
    view.last = Math.round(Math.min(state.frames, view.first + next));
  }
  layout();
  draw();
  clearTimeout(view.wheel);
  view.wheel = setTimeout(load, 120);
}, { passive: false });

on("position", ({ at }) => {
  const head = view.strip?.isConnected && $(".head", view.strip);
  if (head) {
    const px = ((at - view.first) / (view.last - view.first)) * view.width;
    head.style.transform = `translateX(${px}px)`;
    const outside = px < 0 || px > view.width;
    if (head.hidden !== outside) head.hidden = outside;
  }
});
on("rendered", unhurried(load));
on("phrase", unhurried(load));
on("light", draw);
on("marks", draw);
addEventListener("resize", () => {
  layout();
  draw();
});
