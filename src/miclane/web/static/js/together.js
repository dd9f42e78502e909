// Several lanes at once: what is changed on one of them is changed on all. Ctrl or Shift with a click, or with Enter, on the side list or the map.

import { $, $$ } from "./dom.js";
import { on } from "./messages.js";
import { state } from "./state.js";

const LANES = ".side a[data-lane], #map a[data-lane]";
const kept = () => `together:${state.id}`;
const onLane = () => state.screen === "lane" && !state.lane.includes(":");

/** @param {string} lane */
function toggle(lane) {
  const had = state.together.length ? state.together : onLane() ? [state.lane] : [];
  state.together = had.includes(lane) ? had.filter((l) => l !== lane) : [...had, lane];
  sessionStorage.setItem(kept(), JSON.stringify(state.together));
  show();
}

/** @param {Element} link */
const nameOf = (link) => (link.querySelector(".who") ?? link.querySelector("title"))?.textContent?.trim() ?? "";

export function show() {
  const links = $$(LANES);
  if (!links.length) return;
  state.together = JSON.parse(sessionStorage.getItem(kept()) ?? "[]").filter((l) => links.some((a) => a.dataset.lane === l));
  for (const link of links) link.classList.toggle("with", state.together.includes(link.dataset.lane));
  const box = $("#together");
  box.hidden = state.together.length < 2;
  if (box.hidden) return;
  const others = state.together.filter((l) => !onLane() || l !== state.lane);
  const names = others.map((l) => nameOf(links.find((a) => a.dataset.lane === l)));
  const here = others.length < state.together.length;
  box.textContent = here ? `What is changed here is changed on ${names.join(", ")} too. ` : `${names.join(", ")} are changed together. `;
  const alone = document.createElement("button");
  alone.className = "btn small";
  alone.textContent = "Each alone again";
  alone.addEventListener("click", () => {
    sessionStorage.removeItem(kept());
    show();
  });
  box.append(alone);
}

/** @param {MouseEvent | KeyboardEvent} event */
function chosen(event) {
  const link = event.target instanceof Element ? event.target.closest(LANES) : null;
  if (!(link instanceof HTMLElement || link instanceof SVGElement) || !(event.ctrlKey || event.metaKey || event.shiftKey)) return;
  event.preventDefault();
  event.stopImmediatePropagation();
  toggle(link.dataset.lane ?? "");
}
document.addEventListener("click", chosen, true);
document.addEventListener("keydown", (event) => event.key === "Enter" && chosen(event), true);
on("changed", ({ structure }) => structure && setTimeout(show));
