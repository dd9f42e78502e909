// A phrase and what stands over it: looked at and heard beside the voice, alone.

import { $, $$ } from "./dom.js";
import { again, keep } from "./focus.js";
import { picture } from "./looking.js";
import { on } from "./messages.js";
import { begin, player } from "./player.js";
import { besides, hearBand, hearVariant, prepared } from "./sides.js";
import { state } from "./state.js";
import { loopPhrases } from "./strip.js";

/** @type {{ number: number, path: string, low?: string } | null} what is looked at and heard beside the voice */
let chosen = null;

export const voice = () => state.data?.voice ?? "";

/** Another page: nothing is chosen yet. */
export const forget = () => (chosen = null);

export function choose(number, path, low = undefined) {
  loopPhrases(number, number);
  if (!path) return void letGo();
  chosen = { number, path, low };
  lookAt();
  hearBoth(true);
}

/** What was chosen is looked at, else what weighs most. */
export function lookAt() {
  const one = chosen;
  const first = $("#fit-stands .stand");
  const seen = one ?? (first ? { number: Number(first.dataset.number), path: first.dataset.path } : null);
  const all = $$("#fit-stands .stand").filter((s) => Number(s.dataset.number) === seen?.number && s.dataset.path === seen?.path);
  const shown = all.find((s) => s.dataset.low === one?.low) ?? all[0];
  for (const stand of $$("#fit-stands .stand")) stand.setAttribute("aria-current", String(stand === shown));
  if (seen) drawBoth(seen);
  else $("#fit-bench")?.replaceChildren();
}

let looked = 0;
async function drawBoth({ number, path }) {
  const box = $("#fit-bench");
  if (!box) return;
  const mine = ++looked;
  const [first, last] = [player.first, player.last];
  const query = `first=${first}&last=${last}&number=${number}&name=${encodeURIComponent(path)}&voice=${encodeURIComponent(voice())}`;
  const answer = await picture(`/s/${state.id}/fit/both?${query}`, { part: true });
  if (!answer || mine !== looked || !box.isConnected) return;
  const fresh = document.createElement("template");
  fresh.innerHTML = await answer.text();
  const turned = document.activeElement?.closest("#fit-bench .pocket .rule");
  if (turned && $$(".pocket-band", fresh.content).length === $$(".pocket-band", box).length) {
    $("svg.picture", box).replaceWith($("svg.picture", fresh.content)); // the rule under the hand stays
    $$(".pocket-band > p", fresh.content).forEach((p, k) => ($$(".pocket-band > p", box)[k].textContent = p.textContent));
    return showHeard();
  }
  const back = box.contains(document.activeElement) ? again(document.activeElement) : "";
  box.replaceChildren(fresh.content);
  if (back) keep(back);
  Object.assign($("#fit-pair").dataset, { number, path });
  showHeard();
}

async function hearBoth(wanted) {
  if (!chosen) return;
  if (!wanted) return void (player.variant === "pair" && hearVariant("treated"));
  const { path } = chosen;
  if (!(await begin())) return;
  besides(voice(), path);
  await prepared("pair", () => chosen?.path === path);
  if (chosen?.path === path) hearVariant("pair");
}

// the music as it is with the voice in it, without the voice
let musicWanted = false;
async function hearMusic(wanted) {
  musicWanted = wanted;
  if (!wanted) return void (player.variant === "music" && hearVariant("treated"));
  if (!(await begin())) return;
  besides(voice(), "");
  await prepared("music", () => musicWanted);
  if (musicWanted) hearVariant("music");
}

// what is heard here alone ends where it can no longer be seen
document.addEventListener("htmx:afterSettle", () => {
  if ($("#fit-map")) return;
  chosen = null;
  musicWanted = false;
  if (player.variant === "pair" || player.variant === "music" || player.band?.lane) hearVariant("treated");
});

// what a pocket takes out of its stem, and nothing else
const TAKEN = -2;
const takes = (button) => player.variant === "band" && player.band?.stage === button.dataset.stage && player.band?.lane === button.dataset.lane;
function hearTaken(button) {
  const { stage, lane } = button.dataset;
  return hearBand(takes(button) ? null : { stage, index: TAKEN, lane });
}

function showHeard() {
  for (const button of $$(".fit-taken")) button.setAttribute("aria-pressed", String(takes(button)));
  $("#fit-music")?.setAttribute("aria-pressed", String(player.variant === "music"));
  const alone = player.variant === "pair";
  $("#fit-pair")?.setAttribute("aria-pressed", String(alone));
}

export function letGo() {
  chosen = null;
  if (player.variant === "pair") hearVariant("treated");
}

/** Whether one of its buttons was pressed, which then is done. @param {any} event */
export function pressed(event) {
  const to = (s) => event.target.closest(s);
  const pair = to("#fit-pair");
  if (pair) {
    chosen = { number: Number(pair.dataset.number), path: pair.dataset.path };
    hearBoth(player.variant !== "pair");
  }
  const taken = to(".fit-taken");
  if (taken) hearTaken(taken);
  const music = to("#fit-music");
  if (music) hearMusic(player.variant !== "music");
  return Boolean(pair || taken || music);
}

on("variant", showHeard);
