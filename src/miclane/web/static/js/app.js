// Starts what a page needs, again whenever a part of it has been swapped.

import { showAlternatives } from "./alternatives.js";
import { $, $$ } from "./dom.js";
import { keep } from "./focus.js";
import { showFoot, showLight } from "./foot.js";
import { knows, shows, URGENCY } from "./line.js";
import { freshPage, picture } from "./looking.js";
import { on } from "./messages.js";
import { player, refresh } from "./player.js";
import { screenOf } from "./screens.js";
import { state } from "./state.js";
import { show as showTogether } from "./together.js";
import "./rule.js";
import "./dropping.js";
import "./ears.js";

const REST_MS = 1500;

function initPage() {
  const holder = $("#page-data");
  state.data = holder ? JSON.parse(holder.textContent) : null;
  showLight();
  if (!state.data) return;
  const changedLane = player.lane !== state.data.lane;
  const { session, version, screen, rate, frames, lane } = state.data;
  Object.assign(state, { id: session, version: Math.max(state.version, version), screen, rate, frames, lane });
  player.lane = state.lane;
  shows(session);
  knows(state.version);
  state.where = ""; // until a screen with the switch says where; none without it sets anything but the song
  screenOf(screen).shown?.();
  if (changedLane && player.node) refresh();
  showFoot();
  showTogether();
  showAlternatives();
}

on("changed", (change) => {
  if (!change.structure) return;
  screenOf(state.screen).changed?.(change);
  if (change.jumped || change.data || change.edits.some((e) => e.path.split("/").length < 3)) refreshSide();
});

// what there is may be more, or less, or be called otherwise
async function refreshSide() {
  if (!$(".side")) return;
  const fresh = (await freshPage())?.querySelector(".side");
  if (!fresh || !$(".side")) return;
  const address = $(".side").contains(document.activeElement) ? document.activeElement.getAttribute("href") : "";
  $(".side").innerHTML = fresh.innerHTML;
  htmx.process($(".side"));
  if (address) $(`.side a[href="${CSS.escape(address)}"]`)?.focus();
  showTogether();
  levels();
}

let idle = 0;
async function levels() {
  if (!state.id || !$$("[data-level]").length || player.last - player.first > 20 * state.rate) return;
  const answer = await picture(`/s/${state.id}/levels?start=${player.first}&stop=${player.last}`, { urgency: URGENCY.figures });
  if (!answer) return;
  const told = await answer.json();
  for (const spot of $$("[data-level]")) {
    const v = told[spot.dataset.level];
    spot.textContent = v === undefined ? "" : v <= -70 ? "silent" : v.toFixed(1).replace("-", "−");
  }
}
on("rendered", () => {
  clearTimeout(idle);
  idle = setTimeout(levels, REST_MS);
});

document.addEventListener("htmx:afterSettle", (event) => {
  if (event.target.id !== "page") return;
  initPage();
  keep("#page"); // what was pressed has gone with the screen before
});
if (document.readyState === "loading") document.addEventListener("DOMContentLoaded", initPage);
else initPage();
