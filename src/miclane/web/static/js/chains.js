// The Chains screen: kept, searched, tried as an alternative, put on a lane, carried as files.

import { take } from "./alternatives.js";
import { $, $$, sure, toast } from "./dom.js";
import { once, over } from "./focus.js";
import { URGENCY } from "./line.js";
import { picture } from "./looking.js";
import { listen, player } from "./player.js";
import { redraw } from "./redraw.js";
import { register } from "./screens.js";
import { change, changedBy, give, post, settled } from "./session.js";
import { state } from "./state.js";
import { loopSomewhere } from "./strip.js";

const to = () => $("#chains-to")?.value ?? "";
const also = () => $$("[data-chain-also][aria-pressed=true]").map((b) => b.dataset.chainAlso).filter((path) => path !== to());
const words = () => $("#chains-words")?.value.trim() ?? "";
const tagsOf = (text) => text.split(",").map((t) => t.trim()).filter(Boolean).slice(0, 12);

function again(focus = (back) => [back, "#chains-words"]) {
  return redraw(`/s/${state.id}/chains/body?to=${encodeURIComponent(to())}&words=${encodeURIComponent(words())}`, { focus });
}
register("chains", {
  shown() {
    if (player.first >= player.last - 1 && state.frames) loopSomewhere(1);
  },
});

let typing = 0;
document.addEventListener("input", (event) => {
  if (!event.target.matches?.("#chains-words")) return;
  clearTimeout(typing);
  typing = setTimeout(again, 150);
});
document.addEventListener("submit", async (event) => {
  if (event.target !== $("#chain-keep")) return;
  event.preventDefault();
  const form = new FormData($("#chain-keep"));
  const button = $("#chain-keep button");
  if (!once(button)) return;
  const told = await post(`/s/${state.id}/chains`, { path: to(), name: form.get("name"), tags: tagsOf(String(form.get("tags"))) });
  over(button);
  if (!told) return;
  $("#chain-keep").reset();
  toast(`“${told.name}” is kept.`);
  again();
});
document.addEventListener("change", async (event) => {
  if (event.target.matches?.("#chains-to")) return void history.replaceState(history.state, "", `?to=${encodeURIComponent(to())}`);
  if (event.target.matches?.("#chain-file")) return void files([...event.target.files]);
  const field = event.target.closest?.("[data-chain-field]");
  if (!field) return undefined;
  const card = field.closest("[data-chain]");
  const [name, note, tags] = ["name", "note", "tags"].map((which) => $(`[data-chain-field="${which}"]`, card).value);
  await post(`/chains/${card.dataset.chain}/describe`, { name, note, tags: tagsOf(tags) });
  again();
  return undefined;
});

/** Chain files, one after the other; one that is none is named and the others are kept. @param {File[]} chosen */
async function files(chosen) {
  const refused = [];
  const kept = [];
  for (const file of chosen) {
    const told = await give("/chains/file", file, (why) => refused.push(why));
    if (told) kept.push(told.name);
  }
  if ($("#chain-file")) $("#chain-file").value = "";
  toast([kept.length ? `Kept: ${kept.join(", ")}.` : "", ...refused].filter(Boolean).join(" "));
  again();
}
// dropped here, a chain file is a chain; all else is sound for the song, as on every screen
addEventListener("drop", (event) => {
  const dropped = [...(event.dataTransfer?.files ?? [])];
  if (state.screen !== "chains" || !dropped.length || !dropped.every((f) => /\.json$/i.test(f.name))) return;
  event.preventDefault();
  event.stopImmediatePropagation();
  files(dropped);
}, true);

document.addEventListener("click", async (event) => {
  const target = event.target instanceof Element ? event.target : null;
  const list = $(".chains-also");
  if (list?.open && !target?.closest(".chains-also")) list.open = false;
  const other = target?.closest("[data-chain-also]");
  if (other) {
    other.setAttribute("aria-pressed", String(other.getAttribute("aria-pressed") !== "true"));
    return void ($("#chains-count").textContent = also().length || "");
  }
  const keeps = target?.closest("[data-chain-keep]");
  if (keeps) return void keeps.setAttribute("aria-pressed", String(keeps.getAttribute("aria-pressed") !== "true"));
  const button = target?.closest("[data-chain-do]");
  if (!(button instanceof HTMLButtonElement)) return undefined;
  const card = button.closest("[data-chain]");
  const id = card.dataset.chain;
  const what = button.dataset.chainDo;
  if (what === "copy") {
    if (await post(`/chains/${id}/copy`)) again();
    return undefined;
  }
  if (what === "delete") {
    if (!(await sure(button, "Delete it?")) || !(await post(`/chains/${id}/delete`))) return undefined;
    deleted = id;
    await again();
    return void undoable($(`[data-chain-field="name"]`, card).value);
  }
  if (!once(button)) return undefined;
  const kept = $$("[data-chain-keep][aria-pressed=true]", card).map((b) => b.dataset.chainKeep);
  const trying = what === "try";
  const onto = trying ? [to()] : [to(), ...also()];
  const told = await post(`/s/${state.id}/chains/${id}/${trying ? "try" : "put"}`, { to: onto, keeps: kept, ...(trying ? {} : { how: what }) });
  over(button);
  if (!told) return undefined;
  changedBy(told, { data: true });
  if (trying) {
    if (!to().includes(":")) listen(player.hear, to());
    take(told);
  }
  const where = onto.map((path) => $(`#chains-to option[value="${path}"]`).textContent).join(", ");
  const left = told.left_out.length ? ` Left out: ${told.left_out.join("; ")}.` : "";
  if (!trying) measureAnew(onto.filter((path) => !path.includes(":")));
  toast(trying ? `Tried on ${where}: [ and ] switch while it plays.${left}` : `Put on ${where}. Undo takes it back.${left}`);
  return undefined;
});

/** What of the chain depends on the take is measured on these, and offered. @param {string[]} lanes */
async function measureAnew(lanes) {
  const box = $("#chains-anew");
  if (!box || !lanes.length) return;
  box.textContent = "Measuring what depends on the take …";
  await settled();
  const answer = await picture(`/s/${state.id}/chains/anew?${lanes.map((lane) => `to=${encodeURIComponent(lane)}`).join("&")}`, { part: true, urgency: URGENCY.figures });
  if (box.isConnected) box.innerHTML = answer ? await answer.text() : "";
}
document.addEventListener("click", (event) => {
  const target = event.target instanceof Element ? event.target : null;
  const set = target?.closest("[data-chain-anew]");
  if (!set && !target?.closest("[data-chain-leave]")) return;
  $("#chains-anew").replaceChildren();
  $("#page")?.focus(); // where Ctrl Z is heard
  if (!(set instanceof HTMLElement)) return;
  change(JSON.parse(set.dataset.chainAnew), { structure: true, data: true });
  toast("Set from this take. Undo takes it back.");
});

let deleted = "";
/** What was just deleted can be had back. @param {string} name */
function undoable(name) {
  const line = document.createElement("p");
  line.className = "mt-2";
  line.id = "chain-back";
  line.append(`“${name}” is deleted. `);
  const back = document.createElement("button");
  back.className = "btn small";
  back.textContent = "Bring it back";
  back.addEventListener("click", async () => {
    if (await post(`/chains/${deleted}/restore`)) again();
  });
  line.append(back);
  $("#chains")?.prepend(line);
  back.focus();
}
