// A session's own screen: names, key, roles and ways are typed and chosen, rows are moved, copied and taken away.

import { $, $$, toast } from "./dom.js";
import { again, live } from "./focus.js";
import { player } from "./player.js";
import { redraw } from "./redraw.js";
import { register } from "./screens.js";
import { change, changedBy, give, post, set } from "./session.js";
import { state } from "./state.js";
import { loopSomewhere } from "./strip.js";

let focusNext = ""; // what the hand goes on with once the rows are drawn again

// The rows are drawn again under the hand: what is being typed stays, and the focus with it.
async function changed() {
  /** @type {string[]} */
  let pressed = [];
  const before = () => void (pressed = $$("[data-for-bus][aria-pressed=true]").map((b) => b.dataset.forBus));
  const after = () => {
    for (const b of $$("[data-for-bus]")) b.setAttribute("aria-pressed", pressed.includes(b.dataset.forBus));
  };
  const focus = (back) => [focusNext || back, "#body [data-put]"];
  if (!(await redraw(`/s/${state.id}/members`, { focus, before, after, stays: () => true }))) return;
  focusNext = "";
  document.body.dataset.drawn = String(state.version);
}
register("session", {
  changed,
  shown() {
    if (player.first >= player.last - 1 && state.frames) loopSomewhere(1);
  },
});

document.addEventListener("change", async (event) => {
  const field = /** @type {HTMLInputElement} */ (event.target);
  const { put, role } = field.dataset;
  if (put) await given(field, put);
  if (role) {
    const told = await post(`/s/${state.id}/lane/${role}/role`, { role: field.value });
    if (told) changedBy(told);
    else changed();
  }
  if (field.id === "take-file" && field.files?.length) await anotherTake(field);
});

async function given(field, path) {
  const value = field.value.trim();
  field.removeAttribute("aria-invalid");
  if (field.value === field.defaultValue) return;
  if (field.required && !value) {
    field.value = field.defaultValue;
    return toast("A name needs at least one letter; the old one stays.");
  }
  if (path !== "key") {
    field.defaultValue = field.value; // it counts as kept, so that it is not sent twice
    return void set(path, value, { structure: true });
  }
  if (field.dataset.sent === value) return; // Enter, and the field's own event after it
  field.dataset.sent = value;
  const told = await post(`/s/${state.id}/key`, { text: value });
  delete field.dataset.sent;
  if (told) {
    field.defaultValue = field.value; // it is kept, as the server spells it
    return changedBy(told);
  }
  field.setAttribute("aria-invalid", "true"); // what was typed stays, to be put right
  if (document.activeElement !== field && document.activeElement !== document.body) return; // the hand has gone on
  field.focus();
  field.select();
}

document.addEventListener("keydown", (event) => {
  const field = event.target.closest?.("input[data-put]");
  if (field && event.key === "Escape") {
    field.value = field.defaultValue;
    field.removeAttribute("aria-invalid");
  }
  if (field && event.key === "Enter") field.dispatchEvent(new Event("change", { bubbles: true }));
  const mover = event.target.closest?.("[data-move]");
  const by = { ArrowUp: -1, ArrowDown: 1 }[event.key];
  if (!mover || !by || !event.altKey) return;
  event.preventDefault();
  const rows = rowsOf(mover);
  const index = rows.indexOf(mover.closest("tr")) + by;
  if (index >= 0 && index < rows.length) moveTo(mover, index);
});

const rowsOf = (element) => $$("tr", element.closest("tbody"));
function moveTo(mover, index) {
  focusNext = again(mover);
  change([{ op: "move", path: mover.dataset.move, index }], { structure: true });
}

/** @type {{ mover: HTMLElement, row: HTMLElement, y: number } | null} */
let drag = null;
/** Its row as it is drawn now. */
function held() {
  const mover = live(drag.mover);
  Object.assign(drag, { mover, row: mover.closest("tr") });
  return drag;
}
document.addEventListener("pointerdown", (event) => {
  const mover = event.target.closest?.("[data-move]");
  if (!mover || event.button !== 0) return;
  drag = { mover, row: mover.closest("tr"), y: event.clientY };
  mover.setPointerCapture(event.pointerId);
});
document.addEventListener("pointermove", (event) => {
  if (drag) held().row.style.transform = `translateY(${event.clientY - drag.y}px)`;
});
document.addEventListener("pointerup", (event) => {
  if (!drag) return;
  const { mover, row } = held();
  drag = null;
  row.style.transform = "";
  if (!row.isConnected) return; // it has been taken away meanwhile
  const rows = rowsOf(mover);
  const others = rows.filter((r) => r !== row);
  const index = others.filter((r) => r.getBoundingClientRect().top + r.offsetHeight / 2 < event.clientY).length;
  if (index !== rows.indexOf(row)) moveTo(mover, index);
});
document.addEventListener("pointercancel", () => {
  if (drag) drag.row.style.transform = "";
  drag = null;
});

let lane = "";
document.addEventListener("click", async (event) => {
  const act = event.target.closest("[data-member-do]");
  if (act) {
    const { member, memberDo } = act.dataset;
    const row = act.closest("tr");
    const beside = row.nextElementSibling ?? row.previousElementSibling;
    const told = await post(`/s/${state.id}/members/${encodeURIComponent(member)}/${memberDo}`);
    if (!told) return;
    focusNext = memberDo === "delete" && beside ? again($("[data-move]", beside)) : again(act);
    changedBy(told, { data: true });
    toast(memberDo === "delete" ? `${$("input", row).value} is gone. Undo takes it back.` : `Copied; what it is called can be typed over.`);
  }
  const chosen = event.target.closest("[data-for-bus]");
  if (chosen) chosen.setAttribute("aria-pressed", chosen.getAttribute("aria-pressed") !== "true");
  if (event.target.closest("#make-bus")) {
    const lanes = $$("[data-for-bus][aria-pressed=true]").map((b) => b.dataset.forBus);
    const told = await post(`/s/${state.id}/buses`, { name: $("#bus-name").value.trim() || "New bus", lanes });
    if (!told) return;
    $("#bus-name").value = "";
    for (const b of $$("[data-for-bus]")) b.setAttribute("aria-pressed", "false");
    focusNext = `[data-put="buses/${told.name.replace("bus:", "")}/name"]`;
    changedBy(told, { data: true });
  }
  const take = event.target.closest("[data-take]");
  if (take) {
    lane = take.dataset.take;
    $("#take-file").click();
  }
});

async function anotherTake(field) {
  const file = field.files[0];
  toast(`Reading ${file.name} …`);
  const told = await give(`/s/${state.id}/lane/${lane}/take`, file);
  field.value = "";
  if (!told) return;
  focusNext = `[data-take="${CSS.escape(lane)}"]`;
  changedBy(told, { data: true });
  toast(`${file.name} is on the lane now; its chain, sends and levels stayed. Undo takes it back.`);
}
