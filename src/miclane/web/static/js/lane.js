// The Lane screen: its strip, its route, the bench of the stage that is open.

import { refreshPictures, reloadBody } from "./bench.js";
import { $ } from "./dom.js";
import { showGathering } from "./handles.js";
import { on } from "./messages.js";
import { unhurried } from "./player.js";
import { toRoute } from "./route.js";
import { register } from "./screens.js";
import { state } from "./state.js";
import { freshData, initStrip } from "./strip.js";
import { showWhere } from "./where.js";
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
import "./tame.js";
import "./tune.js";
import "./following.js";
import "./stretches.js";
import "./levels.js";

register("lane", {
  shown() {
    initStrip();
    showGathering();
    if (showWhere()) reloadBody(new URLSearchParams(location.search).get("stage") ?? undefined, Number(new URLSearchParams(location.search).get("band") ?? 0));
    else refreshPictures();
  },
  changed({ jumped, data, select }) {
    const place = new URLSearchParams(location.search);
    if ($("#bench")) $("#bench").dataset.stale = "1"; // until the body that follows from the change is there
    if (jumped || data) freshData();
    reloadBody(select?.stage ?? place.get("stage") ?? undefined, select?.band ?? Number(place.get("band") ?? 0));
  },
});
on("to-route", toRoute);
on("redraw", () => void (state.screen === "lane" && reloadBody(undefined, Number($("#bench")?.dataset.band ?? 0))));
on("rendered", unhurried(refreshPictures));
on("phrase", unhurried(refreshPictures));
