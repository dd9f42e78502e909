// Handles: rules that move several settings at once. Gathered by moving these, from where they stood to where they are left.

import { $, $$, toast } from "./dom.js";
import { hand, once, over } from "./focus.js";
import { picture } from "./looking.js";
import { on } from "./messages.js";
import { changedBy, post, set, settled } from "./session.js";
import { state } from "./state.js";

/** @typedef {{ path: string, position: Record<string, number>, into: string, name: string }} Begun */
const key = () => `gathering:${state.id}`;
/** @returns {Begun | null} */
const begun = () => JSON.parse(sessionStorage.getItem(key()) ?? "null");
let open = ""; // the handle whose inside is shown

/** What is drawn anew stands as it stood: the inside that was open, and what is being gathered. */
export function showGathering() {
  const box = $("#handles");
  if (!box) return;
  const gathering = begun();
  const here = gathering?.path === box.dataset.path;
  $("#gathering").hidden = !here;
  const name = $("#gathering [name=name]");
  if (here && gathering.name && !name.value) name.value = gathering.name;
  name.readOnly = Boolean(here && gathering.into);
  $("#gather")?.setAttribute("aria-pressed", String(here));
  for (const inside of $$("[data-inside]", box)) {
    inside.hidden = inside.dataset.inside !== open;
    $(`[data-handle-open="${inside.dataset.inside}"]`, box).setAttribute("aria-expanded", String(!inside.hidden));
  }
}
document.addEventListener("htmx:afterSettle", showGathering);
on("changed", () => requestAnimationFrame(showGathering));

/** @param {Element} pressed @param {string} [into] @param {string} [name] */
async function begin(pressed, into = "", name = "") {
  if (!once(pressed)) return;
  const still = hand();
  await settled();
  const answer = await picture(`/s/${state.id}/handles/position?of=${encodeURIComponent($("#handles").dataset.path)}`);
  const from = await answer?.json();
  over(pressed); // from here on in one go: the focus goes to the name before anything else can be pressed
  if (!from || !$("#gathering")) return;
  sessionStorage.setItem(key(), JSON.stringify({ ...from, into, name }));
  $("#gathering").reset();
  showGathering();
  if (!into && still()) $("#gathering [name=name]").focus();
}
function leave(still = hand()) {
  const free = still(); // before its form goes
  sessionStorage.removeItem(key());
  showGathering();
  if (free) $("#gather")?.focus();
}

document.addEventListener("click", async (event) => {
  const target = event.target instanceof Element ? event.target : null;
  if (target?.closest("#gather")) return void (begun()?.path === $("#handles").dataset.path ? leave() : begin($("#gather")));
  if (target?.closest("#gather-leave")) return void leave();
  const opener = target?.closest("[data-handle-open]");
  if (opener instanceof HTMLElement) {
    open = open === opener.dataset.handleOpen ? "" : opener.dataset.handleOpen;
    return void showGathering();
  }
  const again = target?.closest("[data-handle-again]");
  if (again instanceof HTMLElement) return void begin(again, again.dataset.handleAgain, $("[data-handle-name]", again.parentElement).value);
  const doing = target?.closest("[data-handle-do]");
  if (doing instanceof HTMLButtonElement && once(doing)) {
    await range(doing, { [doing.dataset.handleDo]: true });
    over(doing);
  }
  return undefined;
});
document.addEventListener("submit", async (event) => {
  if (event.target !== $("#gathering")) return;
  event.preventDefault();
  const gathering = begun();
  if (!gathering) return void leave();
  const still = hand();
  await settled();
  const name = String(new FormData($("#gathering")).get("name"));
  const told = await post(`/s/${state.id}/handles/gather`, { path: gathering.path, position: gathering.position, into: gathering.into, name });
  if (!told) return;
  leave(still);
  changedBy(told);
  toast("It is at 100 %, where you left the settings. Undo takes it back.");
});
document.addEventListener("change", (event) => {
  const field = event.target instanceof HTMLInputElement ? event.target : null;
  if (field?.matches("[data-handle-name]")) {
    const name = field.value.trim();
    if (name) set(`${$("#handles").dataset.base}/handles/${field.dataset.handleName}/name`, name, { structure: true });
    else field.value = field.defaultValue;
  }
  if (field?.matches("[data-end]")) range(field, { [field.dataset.end]: field.value });
});

/** @param {HTMLElement} within @param {Record<string, string | boolean>} what */
async function range(within, what) {
  await settled();
  const move = Number(within.closest("[data-handle-move]").dataset.handleMove);
  const handle = within.closest("[data-inside]").dataset.inside;
  const told = await post(`/s/${state.id}/handles/range`, { path: $("#handles").dataset.path, handle, move, ...what });
  if (told) changedBy(told);
  else if (within instanceof HTMLInputElement) within.value = within.defaultValue;
}
