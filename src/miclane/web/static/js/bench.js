// The bench: pictures that follow the sound, switches, choices, what is added and taken away.

import { on, say } from "./messages.js";
import { change, picture, set, state, $, $$ } from "./session.js";
import { measured, player } from "./player.js";
import "./rule.js";

const bench = () => $("#bench");
const query = ([first, last]) => `lane=${state.lane}&hear=${player.hear}&start=${first}&stop=${last}&first=${first}&last=${last}`;
let token = 0;

export function reloadBody(stage, band = 0) {
  const box = bench();
  const chosen = stage ?? box?.dataset.stage ?? "";
  const which = band ?? 0;
  const address = `/s/${state.id}/lane/${state.lane}/body?stage=${encodeURIComponent(chosen)}&band=${which}`;
  const back = sameAgain(document.activeElement);
  return htmx.ajax("GET", address, { target: "#body", swap: "innerHTML" }).then(() => {
    const place = `${location.pathname}?stage=${encodeURIComponent(chosen)}${which ? `&band=${which}` : ""}`;
    window.history.replaceState(window.history.state, "", place);
    if (back) $(back)?.focus();
    document.body.dataset.drawn = String(state.version);
    refreshPictures();
    if (player.figures?.stations) showReadings(player.figures);
  });
}

// A selector of the same control once its part of the page has been drawn again.
const KNOWN_BY = ["data-path", "data-switch", "data-make-dynamic", "data-select", "data-pick-band", "data-trims", "data-apply"];
function sameAgain(element) {
  if (!element?.closest?.("#body")) return null;
  if (element.id) return `#${CSS.escape(element.id)}`;
  if (element.matches(".station")) return `.station[data-stage="${CSS.escape(element.dataset.stage)}"]`;
  if (element.matches(".bar-group")) return `.bar-group[data-phrase="${CSS.escape(element.dataset.phrase)}"]`;
  const name = KNOWN_BY.find((a) => element.hasAttribute(a));
  return name ? `[${name}="${CSS.escape(element.getAttribute(name))}"]` : null;
}

export function open(stage) {
  const place = `${location.pathname}?stage=${encodeURIComponent(stage)}`;
  window.history.pushState({ stage }, "", place);
  reloadBody(stage);
}

export async function refreshPictures() {
  const box = bench();
  if (!box?.dataset.stage || box.dataset.stale || !player.last) return;
  if (!state.frames) return void say("bench", { picture: box.dataset.picture, stage: box.dataset.stage });
  const mine = ++token;
  const stage = box.dataset.stage;
  const over = measured();
  say("bench", { picture: box.dataset.picture, stage });
  if (!$("#measured") || box.dataset.measured !== "1") return;
  try {
    const answer = await picture(`/s/${state.id}/lane/${state.lane}/picture/${stage}?${query(over)}&band=${box.dataset.band || 0}`, { headers: { "hx-request": "true" } });
    if (!answer || mine !== token || bench()?.dataset.stage !== stage) return;
    $("#measured").innerHTML = await answer.text();
  } catch {
    /* the next render draws it */
  }
}

// ---- switches, choices, adding and removing ----

export function stageMenu(anchor, path, index) {
  closeMenu();
  const box = anchor.getBoundingClientRect();
  const menu = document.createElement("div");
  menu.className = "menu";
  menu.setAttribute("role", "menu");
  const inSplit = path.includes("/branches/");
  for (const k of JSON.parse($("#kinds").textContent)) {
    if (inSplit && !k.in_branches) continue;
    const item = document.createElement("button");
    item.setAttribute("role", "menuitem");
    const title = document.createElement("span");
    title.textContent = k.title;
    const note = document.createElement("span");
    note.className = "dim";
    note.textContent = k.summary;
    item.append(title, note);
    item.addEventListener("click", () => {
      closeMenu();
      insertStage(path, index, k);
    });
    menu.append(item);
  }
  $("#layer").append(menu);
  menu.style.left = `${Math.min(box.left, innerWidth - menu.offsetWidth - 10)}px`;
  menu.style.top = `${Math.min(box.bottom + 6, innerHeight - menu.offsetHeight - 10)}px`;
  $("button", menu).focus();
  menu.addEventListener("keydown", (event) => {
    event.stopPropagation();
    const items = $$("button", menu);
    const at = items.indexOf(document.activeElement);
    if (event.key === "ArrowDown") items[(at + 1) % items.length].focus();
    else if (event.key === "ArrowUp") items[(at + items.length - 1) % items.length].focus();
    else if (event.key === "Escape") {
      closeMenu();
      anchor.focus?.();
    } else return;
    event.preventDefault();
  });
}

function closeMenu() {
  $("#layer").replaceChildren();
}
document.addEventListener("pointerdown", (event) => {
  if (!event.target.closest(".menu")) closeMenu();
});

function insertStage(path, index, { kind, fresh }) {
  const id = `s${crypto.randomUUID().slice(0, 8)}`;
  const value = { ...fresh, kind, id };
  change([{ op: "insert", path, index, value }], { structure: true, select: { stage: id } });
}

document.addEventListener("click", (event) => {
  const at = (selector) => event.target.closest(selector);
  const insert = at("[data-insert]");
  if (insert) {
    let index = Number(insert.dataset.index);
    if (index < 0) index = Number($(".station[aria-current]")?.dataset.index ?? 0) + 1;
    return stageMenu(insert, insert.dataset.insert, index);
  }
  const flip = at("[data-switch]");
  if (flip) {
    const bypass = flip.id === "bypass";
    const on = flip.getAttribute("aria-pressed") === "true";
    return void set(flip.dataset.switch, bypass ? on : !on, { structure: true });
  }
  const choice = at("[data-choice] button");
  if (choice) {
    const box = choice.closest("[data-choice]");
    $$("button", box).forEach((b) => b.setAttribute("aria-checked", b === choice));
    return void set(box.dataset.choice, box.dataset.number ? Number(choice.dataset.value) : choice.dataset.value, { structure: true });
  }
  const remove = at("[data-remove]");
  if (remove) return void change([{ op: "remove", path: remove.dataset.remove }], { structure: true });
  const branch = at("[data-add-branch]");
  if (branch) return void change([{ op: "insert", path: branch.dataset.addBranch, index: Number(branch.dataset.index), value: JSON.parse(branch.dataset.value) }], { structure: true });
  if (at("#rename")) rename(at("#rename"));
});
document.addEventListener("change", (event) => {
  const select = event.target.closest("[data-select]");
  if (select) set(select.dataset.select, select.value, { structure: true });
});

function rename(button) {
  const input = document.createElement("input");
  input.className = "field-text";
  input.maxLength = 120;
  input.value = button.dataset.name;
  input.setAttribute("aria-label", "Name of the stage");
  button.replaceWith(input);
  input.select();
  let done = false;
  const finish = (keep) => {
    if (done) return;
    done = true;
    if (keep && input.value !== button.dataset.name) set(`${bench().dataset.path}/name`, input.value.trim(), { structure: true });
    else input.replaceWith(button);
  };
  input.addEventListener("keydown", (event) => {
    event.stopPropagation();
    if (event.key === "Enter") finish(true);
    if (event.key === "Escape") finish(false);
  });
  input.addEventListener("blur", () => finish(true));
}

export function showReadings(told) {
  for (const [id, { figure, says }] of Object.entries(told.stations)) {
    const spot = $(`[data-reading="${CSS.escape(id)}"]`);
    if (spot) spot.textContent = figure;
    if (bench()?.dataset.stage === id && says && $("#say")) $("#say").textContent = says;
  }
  const level = $("#lane-level");
  if (level && player.hear === "lane" && level.textContent !== "muted") level.textContent = told.lufs <= -100 ? "silent" : `${told.lufs.toFixed(1).replace("-", "−")} LUFS`;
}

on("readings", (told) => showReadings(told));
on("light", refreshPictures);
