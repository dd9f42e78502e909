// Fetches sound for the loop and hands it to the worklet: under the playhead first, the rest behind it.

import { behind } from "./behind.js";
import { toast } from "./dom.js";
import { fetchSound, parted } from "./fetching.js";
import { counts, URGENCY } from "./line.js";
import { loudspeaker } from "./loudspeaker.js";
import { on, say } from "./messages.js";
import { answeredIn, piece, placed, stands } from "./piece.js";
import { restAfter } from "./resting.js";
import { faded, heardNow } from "./sides.js";
import { flow, jump, keepFlowing, stopFlowing } from "./song.js";
import { state } from "./state.js";

const ELSEWHERE_MS = 700; // who only looks on while another hand turns something waits until that rests
const LONGEST_LOOP_S = 20;

export const player = {
  context: null, node: null, analyser: null, playing: false, at: 0, first: 0, last: 1, looping: true, hear: "lane",
  lane: "", variant: "treated", figures: null, starting: null, band: null, bypassed: "", pair: "", equal: false, matched: 0, pressed: 0, fell: 0,
};
window.miclane = { player, state, line: counts };

// made once a hand is on the page, before it wants to play
for (const gesture of ["pointerdown", "keydown"]) addEventListener(gesture, () => void (player.lane && state.frames && loudspeaker().catch(() => {})), { capture: true });

/** Whether there is a way to the loudspeaker now; where there is none, that is said. */
export async function begin() {
  if (player.node) return true;
  player.starting ??= (async () => {
    const context = await loudspeaker();
    const node = new AudioWorkletNode(context, "miclane-player", { numberOfInputs: 0, outputChannelCount: [2] });
    const analyser = new AnalyserNode(context, { fftSize: 8192 });
    node.connect(analyser).connect(context.destination);
    node.port.onmessage = (event) => told(event.data);
    Object.assign(player, { context, node, analyser });
    player.fresh = true;
    node.port.postMessage({ type: "range", first: player.first, last: player.last, looping: player.looping, at: player.at });
    node.port.postMessage({ type: "variant", name: heardNow() });
  })();
  try {
    await player.starting;
  } catch {
    player.starting = null;
    toast("No sound: what plays it could not be loaded. Press play again once the server answers.");
  }
  return player.node !== null;
}

/** How many ms ago at least it was `when` on the clock that the worklet has: the day's, in whole ms, which may be set while one works. @param {number} when */
const since = (when) => Math.max(0, Date.now() - when - 1);

const began = new Map();

function told(m) {
  if (m.type === "side") faded(m.name, since(m.when));
  if (m.type === "position") {
    placed(m);
    if (m.playing) player.at = m.at;
    player.starved = m.starved;
    player.fell = m.fell;
    if (m.playing && !m.starved && player.asked) {
      player.waited_ms = performance.now() - player.asked; // from the wish to the sound
      player.asked = 0;
    }
    say("position", m);
    if (m.playing && isSong()) {
      keepFlowing();
      const [phrase] = measured();
      if (phrase !== player.phrase) say("phrase");
      player.phrase = phrase;
    }
  } else if (m.type === "ended") {
    player.playing = false;
    say("playing");
  } else if (m.type === "heard") {
    const start = began.get(m.version);
    if (start !== undefined) {
      began.delete(m.version);
      const ms = performance.now() - since(m.when) - start.began; // till it was faded to
      say("heard", { version: m.version, ms, ...start.parts });
      (window.miclane.heard ??= []).push({ version: m.version, ms, ...start.parts });
    }
  }
}

// What pictures and figures are measured over: the loop; while the whole song is up, the phrase at the playhead
// (and as many after it as a picture of gaps wants).
/** @param {number} [phrases] @returns {[number, number]} */
export function measured(phrases = 1) {
  if (!isSong()) return [player.first, player.last];
  const all = state.data?.phrases ?? [];
  const longest = LONGEST_LOOP_S * state.rate;
  if (!all.length) return [player.at, Math.min(player.at + longest / 3, player.last)];
  const k = all.findIndex((p) => p.end > player.at);
  const first = Math.max(0, Math.min(k < 0 ? all.length : k, all.length - phrases));
  const last = all[Math.min(first + phrases, all.length) - 1];
  return [all[first].start, Math.min(last.end, all[first].start + longest)];
}

// in the whole song the sound comes first, the pictures a moment later
export const unhurried = (work) => {
  let waiting = 0;
  return () => {
    clearTimeout(waiting);
    if (isSong() && player.playing) waiting = setTimeout(work, 1500);
    else work();
  };
};

export const isSong = () => player.last - player.first > LONGEST_LOOP_S * state.rate;

let order = 0; // counts changes of sound; a newer one overtakes
export const orderNow = () => order;
let inFlight = new AbortController();
let coming = null; // the loop that was asked for last, and whether it has come
/** Aborted once a change overtakes. */
export const signalNow = () => inFlight.signal;

export function give(variant, offset, sound, generation) {
  if (generation !== order || !sound) return;
  const edited = variant === "treated" && player.equal && state.alternative !== "";
  const by = sound.match ?? (variant === "treated" && player.equal && !edited ? 0 : undefined);
  const gain = by === undefined ? null : 10 ** (by / 20);
  const hold = gain === null && edited;
  player.node?.port.postMessage(
    { type: "data", variant, version: generation, first: player.first, last: player.last, offset, left: sound.left, right: sound.right, gain, hold },
    [sound.left.buffer, sound.right.buffer],
  );
}

// What is fetched from now on is newer than all before.
function anew(start, parts) {
  order += 1;
  inFlight.abort();
  inFlight = new AbortController();
  stopFlowing();
  began.set(order, { began: start, parts });
  if (began.size > 50) began.delete(began.keys().next().value);
}

// New sound after a change at time `start`: soon under the playhead, then all of it. What is `given` may have been handed on already.
export async function refresh(start = performance.now(), parts = {}, given = null, elsewhere = false) {
  if (!state.frames || !player.lane) return;
  const handed = given !== null && given.generation === order;
  if (!handed) anew(start, parts);
  const generation = order;
  const pause = parts.version === undefined ? 0 : restAfter(start);
  const { signal } = inFlight;
  const there = { whole: false, turn: 0 };
  coming = isSong() ? null : { generation, signal, there };
  try {
    if (isSong()) {
      flow("treated", player.at);
      say("rendered", { first: player.at, last: player.last, generation });
      return;
    }
    if (given?.hear === `${player.hear} ${player.lane}`) {
      if (!handed) give("treated", given.from, parted(given.flat), generation);
      void behind(given.from + given.flat.length / 2, generation, signal, there);
    } else if (player.playing) await soon(generation, signal, there);
    if (player.playing && parts.version !== undefined) await new Promise((resolve) => setTimeout(resolve, pause));
    else if (!player.playing && elsewhere) await new Promise((resolve) => setTimeout(resolve, ELSEWHERE_MS));
    if (generation !== order) return;
    const whole = await fetchSound(player.first, player.last, "treated", "", signal, URGENCY.rest);
    if (generation !== order) return;
    there.whole = true;
    give("treated", player.first, whole, generation);
    parts.loop_ms = performance.now() - start;
    say("rendered", { first: player.first, last: player.last, generation });
  } catch (error) {
    if (error.name !== "AbortError") toast(`No sound: ${error.message}`);
  }
}

// What an edit's answer should bring along.
state.listening = () => {
  if (!player.playing || isSong() || player.variant === "removed" || player.variant === "band") return null;
  const [start, stop] = piece();
  return { lane: player.lane, hear: player.hear, start, stop, first: player.first, last: player.last };
};

// Playing begins where the loop may not be yet: what is under the playhead does not wait for all of it.
function atOnce() {
  if (coming === null || coming.generation !== order || coming.there.whole) return;
  soon(coming.generation, coming.signal, coming.there).catch(() => {}); // the loop comes all the same
}

async function soon(generation, signal, there) {
  const turn = (there.turn += 1);
  const [from, to] = piece();
  const sound = await fetchSound(from, to, "treated", `&first=${player.first}&last=${player.last}`, signal, URGENCY.underPlayhead);
  if (there.whole) return;
  give("treated", from, sound, generation);
  const mine = { get whole() { return there.whole || there.turn !== turn; } }; // prettier-ignore
  void behind(to, generation, signal, mine);
}

export function range(first, last, at = first) {
  Object.assign(player, { first, last, at });
  stands();
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
  player.asked = performance.now();
  if (!(await begin())) return;
  await player.context.resume();
  player.at = Math.min(Math.max(at, player.first), player.last - 1);
  stands();
  player.playing = true;
  player.node.port.postMessage({ type: "play", at: player.at });
  say("playing");
  if (player.fresh) await refresh();
  else if (isSong()) jump();
  else atOnce();
  player.fresh = false;
}

export function seek(at) {
  player.at = Math.min(Math.max(at, player.first), player.last - 1);
  stands();
  player.node?.port.postMessage({ type: "seek", at: player.at });
  say("position", { at: player.at, playing: player.playing, mean: 0, peak: 0 });
  if (isSong()) jump();
  else if (player.playing) atOnce();
}

export function stop() {
  player.playing = false;
  player.node?.port.postMessage({ type: "stop" });
  say("playing");
}

export function listen(hear, lane) {
  if (player.hear === hear && player.lane === lane) return;
  Object.assign(player, { hear, lane });
  say("hear");
  refresh();
}

on("refused", () => refresh());
let lines = 0;
on("line", () => lines++ && refresh()); // what was flowing when the line was lost
// the rest of a loop that is about to be old
on("changing", () => !isSong() && inFlight.abort());
// What came while an edit was being written is heard at once; once it is kept, the rest is fetched behind it.
let ahead = { token: "", sound: /** @type {any} */ (null) };
on("ahead", ({ began: start, token, sound, version, applied_ms, render_ms }) => {
  if (isSong() || sound.hear !== `${player.hear} ${player.lane}`) return;
  const parts = { answer_ms: performance.now() - start, applied_ms, render_ms, version };
  answeredIn(parts.answer_ms);
  anew(start, parts);
  ahead = { token, sound: { ...sound, generation: order } };
  give("treated", sound.from, parted(sound.flat), order);
});
on("changed", ({ began: start, version, sound, token, applied_ms, render_ms, elsewhere = false }) => {
  const parts = { answer_ms: performance.now() - start, applied_ms, render_ms, version };
  const given = sound ?? (token && token === ahead.token ? ahead.sound : null);
  if (!elsewhere && given?.generation === undefined) answeredIn(parts.answer_ms);
  if (token) (window.miclane.kept ??= []).push(parts.answer_ms);
  refresh(start, parts, given, elsewhere);
});
