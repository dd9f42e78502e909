// The Lane screen: its strip, its route, the bench of the stage that is open.

import { on } from "./messages.js";
import { register } from "./screens.js";
import { state, $ } from "./session.js";
import { unhurried } from "./player.js";
import { initStrip, layout, load } from "./strip.js";
import { refreshPictures, reloadBody } from "./bench.js";
import "./rule.js";
import "./pins.js";
import "./tone.js";
import "./sibilance.js";
import "./balance.js";
import "./control.js";
import "./branches.js";
import "./take.js";
import "./phrases.js";
import "./trims.js";
import "./ride.js";
import "./route.js";

register("lane", {
  shown() {
    initStrip();
    refreshPictures();
  },
  changed({ jumped, data, select }) {
    const place = new URLSearchParams(location.search);
    if ($("#bench")) $("#bench").dataset.stale = "1"; // until the body that follows from the change is there
    if (jumped || data) refreshData();
    reloadBody(select?.stage ?? place.get("stage") ?? undefined, select?.band ?? Number(place.get("band") ?? 0));
  },
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
  document.body.dataset.known = String(state.version);
  load();
}
