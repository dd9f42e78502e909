// The whole song, streamed from where it is heard on.

import { toast } from "./dom.js";
import { address, matched } from "./fetching.js";
import { ask, URGENCY } from "./line.js";
import { give, measured, orderNow, player, stop } from "./player.js";
import { heardAs } from "./sides.js";
import { state } from "./state.js";

const BUFFER_S = 10; // so far ahead of the playhead
const BEHIND_S = 12; // and so far behind it
const KEPT_S = 40; // so much in all: the worklet holds no more, however long the song is
const SLACK_S = 3;
const CATCHING_UP_MS = 1000;
const FIRST_LEAD_S = 0.5; // what came too late is begun again so far ahead of the playhead, and twice as far each time after
const LONGEST_LEAD_S = 8;
let flows = []; // what is streaming, or has streamed, of the whole song: the side, from, to

// The whole song streams from where it is heard on, some seconds ahead of the playhead.
export async function flow(variant, from, lead = 0) {
  const as = heardAs(variant);
  const run = { as, from, to: from, lead, live: true, used: performance.now(), control: new AbortController() };
  flows.push(run);
  const generation = orderNow();
  const { signal } = run.control;
  try {
    const [first, last] = measured().map(Math.round);
    const over = matched(variant) && variant !== "treated" ? `&first=${first}&last=${last}` : "";
    const urgency = Math.abs(from - player.at) <= SLACK_S * state.rate ? URGENCY.underPlayhead : URGENCY.rest;
    const answer = await ask(address("song", from, player.last, variant, over), { urgency, flows: true, signal });
    if (!answer.ok) throw new Error((await answer.json()).error);
    if (!answer.body) return; // overtaken
    const by = answer.headers.get("x-match");
    const match = by === null ? undefined : Number(by);
    if (match !== undefined) player.matched = match;
    const reader = answer.body.getReader();
    let rest = new Uint8Array(0);
    for (;;) {
      const { done, value } = await reader.read();
      if (done || generation !== orderNow()) break;
      const bytes = new Uint8Array(rest.length + value.length);
      bytes.set(rest);
      bytes.set(value, rest.length);
      const whole = bytes.length - (bytes.length % 8);
      rest = bytes.slice(whole);
      if (!whole) continue;
      if (tooLate(run, whole / 8)) return void again(variant, run);
      give(as, run.to, { ...untwined(new Float32Array(bytes.buffer, 0, whole / 4)), match }, generation);
      run.to += whole / 8;
      while (run.to - player.at > BUFFER_S * state.rate && player.at >= run.from && generation === orderNow()) {
        await new Promise((resolve) => setTimeout(resolve, 200));
      }
    }
  } catch (error) {
    if (error.name !== "AbortError") {
      toast(`No sound: ${error.message}`);
      stop();
    }
  } finally {
    run.live = false;
  }
}

/** Both channels of interleaved sound, as it comes in a stream that may be cut anywhere. @param {Float32Array} flat */
function untwined(flat) {
  const n = flat.length / 2;
  const left = new Float32Array(n);
  const right = new Float32Array(n);
  for (let i = 0; i < n; i++) {
    left[i] = flat[2 * i];
    right[i] = flat[2 * i + 1];
  }
  return { left, right };
}

const flowAt = (variant, at) => flows.find((f) => f.as === heardAs(variant) && f.from <= at + f.lead + 0.2 * state.rate && (f.live || at < f.to));

/** Whether pieces come where the playhead has been and gone (what is heard meanwhile does not wait for them), and do not soon get there. */
function tooLate(run, frames) {
  const late = player.at - (run.to + frames);
  if (!player.playing || late < 0.2 * state.rate) return false;
  run.began ??= { late, when: performance.now() };
  if (performance.now() - run.began.when < CATCHING_UP_MS) return false;
  if (late > run.began.late / 2) return true;
  run.began = { late, when: performance.now() }; // half of what was missing has been made up for; so may the rest
  return false;
}

/** What came too late would stay behind, the longer the slower the machine: it begins again where the playhead will be. */
function again(variant, run) {
  run.control.abort();
  run.live = false;
  if (heardAs(variant) !== run.as || variant !== player.variant) return;
  const lead = Math.min(Math.max(2 * run.lead, FIRST_LEAD_S * state.rate), LONGEST_LEAD_S * state.rate);
  const from = Math.round(player.at + lead);
  if (from < player.last) flow(variant, from, lead);
}

// Playing goes on from another place of the song: what streams elsewhere is let go.
export function jump() {
  player.asked = performance.now();
  for (const run of flows) {
    if (!run.live || (run.from <= player.at && player.at < run.to)) continue;
    run.control.abort();
    run.live = false;
  }
  keepFlowing();
}

// The worklet forgets what lies there, unless another of what streamed lies over it.
function letGo(as, from, to) {
  let parts = [[from, to]];
  for (const run of flows.filter((other) => other.as === as)) {
    parts = parts.flatMap(([a, b]) => [[a, Math.min(b, run.from)], [Math.max(a, run.to), b]]).filter(([a, b]) => a < b);
  }
  for (const [a, b] of parts) player.node?.port.postMessage({ type: "cut", variant: as, from: a, to: b });
}

// Of what has streamed so much is kept, however long the song is: what lies near the playhead, then what was played last.
function keepSome() {
  const [behind, ahead] = [player.at - BEHIND_S * state.rate, player.at + (BUFFER_S + SLACK_S) * state.rate];
  for (const run of flows) if (run.live || (run.from <= player.at && player.at < run.to)) run.used = performance.now();
  let over = flows.reduce((sum, run) => sum + run.to - run.from, 0) - KEPT_S * state.rate;
  const far = flows.filter((run) => !run.live && (run.to <= behind || run.from >= ahead));
  for (const run of far.sort((a, b) => a.used - b.used)) {
    if (over <= 0) return;
    over -= run.to - run.from;
    flows.splice(flows.indexOf(run), 1);
    letGo(run.as, run.from, run.to);
  }
  for (const run of flows) {
    if (over <= SLACK_S * state.rate || run.from >= behind || run.to <= behind) continue;
    const before = run.from;
    run.from = Math.floor(behind);
    over -= run.from - before;
    letGo(run.as, before, run.from);
  }
}

// Whatever is about to be heard must be on its way: the side listened to, and the beginning once the end is near.
export function keepFlowing() {
  keepSome();
  for (let at = player.at, found; at < player.last && at - player.at < 2 * state.rate; at = found.to) {
    found = flowAt(player.variant, at);
    if (!found) flow(player.variant, at);
    if (!found || found.live) break;
  }
  const near = player.last - player.at < 3 * state.rate;
  if (player.looping && near && !flowAt(player.variant, player.first)) flow(player.variant, player.first);
}

// Everything that streams is let go: the sound of the song is another.
export function stopFlowing() {
  for (const run of flows) run.control.abort();
  flows = [];
}
