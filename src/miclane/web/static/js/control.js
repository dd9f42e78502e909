// The dynamics pass: where to begin, makeup by loudness, attacks tried on word starts, share of the work.

import { $ } from "./dom.js";
import { once, over } from "./focus.js";
import { picture } from "./looking.js";
import { on } from "./messages.js";
import { measured, player } from "./player.js";
import { change, changedBy, post, set } from "./session.js";
import { state } from "./state.js";

const bench = () => $("#bench");
const query = () => {
  const [first, last] = measured();
  return `hear=${player.hear}&first=${first}&last=${last}`;
};
let token = 0;

async function draw() {
  const box = bench();
  const spot = $("#share") ?? $("#control");
  if (!spot || !box || !player.last || !state.frames) return;
  if (spot.id === "control" && box.dataset.levels !== "1") return;
  const mine = ++token;
  const stage = box.dataset.stage;
  const address = spot.id === "share" ? "work" : `control/${stage}`;
  const answer = await picture(`/s/${state.id}/lane/${state.lane}/${address}?${query()}`, { part: true });
  if (!answer || mine !== token || bench()?.dataset.stage !== stage) return;
  spot.innerHTML = await answer.text();
  const by = Number($("#quieter")?.dataset.db ?? 0);
  if ($("#match-figure")) $("#match-figure").textContent = Math.abs(by) < 0.05 ? "" : `${by < 0 ? "−" : "+"}${Math.abs(by).toFixed(1)}`;
  document.body.dataset.controlled = String(state.version);
}

async function makeUp(gesture) {
  const stage = bench().dataset.stage;
  const told = await post(`/s/${state.id}/lane/${state.lane}/makeup/${stage}?${query()}&gesture=${encodeURIComponent(gesture)}`);
  if (told?.changed) changedBy(told);
}

document.addEventListener("click", async (event) => {
  const at = (selector) => event.target.closest(selector);
  const begin = at("[data-spread]");
  if (begin && once(begin)) {
    const told = await post(`/s/${state.id}/lane/${state.lane}/start/${bench().dataset.stage}?spread=${begin.dataset.spread}&${query()}`);
    if (told) changedBy(told);
    else over(begin);
  }
  if (at("#match")) makeUp("");
  const notice = at("#notice");
  if (notice && once(notice)) {
    const told = await post(`/s/${state.id}/lane/${state.lane}/noticed/${bench().dataset.stage}?${query()}`);
    if (told) changedBy(told);
    else over(notice);
  }
  const attack = at("[data-attack]");
  if (attack) set(attack.dataset.attack, Number(attack.dataset.value), { structure: true });
  const split = at("[data-split-band]");
  if (split) splitBand(split.dataset.splitBand, Number(split.dataset.index));
});

// A band in two at the middle of its span; both keep what the one did.
function splitBand(path, index) {
  const edges = JSON.parse($("#band-edges").textContent);
  const low = index ? edges[index - 1] : 60;
  const high = edges[index] ?? 16000;
  const own = JSON.parse($("#band-settings").textContent);
  const value = { ...own, up_to_hz: Math.round(Math.sqrt(low * high)) };
  change([{ op: "insert", path, index, value }], { structure: true, select: { band: index } });
}

on("bench", draw);
