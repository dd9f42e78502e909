// The Print screen: start, follow, cancel.

import { register } from "./screens.js";
import { post, state, toast, $, $$ } from "./session.js";

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
  const cancel = event.target.closest("[data-cancel]");
  if (cancel && (await post(`/s/${state.id}/prints/${cancel.dataset.cancel}/cancel`))) follow();
});
