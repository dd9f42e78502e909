// The Map: the picture follows every change; buttons in it work by mouse and keyboard.

import { change, set, state, $ } from "./session.js";
import { register } from "./screens.js";
import { listen, player } from "./player.js";
import { loopSomewhere } from "./strip.js";

function shown() {
  if (player.hear === "lane") listen("mix", state.lane);
  if (player.first >= player.last - 1) loopSomewhere(1);
}

function changed() {
  const focus = document.activeElement?.closest?.("[data-path], [data-switch]");
  const back = focus && (focus.dataset.path ? `[data-path="${CSS.escape(focus.dataset.path)}"]` : `[data-switch="${CSS.escape(focus.dataset.switch)}"]`);
  htmx.ajax("GET", `/s/${state.id}/map/body`, { target: "#body", swap: "innerHTML" }).then(() => {
    document.body.dataset.drawn = String(state.version);
    if (back) $(back)?.focus();
  });
}

register("map", { shown, changed });

document.addEventListener("keydown", (event) => {
  const button = event.target.closest?.(".map-btn");
  if (!button || (event.key !== "Enter" && event.key !== " ")) return;
  event.preventDefault();
  event.stopPropagation();
  set(button.dataset.switch, button.getAttribute("aria-pressed") !== "true", { structure: true });
}, true);

document.addEventListener("click", (event) => {
  if (!event.target.closest("#add-bus")) return;
  const id = `bus${crypto.randomUUID().slice(0, 8)}`;
  change([{ op: "insert", path: "buses", index: 0, value: { id, name: "New bus", into: "mix" } }], { structure: true }).then((told) => told && location.assign(`/s/${state.id}/lane/bus:${id}?stage=out`));
});
