// Starts what a page needs, again whenever a part of it has been swapped.

import { look, on, picture, state, $, $$ } from "./session.js";
import { player, refresh, unhurried } from "./player.js";
import "./rule.js";
import { initStrip, layout, load } from "./strip.js";
import { refreshPictures, reloadBody } from "./bench.js";
import "./pins.js";
import "./tone.js";
import "./sibilance.js";
import "./control.js";
import "./branches.js";
import "./take.js";
import "./phrases.js";
import "./trims.js";
import "./ride.js";
import "./route.js";
import { showFoot, showLight } from "./foot.js";
import { initMap, reloadMap } from "./map.js";
import { initSpace, reloadSpace } from "./space.js";
import { initPrint } from "./printing.js";
import { initShelf } from "./shelf.js";

function initPage() {
  const holder = $("#page-data");
  state.data = holder ? JSON.parse(holder.textContent) : null;
  showLight();
  initShelf();
  if (!state.data) return;
  const changedLane = player.lane !== state.data.lane;
  Object.assign(state, { id: state.data.session, version: Math.max(state.version, state.data.version), screen: state.data.screen, rate: state.data.rate, frames: state.data.frames, lane: state.data.lane });
  player.lane = state.lane;
  initStrip();
  initSpace();
  initMap();
  initPrint();
  if (changedLane && player.node) refresh();
  showFoot();
  refreshPictures();
}

on("changed", ({ structure, jumped, data, select }) => {
  if (!structure) return;
  const place = new URLSearchParams(location.search);
  if (state.screen === "lane") {
    if ($("#bench")) $("#bench").dataset.stale = "1"; // until the body that follows from the change is there
    if (jumped || data) refreshData();
    reloadBody(select?.stage ?? place.get("stage") ?? undefined, select?.band ?? Number(place.get("band") ?? 0));
  } else if (state.screen === "space") reloadSpace();
  else if (state.screen === "map") reloadMap();
});
on("redraw", () => reloadBody());
on("rendered", unhurried(refreshPictures));
on("phrase", unhurried(refreshPictures));
// after an undo or a change in another window the phrases and names may differ too
async function refreshData() {
  const text = await (await fetch(location.pathname + location.search, { headers: { accept: "text/html" } })).text();
  const fresh = new DOMParser().parseFromString(text, "text/html").querySelector("#page-data");
  if (!fresh || state.screen !== "lane") return;
  state.data = { ...JSON.parse(fresh.textContent), marks: state.data?.marks };
  layout();
  document.body.dataset.known = state.version;
  load();
}

let idle = 0;
async function levels() {
  if (!state.id || !$$("[data-level]").length || player.last - player.first > 20 * state.rate) return;
  const answer = await picture(`/s/${state.id}/levels?start=${player.first}&stop=${player.last}`);
  if (!answer) return;
  const told = await answer.json();
  for (const spot of $$("[data-level]")) {
    const v = told[spot.dataset.level];
    spot.textContent = v === undefined ? "" : v <= -70 ? "silent" : v.toFixed(1).replace("-", "−");
  }
}
on("rendered", () => {
  clearTimeout(idle);
  idle = setTimeout(levels, 1500);
});

document.addEventListener("htmx:afterSettle", (event) => {
  if (event.target.id === "page") initPage();
});
setInterval(look, 3000);
if (document.readyState === "loading") document.addEventListener("DOMContentLoaded", initPage);
else initPage();
