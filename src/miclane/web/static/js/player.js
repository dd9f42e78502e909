// Fetches sound for the loop and hands it to the worklet: under the playhead first, the rest behind it.

import { client, on, say, state, toast } from "./session.js";

const SOON_S = 0.9;
const SOON_IN_SONG_S = 4;
const AHEAD_S = 0.05;
const PIECE_S = 12;
const LONGEST_LOOP_S = 20;

export const player = {
  context: null, node: null, analyser: null, playing: false, at: 0, first: 0, last: 1, looping: true, hear: "lane",
  lane: "", variant: "treated", figures: null, starting: null,
};
window.miclane = { player, state };

export async function begin() {
  if (player.node) return;
  player.starting ??= (async () => {
    const context = new AudioContext({ sampleRate: state.rate, latencyHint: "interactive" });
    await context.audioWorklet.addModule("/static/js/worklet.js");
    const node = new AudioWorkletNode(context, "miclane-player", { numberOfInputs: 0, outputChannelCount: [2] });
    const analyser = new AnalyserNode(context, { fftSize: 8192 });
    node.connect(analyser).connect(context.destination);
    node.port.onmessage = (event) => told(event.data);
    Object.assign(player, { context, node, analyser });
    player.fresh = true;
    node.port.postMessage({ type: "range", first: player.first, last: player.last, looping: player.looping, at: player.at });
  })();
  await player.starting;
}

const began = new Map();

function told(m) {
  if (m.type === "position") {
    player.at = m.at;
    player.starved = m.starved;
    say("position", m);
    if (m.playing && isSong()) fillAhead();
  } else if (m.type === "ended") {
    player.playing = false;
    say("playing");
  } else if (m.type === "heard") {
    const start = began.get(m.version);
    if (start !== undefined) {
      const ms = performance.now() - start.began;
      say("heard", { version: m.version, ms, ...start.parts });
      (window.miclane.heard ??= []).push({ version: m.version, ms, ...start.parts });
    }
  }
}

const isSong = () => player.last - player.first > LONGEST_LOOP_S * state.rate;

function address(start, stop, variant, extra = "") {
  return `/s/${state.id}/sound?lane=${player.lane}&hear=${player.hear}&variant=${variant}&start=${start}&stop=${stop}&client=${client}&generation=${order}${extra}`;
}

// The range that is rendered for a stretch: the loop itself, or its piece of the whole song.
function pieceAt(frame) {
  if (!isSong()) return [player.first, player.last];
  const size = PIECE_S * state.rate;
  const k = Math.floor((frame - anchor) / size);
  return [Math.max(player.first, anchor + k * size), Math.min(anchor + (k + 1) * size, player.last)];
}

async function fetchSound(start, stop, variant, extra, signal) {
  const answer = await fetch(address(start, stop, variant, extra), { signal, headers: { accept: "application/json" } });
  if (answer.status === 204) return null;
  if (!answer.ok) throw new Error((await answer.json()).error);
  const flat = new Float32Array(await answer.arrayBuffer());
  const n = flat.length / 2;
  const left = new Float32Array(n);
  const right = new Float32Array(n);
  for (let i = 0; i < n; i++) {
    left[i] = flat[2 * i];
    right[i] = flat[2 * i + 1];
  }
  return { left, right, version: Number(answer.headers.get("x-version")) };
}

let anchor = 0; // where the pieces of the whole song are counted from
let order = 0; // counts changes of sound; a newer one overtakes
let inFlight = new AbortController();
let have = new Set();

function give(variant, offset, sound, generation) {
  if (generation !== order || !sound) return;
  player.node?.port.postMessage(
    { type: "data", variant, version: generation, first: player.first, last: player.last, offset, left: sound.left, right: sound.right },
    [sound.left.buffer, sound.right.buffer],
  );
}

// New sound after a change at time `start`: soon under the playhead, then all of it.
export async function refresh(start = performance.now(), parts = {}) {
  if (!state.frames || !player.lane) return;
  order += 1;
  const generation = order;
  anchor = player.at;
  inFlight.abort();
  inFlight = new AbortController();
  const { signal } = inFlight;
  have = new Set();
  began.set(generation, { began: start, parts });
  if (began.size > 50) began.delete(began.keys().next().value);
  try {
    const [a, b] = pieceAt(player.at);
    have.add(a);
    if (player.playing) await soon(generation, signal, parts);
    const whole = await fetchSound(a, b, "treated", "", signal);
    if (generation !== order) return;
    give("treated", a, whole, generation);
    parts.loop_ms = performance.now() - start;
    say("rendered", { first: a, last: b, generation });
    if (isSong()) fillAhead();
  } catch (error) {
    if (error.name !== "AbortError") toast(`No sound: ${error.message}`);
  }
}

// a short piece first, and in the whole song a longer one behind it while the rest is rendered
async function soon(generation, signal, parts) {
  const [a, b] = pieceAt(player.at);
  const end = isSong() ? player.last : b;
  let from = Math.min(player.at + Math.round(AHEAD_S * state.rate * (player.starved ? 0 : 1)), end - 1);
  for (const seconds of isSong() ? [0.6, SOON_IN_SONG_S] : [SOON_S]) {
    const to = Math.min(from + Math.round(seconds * state.rate), end);
    if (to <= from || generation !== order) return;
    const asked = performance.now();
    const sound = await fetchSound(from, to, "treated", `&first=${a}&last=${b}`, signal);
    parts.fetch_ms ??= performance.now() - asked;
    give("treated", from, sound, generation);
    from = to;
  }
}

let filling = false;
async function fillAhead() {
  if (filling) return;
  filling = true;
  const generation = order;
  try {
    for (const step of [0, 1, 2]) {
      const at = player.at + step * PIECE_S * state.rate;
      if (at >= player.last) break;
      const [a, b] = pieceAt(at);
      for (const variant of player.variant === "treated" ? ["treated"] : ["treated", player.variant]) {
        const key = variant === "treated" ? a : `${variant}${a}`;
        if (have.has(key) || generation !== order) continue;
        have.add(key);
        if (variant === "removed") {
          give("removed", a, await removed(a, b, inFlight.signal), generation);
          continue;
        }
        give(variant, a, await fetchSound(a, b, variant, "", inFlight.signal), generation);
      }
    }
  } catch (error) {
    if (error.name !== "AbortError") toast(`No sound: ${error.message}`);
  } finally {
    filling = false;
  }
}

async function removed(a, b, signal) {
  const [raw, treated] = await Promise.all([fetchSound(a, b, "untreated", "", signal), fetchSound(a, b, "treated", "", signal)]);
  for (const side of ["left", "right"]) for (let i = 0; i < raw[side].length; i++) raw[side][i] -= treated[side][i];
  return raw;
}

// The other sides of the comparison, fetched once the treated loop is there.
export async function prepare(variant) {
  const generation = order;
  const [a, b] = pieceAt(player.at);
  try {
    if (variant === "removed") give("removed", a, await removed(a, b, inFlight.signal), generation);
    else give(variant, a, await fetchSound(a, b, variant, "", inFlight.signal), generation);
  } catch (error) {
    if (error.name !== "AbortError") toast(`No sound: ${error.message}`);
  }
}

export function range(first, last, at = first) {
  Object.assign(player, { first, last, at });
  player.node?.port.postMessage({ type: "range", first, last, looping: player.looping, at });
  say("range");
  return refresh();
}

export function looping(value) {
  player.looping = value;
  player.node?.port.postMessage({ type: "looping", looping: value });
  say("range");
}

export async function play(at = player.at) {
  await begin();
  await player.context.resume();
  player.at = Math.min(Math.max(at, player.first), player.last - 1);
  player.playing = true;
  player.node.port.postMessage({ type: "play", at: player.at });
  say("playing");
  if (player.fresh || isSong()) await refresh();
  player.fresh = false;
}

export function seek(at) {
  player.at = Math.min(Math.max(at, player.first), player.last - 1);
  player.node?.port.postMessage({ type: "seek", at: player.at });
  say("position", { at: player.at, playing: player.playing, mean: 0, peak: 0 });
  if (isSong()) refresh();
}

export function stop() {
  player.playing = false;
  player.node?.port.postMessage({ type: "stop" });
  say("playing");
}

export function hearVariant(name) {
  player.variant = name;
  player.node?.port.postMessage({ type: "variant", name });
  if (isSong()) fillAhead();
  say("variant");
}

export function match(variant, db) {
  player.node?.port.postMessage({ type: "gain", name: variant, value: 10 ** (db / 20) });
}

export function listen(hear, lane) {
  if (player.hear === hear && player.lane === lane) return;
  Object.assign(player, { hear, lane });
  say("hear");
  refresh();
}

on("changed", ({ began: start, version }) => {
  const parts = { edit_ms: performance.now() - start, version };
  refresh(start, parts);
});
