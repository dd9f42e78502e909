// The bench: pictures that follow the sound, switches, choices, what is added and taken away.

import { $, $$ } from "./dom.js";
import { typingIn } from "./focus.js";
import { picture } from "./looking.js";
import { openMenu } from "./menu.js";
import { on, say } from "./messages.js";
import { measured, player } from "./player.js";
import { redraw } from "./redraw.js";
import { change, set } from "./session.js";
import { state } from "./state.js";
import "./rule.js";

const bench = () => $("#bench");
const query = ([first, last]) => `lane=${state.lane}&hear=${player.hear}&start=${first}&stop=${last}&first=${first}&last=${last}`;
let token = 0;
const BAND = /(\\\/bands\\\/)\d+/; // in a selector made by `again`

export function reloadBody(stage, band = 0) {
  const box = bench();
  const chosen = stage ?? box?.dataset.stage ?? "";
  const which = band ?? 0;
  const address = `/s/${state.id}/lane/${state.lane}/body?stage=${encodeURIComponent(chosen)}&band=${which}`;
  const place = `${location.pathname}?stage=${encodeURIComponent(chosen)}${which ? `&band=${which}` : ""}`;
  window.history.replaceState(window.history.state, "", place); // what is chosen stays so when a newer one takes this one's place
  const opened = stage && band === 0 && stage !== box?.dataset.stage;
  const focus = (back) => [
    opened && back.startsWith(".gap") ? "" : back, // what was put in has taken the place of the gap
    BAND.test(back) ? back.replace(BAND, `$1${which}`) : "", // the same control, of the band that is shown now
    opened ? ".station[aria-current]" : "",
    which ? `.pin[data-band="${which}"]` : "",
    "#route .station[aria-current]",
    "#route .station",
  ];
  return redraw(address, { focus, ...pictureKept() }).then((drawn) => {
    if (!drawn) return;
    document.body.dataset.drawn = String(state.version);
    refreshPictures();
    if (player.figures?.stations) showReadings(player.figures);
  });
}

/** What was measured stands until it is measured anew, under the hand that is at it. */
function pictureKept() {
  /** @type {{ of: string, nodes: Node[], hand: any }} */
  let kept = { of: "", nodes: [], hand: null };
  const of = ({ stage, kind, band }) => `${state.lane} ${stage} ${kind} ${kind === "multiband" ? band : ""}`; // its picture is of one band
  const before = () => {
    const [box, at] = [$("#measured"), document.activeElement];
    kept = { of: of(bench()?.dataset ?? {}), nodes: [...(box?.childNodes ?? [])], hand: box?.contains(at) ? at : null };
  };
  const after = () => {
    const box = bench();
    if (box?.dataset.measured !== "1" || of(box.dataset) !== kept.of) return;
    $("#measured")?.replaceChildren(...kept.nodes);
    kept.hand?.focus({ preventScroll: true });
  };
  return { before, after };
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
    const answer = await picture(`/s/${state.id}/lane/${state.lane}/picture/${stage}?${query(over)}&band=${box.dataset.band || 0}`, { part: true });
    if (!answer || mine !== token || bench()?.dataset.stage !== stage) return;
    $("#measured").innerHTML = await answer.text();
    say("pictured", { picture: box.dataset.picture });
  } catch {
    /* the next render draws it */
  }
}

// ---- switches, choices, adding and removing ----

export function stageMenu(anchor, path, index) {
  const box = anchor.getBoundingClientRect();
  const kinds = JSON.parse($("#kinds").textContent).filter((k) => k.in_branches || !path.includes("/branches/"));
  const items = kinds.map((k) => ({ words: k.title, note: k.summary, act: () => insertStage(path, index, k) }));
  openMenu(items, { x: box.left, y: box.bottom + 6, label: "Put a stage in", back: anchor });
}

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
    return void set(flip.dataset.switch, flip.getAttribute("aria-pressed") !== "true", { structure: true });
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

/** @param {any} button @param {import("./focus.js").Typing | null} [begun] what was being typed as the bench was drawn anew */
function rename(button, begun = null) {
  const input = document.createElement("input");
  input.className = "field-text";
  input.maxLength = 120;
  input.value = button.dataset.name;
  input.setAttribute("aria-label", "Name of the stage");
  button.replaceWith(input);
  typingIn(input, "#rename", begun);
  const finish = (keep) => {
    if (!input.dataset.typing) return;
    delete input.dataset.typing;
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
document.addEventListener("typing", (event) => {
  const button = /** @type {Element} */ (event.target).closest("#rename");
  if (button) rename(button, /** @type {CustomEvent} */ (event).detail);
});

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

// what a stage is for, in place: open until it is pressed again, whichever stage is opened
let helping = false;
function showHelp() {
  $("#stage-help-open")?.setAttribute("aria-expanded", String(helping));
  if ($("#stage-help")) $("#stage-help").hidden = !helping;
}
document.addEventListener("click", (event) => {
  if (!event.target.closest?.("#stage-help-open")) return;
  helping = !helping;
  showHelp();
});
on("bench", showHelp);
