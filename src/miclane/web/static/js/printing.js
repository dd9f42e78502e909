// The Print screen: start, follow, cancel.

import { $, $$, sure, toast } from "./dom.js";
import { URGENCY } from "./line.js";
import { picture } from "./looking.js";
import { on } from "./messages.js";
import { player } from "./player.js";
import { redraw } from "./redraw.js";
import { register } from "./screens.js";
import { change, post, set } from "./session.js";
import { state } from "./state.js";
import { loopSomewhere } from "./strip.js";

const follow = () => $("#prints") && redraw(`/s/${state.id}/prints`, { target: "#prints" });
on("news", ({ prints }) => prints === state.id && follow());
on("line", follow); // what has got on meanwhile

// What would go over full scale is said before it is printed, of what is ticked now.
const RESTED_MS = 500;
let asking = 0;
const chosen = () => $$("#print-form input[name=snapshot]:checked").map((i) => i.value);
const level = (field) => (field.value === "" ? null : Number(field.value));
let token = 0;
function peaks() {
  clearTimeout(asking);
  asking = setTimeout(async () => {
    const [form, spot] = [$("#print-form"), $("#print-peaks")];
    const targets = form ? $$("input[name=target]:checked", form).map((i) => i.value) : [];
    if (!spot || !state.frames) return;
    const mine = ++token;
    const turned = form.elements.loudness.value !== "" || form.elements.ceiling.value !== "";
    if (!targets.length || turned) return void spot.replaceChildren(); // what is turned to a level is said with the print
    spot.innerHTML = '<p class="dim">Measuring what these would come to …</p>';
    const query = new URLSearchParams([...targets.map((t) => ["target", t]), ["format", form.elements.format.value], ["stems", form.elements.stems.value === "1" ? "true" : "false"], ["snapshot", chosen()[0] ?? ""]]);
    const answer = await picture(`/s/${state.id}/prints/peaks?${query}`, { part: true, urgency: URGENCY.next });
    if (mine !== token || !spot.isConnected) return;
    spot.innerHTML = answer ? await answer.text() : "";
  }, RESTED_MS);
}
document.addEventListener("change", (event) => event.target.closest?.("#print-form") && peaks());

register("print", {
  changed: peaks,
  shown() {
    peaks();
    if (player.first >= player.last - 1 && state.frames) loopSomewhere(1);
  },
});

document.addEventListener("submit", async (event) => {
  if (event.target.id !== "print-form") return;
  event.preventDefault();
  const targets = $$("input[name=target]:checked", event.target).map((i) => i.value);
  if (!targets.length) return void toast("Tick what to print.");
  const { format, stems, loudness, ceiling, naming, markers } = event.target.elements;
  const snapshots = chosen();
  if ($("#print-form input[name=snapshot]") && !snapshots.length) return void toast("Tick what it is to be of: what is now, or a snapshot.");
  const query = new URLSearchParams((snapshots.length ? snapshots : [""]).map((id) => ["snapshot", id]));
  const body = { targets, format: format.value, stems: stems.value === "1", loudness_lufs: level(loudness), ceiling_dbtp: level(ceiling), naming: naming.value, markers: markers.checked };
  if (await post(`/s/${state.id}/prints?${query}`, body)) follow();
});
document.addEventListener("click", async (event) => {
  const float = event.target.closest("[data-print-float]");
  if (float && (await post(`/s/${state.id}/prints`, { targets: [float.dataset.printFloat], format: "wav-32" }))) follow();
  const down = event.target.closest("[data-turn-down]");
  if (down && (await set(down.dataset.turnDown, Number(down.dataset.value)))) {
    toast("The fader is down; the next print holds all of it.");
    down.disabled = true;
  }
  const gone = event.target.closest("[data-delete-print]");
  if (gone && (await sure(gone, "Delete its files")) && (await post(`/s/${state.id}/prints/${gone.dataset.deletePrint}/delete`))) follow();
  if (event.target.closest("#all-stems")) {
    for (const box of $$("#print-form input[name=target]")) box.checked = "stem" in box.dataset;
    $("#print-form input[name=stems][value='1']").checked = true;
    peaks();
  }
  const field = event.target.closest("[data-field]");
  if (field) {
    const naming = $("#print-form input[name=naming]");
    naming.setRangeText(`{${field.dataset.field}}`, naming.selectionStart, naming.selectionEnd, "end");
    naming.focus();
  }
  const ceiling = event.target.closest("[data-ceiling]");
  if (ceiling && (await change(JSON.parse(ceiling.dataset.ceiling), { structure: true }))) {
    $("#no-ceiling").remove();
    toast("A ceiling at −1 dBTP ends the mix now. Undo takes it away.");
  }
  const cancel = event.target.closest("[data-cancel]");
  if (cancel && (await post(`/s/${state.id}/prints/${cancel.dataset.cancel}/cancel`))) follow();
});
