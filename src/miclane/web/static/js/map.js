// The Map: the picture follows every change; buttons in it work by mouse and keyboard.

import { on } from "./messages.js";
import { listen, player } from "./player.js";
import { redraw } from "./redraw.js";
import { register } from "./screens.js";
import { go, set } from "./session.js";
import { state } from "./state.js";
import { loopSomewhere } from "./strip.js";
import { show as showTogether } from "./together.js";

function shown() {
  if (player.hear === "lane") listen("mix", state.lane);
  if (player.first >= player.last - 1) loopSomewhere(1);
}

function changed() {
  redraw(`/s/${state.id}/map/body`, { focus: (back) => [back, "#map a"] }).then((drawn) => {
    if (!drawn) return;
    document.body.dataset.drawn = String(state.version);
    showTogether();
  });
}

register("map", { shown, changed });
on("redraw", () => void (state.screen === "map" && changed()));

document.addEventListener("keydown", (event) => {
  const button = event.target.closest?.(".map-btn");
  if (!button || (event.key !== "Enter" && event.key !== " ")) return;
  event.preventDefault();
  event.stopPropagation();
  set(button.dataset.switch, button.getAttribute("aria-pressed") !== "true", { structure: true });
}, true);

// a name or a station leads to its screen, and what plays plays on
document.addEventListener("click", (event) => {
  const link = event.target.closest("#map a");
  if (!link || event.ctrlKey || event.metaKey || event.shiftKey || event.button !== 0) return;
  event.preventDefault();
  go(link.getAttribute("href"));
});
