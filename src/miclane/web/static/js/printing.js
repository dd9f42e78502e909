// The Print screen: start, follow, cancel.

import { register } from "./screens.js";
import { post, set, state, toast, $, $$ } from "./session.js";

let timer = 0;

async function follow() {
  clearTimeout(timer);
  if (!$("#prints")) return;
  await htmx.ajax("GET", `/s/${state.id}/prints`, { target: "#prints", swap: "innerHTML" });
  if ($("#prints-list")?.dataset.busy === "1") timer = setTimeout(follow, 400);
}

register("print", { shown: () => void ($("#prints-list")?.dataset.busy === "1" && follow()) });

document.addEventListener("submit", async (event) => {
  if (event.target.id !== "print-form") return;
  event.preventDefault();
  const targets = $$("input[name=target]:checked", event.target).map((i) => i.value);
  if (!targets.length) return void toast("Tick what to print.");
  if (await post(`/s/${state.id}/prints`, { targets, format: event.target.elements.format.value })) follow();
});
document.addEventListener("click", async (event) => {
  const float = event.target.closest("[data-print-float]");
  if (float && (await post(`/s/${state.id}/prints`, { targets: [float.dataset.printFloat], format: "wav-32" }))) follow();
  const down = event.target.closest("[data-turn-down]");
  if (down && (await set(down.dataset.turnDown, Number(down.dataset.value)))) {
    toast("The fader is down; the next print holds all of it.");
    down.disabled = true;
  }
  const cancel = event.target.closest("[data-cancel]");
  if (cancel && (await post(`/s/${state.id}/prints/${cancel.dataset.cancel}/cancel`))) follow();
});
