// Sides of a comparison: fetched, had ready, and which of them is heard.

import { toast } from "./dom.js";
import { fetchSound } from "./fetching.js";
import { URGENCY } from "./line.js";
import { on, say } from "./messages.js";
import { begin, give, isSong, orderNow, player, signalNow } from "./player.js";
import { keepFlowing } from "./song.js";

async function removed(a, b, signal) {
  const [raw, treated] = await Promise.all(["untreated", "treated"].map((side) => fetchSound(a, b, side, "", signal, URGENCY.behind)));
  if (!raw || !treated) return null; // overtaken
  for (const side of ["left", "right"]) for (let i = 0; i < raw[side].length; i++) raw[side][i] -= treated[side][i];
  return raw;
}

// Another side of the comparison; true once it is there, false where a change overtook it.
export async function prepare(variant) {
  if (isSong()) return true;
  const generation = orderNow();
  const signal = signalNow();
  const as = heardAs(variant);
  try {
    const sound = variant === "removed" ? await removed(player.first, player.last, signal) : await fetchSound(player.first, player.last, variant, "", signal, URGENCY.behind);
    give(as, player.first, sound, generation);
    if (sound?.match !== undefined) player.matched = sound.match;
    return generation === orderNow() && sound !== null;
  } catch (error) {
    if (error.name === "AbortError") return false;
    toast(`No sound: ${error.message}`);
    return true; // there will be none
  }
}

// Has it ready, whatever comes in between, for as long as it is wanted.
export async function prepared(variant, wanted) {
  while (wanted() && !(await prepare(variant))) await new Promise((done) => setTimeout(done, 50));
}

// what is compared is of the same settings as what it is compared with
on("rendered", ({ generation }) => {
  const { variant } = player;
  if (variant !== "treated" && !variant.includes(":")) prepared(variant, () => player.variant === variant && generation === orderNow());
});

// One band of an EQ alone, or the whole again (null).
export async function hearBand(band) {
  if (!band) {
    player.band = null;
    if (player.variant === "band") hearVariant("treated");
    return say("variant");
  }
  if (!(await begin())) return; // what is heard alone is there before anything has been played
  player.band = band;
  player.node?.port.postMessage({ type: "forget", variant: "band" });
  await prepare("band");
  if (player.band === band) hearVariant("band");
}

/** What the worklet calls a side: what is left out is one for each of what that can be, so that one fades into another. */
export const heardAs = (variant) => (variant === "bypassed" ? `bypassed:${player.bypassed}` : variant);
let heard = "treated";
export const heardNow = () => heard;
/** @type {Set<string>} */
const leftOut = new Set();

/** Something else is left out to hear what it does: a stage, or what studio.graphs says. @param {string} scope */
export function bypass(scope) {
  player.bypassed = scope;
  for (const variant of leftOut) {
    if (variant === heard || variant === heardAs("bypassed")) continue;
    player.node?.port.postMessage({ type: "forget", variant });
    leftOut.delete(variant);
  }
  leftOut.add(heardAs("bypassed"));
}
/** @param {string} scope */
export const hearsWithout = (scope) => player.variant === "bypassed" && heard === `bypassed:${scope}`;

/** Voice and one other thing alone, as they come out of the mix. @param {string} voice @param {string} other */
export function besides(voice, other) {
  const pair = `${voice}~${other}`;
  if (player.pair !== pair) for (const variant of ["pair", "music"]) player.node?.port.postMessage({ type: "forget", variant });
  player.pair = pair;
}

let switching = { name: "", at: 0 };

/** A side is what sounds, so many ms ago. @param {string} name @param {number} ago */
export function faded(name, ago) {
  if (name === switching.name) (window.miclane.switched ??= []).push(performance.now() - ago - switching.at);
}

export function hearVariant(name) {
  if (name !== "band") player.band = null;
  player.variant = name;
  heard = heardAs(name);
  const pressed = player.pressed || performance.now(); // the key itself, where it was one
  player.pressed = 0;
  switching = { name: heard, at: pressed };
  player.node?.port.postMessage({ type: "variant", name: heard });
  if (isSong() && player.playing) keepFlowing();
  say("variant");
}

export function match(variant, db) {
  player.node?.port.postMessage({ type: "gain", name: heardAs(variant), value: 10 ** (db / 20) });
}
