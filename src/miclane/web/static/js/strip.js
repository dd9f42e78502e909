// The phrase strip: its loop, its phrases, its ends and its playhead.

import { $, $$, toast } from "./dom.js";
import { holdOn } from "./focus.js";
import { moveHead } from "./heads.js";
import { freshPage, picture } from "./looking.js";
import { on, say } from "./messages.js";
import { measured, player, range, seek, unhurried } from "./player.js";
import { state } from "./state.js";
import { draw } from "./strip_picture.js";
import { TOP, frameAt, slim, view, wave, x } from "./strip_view.js";

const NARROW = 64; // what a phrase is called and how loud it is need more room

export function initStrip() {
  view.strip = $("#strip");
  if (!view.strip || !state.data?.phrases) return;
  view.canvas = view.strip && $("canvas", view.strip);
  view.rows = null;
  const { phrases } = state.data;
  const kept = keptLoop();
  if (player.loopedFor === state.id && player.last <= state.frames) {
    show(player.first, player.last);
  } else if (kept) {
    setLoop(...kept, false);
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

/** The first and last phrase of the loop, where it is one of phrases. */
export const looped = () => (view.loopIds.length ? view.loopIds : null);

export function setLoop(first, last, keepView = true, phrases = []) {
  view.loopIds = phrases;
  const a = Math.max(0, Math.round(first));
  const b = Math.min(state.frames, Math.max(a + Math.round(0.2 * state.rate), Math.round(last)));
  if (!keepView || a < view.first || b > view.last) show(a, b);
  sessionStorage.setItem(`loop:${state.id}`, JSON.stringify([a, b]));
  const at = player.at >= a && player.at < b ? player.at : a;
  range(a, b, at);
  layout();
  draw();
  load();
}

/** The loop that this window had of the session, if it still fits. @returns {[number, number] | null} */
function keptLoop() {
  const kept = JSON.parse(sessionStorage.getItem(`loop:${state.id}`) ?? "null");
  return kept && kept[1] <= state.frames ? kept : null;
}

// where there is no loop yet: the one that was, some phrases from the fourth on, or the first seconds of what has none
export function loopSomewhere(most) {
  const { phrases } = state.data;
  const kept = keptLoop();
  if (kept) return void range(...kept);
  if (!phrases.length) return void range(0, Math.min(state.frames, 8 * state.rate), 0);
  const k = Math.min(3, Math.max(0, phrases.length - most));
  loopPhrases(k, Math.min(k + most - 1, phrases.length - 1));
}

// a loop of phrases runs from a little before the first to a little after the last
export function loopPhrases(from, to) {
  const { phrases } = state.data;
  const [a, b] = [Math.min(from, to), Math.max(from, to)];
  const before = a ? phrases[a - 1].end : 0;
  const after = b + 1 < phrases.length ? phrases[b + 1].start : state.frames;
  const lead = 0.25 * state.rate;
  const tail = 0.7 * state.rate;
  setLoop(Math.max(before + 0.03 * state.rate, phrases[a].start - lead), Math.min(after - 0.03 * state.rate, phrases[b].end + tail), false, [a, b]);
}

export function phraseAt(frame) {
  const { phrases } = state.data ?? { phrases: [] };
  let found = 0;
  phrases.forEach((p, i) => {
    if (p.start - 0.3 * state.rate <= frame) found = i;
  });
  return found;
}

export function layout() {
  if (!view.strip?.isConnected) return;
  const focused = document.activeElement;
  const back = focused?.matches?.(".strip .phrase, .strip .edge") ? (focused.dataset.index ? `.phrase[data-index="${focused.dataset.index}"]` : `.edge[data-edge="${focused.dataset.edge}"]`) : "";
  $$(".phrase, .edge", view.strip).forEach((e) => e.remove());
  const { phrases } = state.data;
  phrases.forEach((p, i) => {
    if (p.end < view.first || p.start > view.last) return;
    const box = document.createElement("button");
    box.className = "phrase";
    box.dataset.index = i;
    const left = Math.max(0, x(p.start));
    box.style.left = `${left}px`;
    const width = Math.max(24, Math.min(view.strip.clientWidth, x(p.end)) - left);
    box.style.width = `${width}px`;
    box.title = `${p.words || `Phrase ${i + 1}`}, ${p.lufs.toFixed(1)} LUFS raw${p.trim_db ? `, trim ${p.trim_db.toFixed(1)} dB` : ""}. Double-click or F2: words, split, join. Drag an end to move it.`;
    box.setAttribute("aria-pressed", p.start < player.last && p.end > player.first);
    const words = document.createElement("span");
    words.textContent = p.words || `phrase ${i + 1}`;
    const level = document.createElement("span");
    level.className = "mono";
    level.textContent = p.lufs.toFixed(1).replace("-", "−");
    box.classList.toggle("narrow", width < NARROW);
    if (width < NARROW) words.textContent = String(i + 1);
    box.append(words, ...(width < NARROW ? [] : [level]));
    box.addEventListener("click", (event) => {
      if (event.shiftKey && view.loopIds.length) loopPhrases(Math.min(view.loopIds[0], i), Math.max(view.loopIds[1], i));
      else loopPhrases(i, i);
    });
    view.strip.append(box);
  });
  for (const which of ["first", "last"]) {
    const edge = document.createElement("button");
    edge.className = "edge";
    edge.dataset.edge = which;
    const at = (player[which] / state.rate).toFixed(2);
    for (const [name, value] of Object.entries({ role: "slider", "aria-valuemin": 0, "aria-valuemax": (state.frames / state.rate).toFixed(2), "aria-valuenow": at, "aria-valuetext": `${at} s` })) edge.setAttribute(name, String(value));
    edge.setAttribute("aria-label", which === "first" ? "Start of the loop" : "End of the loop");
    edge.style.left = `${x(player[which])}px`;
    edge.addEventListener("pointerdown", (event) => dragEdge(event, which));
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
  say("throws");
  holdOn();
  if (back) $(back, view.strip)?.focus({ preventScroll: true });
  $(".head", view.strip).hidden = false;
  view.width = view.strip.clientWidth;
  head(player);
}

// The edges may be laid out anew while one is dragged: what moves is whichever stands for it.
function dragEdge(event, which) {
  event.preventDefault();
  event.currentTarget.setPointerCapture(event.pointerId);
  let frame = player[which];
  const over = new AbortController();
  const { signal } = over;
  document.addEventListener("pointermove", (e) => {
    frame = snap(frameAt(e.clientX - view.strip.getBoundingClientRect().left), e.altKey);
    const edge = $(`.edge[data-edge="${which}"]`, view.strip);
    if (edge) edge.style.left = `${x(frame)}px`;
  }, { signal });
  document.addEventListener("pointerup", () => {
    over.abort();
    const [a, b] = which === "first" ? [frame, player.last] : [player.first, frame];
    if (b - a > 0.2 * state.rate) return void setLoop(a, b);
    toast("A loop needs at least 0.2 s.");
    layout();
  }, { signal });
  document.addEventListener("pointercancel", () => (over.abort(), layout()), { signal });
}

function snap(frame, free) {
  if (free) return frame;
  const near = 9 * ((view.last - view.first) / view.strip.clientWidth);
  for (const p of state.data.phrases) for (const edge of [p.start, p.end]) if (Math.abs(edge - frame) < near) return edge;
  return frame;
}

// the sibilant whose mark beneath the wave is at a place in the strip
function eventAt(px, py) {
  const row = TOP + wave() + 10;
  if (slim() || py < row - 14 || py > row + 5) return null;
  return state.data.events.find((e) => e.kind !== "breath" && e.kind !== "f" && px > x(e.start) - 4 && px < x(e.end) + 4) ?? null;
}

export async function load() {
  if (!view.strip?.isConnected || !state.frames) return;
  const token = ++view.token;
  const columns = Math.min(2000, Math.max(200, Math.round(view.strip.clientWidth)));
  const [first, last] = measured();
  const loopColumns = Math.max(16, Math.round((columns * (last - first)) / (view.last - view.first)));
  const { first: from, last: to } = view; // the wheel may move on before the answer is there
  const key = `${state.lane}:${from}:${to}:${columns}`;
  const base = `/s/${state.id}/strip?lane=${state.lane}&hear=${player.hear}`;
  try {
    if (view.raw?.key !== key) {
      const raw = await picture(`/s/${state.id}/raw?lane=${state.lane}&start=${from}&stop=${to}&columns=${columns}`);
      if (token !== view.token) return;
      if (!raw) return void draw();
      view.raw = { key, lane: state.lane, first: from, last: to, flat: new Float32Array(await raw.arrayBuffer()) };
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

/** Phrases, throws and names as the server has them now: after an undo or in another window they may differ. */
export async function freshData() {
  const screen = state.screen;
  const fresh = (await freshPage())?.querySelector("#page-data");
  if (!fresh || state.screen !== screen) return;
  state.data = { ...JSON.parse(fresh.textContent), marks: state.data?.marks };
  layout();
  document.body.dataset.known = String(state.version);
  load();
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

const along = (frame) => ((frame - view.first) / (view.last - view.first)) * view.width; // asks for no layout
const head = (told) => view.strip?.isConnected && moveHead($(".head", view.strip), along, [0, view.width], told);
on("position", head);
on("rendered", unhurried(load));
on("phrase", unhurried(load));
addEventListener("resize", () => {
  layout();
  draw();
});
