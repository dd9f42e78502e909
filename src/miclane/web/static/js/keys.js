// The list of keys: those of the screen one is on, and those that work everywhere.

import { $, $$ } from "./dom.js";
import { state } from "./state.js";

let before = null;

export function showKeys() {
  const dialog = $("#keys");
  for (const group of $$("[data-for]", dialog)) {
    const screens = group.dataset.for.split(" ").filter(Boolean);
    group.hidden = screens.length > 0 && !screens.includes(state.screen);
  }
  before = document.activeElement;
  dialog.showModal();
  dialog.scrollTop = 0;
}

document.addEventListener("close", (event) => event.target.id === "keys" && before?.focus?.(), true);
