// The settings sheet: what each stage did over the song comes after the settings, path by path.

import { $, $$ } from "./dom.js";
import { URGENCY } from "./line.js";
import { picture } from "./looking.js";
import { player } from "./player.js";
import { register } from "./screens.js";
import { state } from "./state.js";
import { loopSomewhere } from "./strip.js";

let token = 0;
async function measure() {
  const mine = ++token;
  for (const part of $$("[data-sheet]")) {
    if (!$("[data-did]", part)) continue;
    const answer = await picture(`/s/${state.id}/sheet/did?path=${encodeURIComponent(part.dataset.sheet)}`, { part: true, urgency: URGENCY.figures });
    if (mine !== token || !part.isConnected) return;
    const told = answer ? await answer.json() : {};
    for (const spot of $$("[data-did]", part)) spot.textContent = told[spot.dataset.did] ?? "";
  }
  document.body.dataset.measured = "1";
}
register("sheet", {
  shown() {
    if (player.first >= player.last - 1 && state.frames) loopSomewhere(1);
    measure();
  },
});
document.addEventListener("click", (event) => {
  if (event.target instanceof Element && event.target.closest("[data-on-paper]")) print();
});
