// Blind listening: what is heard has letters that nobody can name; answers by key; names at the end.

import { $, $$, toast } from "./dom.js";
import { parted } from "./fetching.js";
import { ask, URGENCY } from "./line.js";
import { on } from "./messages.js";
import { begin, give, isSong, orderNow, play, player, stop } from "./player.js";
import { post } from "./session.js";
import { hearVariant } from "./sides.js";
import { state } from "./state.js";

/** @type {{ id: string, question: string, heard: string[], trial: number } | null} */
let run = null;
let now = "";
const dialog = () => /** @type {HTMLDialogElement} */ ($("#blind"));
const variantOf = (letter) => `blind:${letter}`;

/** @param {string[]} sides @param {(side: string) => string} nameOf */
export function openBlind(sides, nameOf) {
  if (isSong()) return void toast("A loop is heard blind: make one of up to a minute.");
  const inside = $("#blind-inside");
  inside.innerHTML = `<form id="blind-form"><p class="dim mt-2">All are as loud as one another, and have letters until you have answered.</p>
    <fieldset class="mt-3"><legend>Which</legend></fieldset>
    <fieldset class="mt-3"><legend>Asked</legend>
      <label class="block"><input type="radio" name="question" value="which" checked> Which is X? Of two, one is X</label>
      <label class="block"><input type="radio" name="question" value="prefer"> Which do you prefer?</label></fieldset>
    <p class="mt-3 flex gap-2"><button class="btn strong">Begin</button><button type="button" class="btn" data-blind="close">Not now</button></p></form>`;
  const list = $("fieldset", inside);
  sides.forEach((side, k) => {
    const label = document.createElement("label");
    label.className = "block";
    const box = Object.assign(document.createElement("input"), { type: "checkbox", name: "side", value: side, checked: k < 2 });
    label.append(box, ` ${nameOf(side)}`);
    list.append(label);
  });
  dialog().showModal();
}

async function start(form) {
  const sides = $$("[name=side]:checked", form).map((box) => box.value);
  const question = $("[name=question]:checked", form).value;
  $("button", form).disabled = true;
  const told = (await begin()) && (await post(`/s/${state.id}/blind`, { question, sides, first: player.first, last: player.last, hear: player.hear, lane: player.lane }));
  $("button", form).disabled = false;
  if (!told) return;
  document.documentElement.dataset.blind = "on";
  await trial(told);
  if (!player.playing) play();
}

// a trial: everything that can be heard is there before anything is
async function trial(told) {
  run = told;
  const { id, heard, trial: number } = told;
  const sounds = await Promise.all(
    heard.map(async (letter) => {
      const answer = await ask(`/s/${state.id}/blind/${id}/${number}/${letter}`, { urgency: URGENCY.behind });
      return answer.ok ? parted(new Float32Array(await answer.arrayBuffer())) : null;
    }),
  );
  if (run !== told) return;
  heard.forEach((letter, k) => {
    player.node?.port.postMessage({ type: "forget", variant: variantOf(letter) });
    give(variantOf(letter), player.first, sounds[k], orderNow());
  });
  hear(heard[0]);
  draw();
}

function hear(letter) {
  now = letter;
  hearVariant(variantOf(letter));
  for (const button of $$("[data-hear-blind]")) button.setAttribute("aria-checked", String(button.dataset.hearBlind === letter));
}

function draw() {
  if (!run) return;
  const which = run.question === "which";
  const letters = run.heard.filter((letter) => letter !== "X");
  const hears = run.heard.map((l) => `<button type="button" role="radio" aria-checked="${l === now}" data-hear-blind="${l}">${l}</button>`).join("");
  const answers = letters.map((l) => `<button type="button" class="btn" data-answer="${l}">${which ? `X is ${l}` : `I prefer ${l}`} <kbd>Shift ${l}</kbd></button>`).join("");
  $("#blind-inside").innerHTML = `<p class="mt-2" aria-live="polite">Trial ${run.trial}. Press a letter to hear it, Space to stop.</p>
    <p class="mt-3"><span class="choice big" role="radiogroup" aria-label="Heard">${hears}</span></p>
    <p class="mt-3 flex gap-2 flex-wrap">${answers}</p>
    <p class="mt-4 flex gap-2"><button type="button" class="btn strong" data-blind="finish" ${run.trial < 2 ? "disabled" : ""}>See what it says</button><button type="button" class="btn quiet" data-blind="close">Leave it</button></p>`;
  $(`[data-hear-blind="${now}"]`)?.focus();
}

async function answer(letter) {
  if (!run || !run.heard.includes(letter) || letter === "X") return;
  const told = await post(`/s/${state.id}/blind/${run.id}/answer`, { letter });
  if (told) await trial(told);
}

async function finish() {
  if (!run) return;
  const told = await post(`/s/${state.id}/blind/${run.id}/finish`);
  if (!told) return;
  over();
  const inside = $("#blind-inside");
  inside.innerHTML = `<p class="verdict mt-3" role="status"></p><p class="dim mono"></p><dl class="mt-3"></dl><p class="mt-3"><button type="button" class="btn strong" data-blind="close">Close</button></p>`;
  $(".verdict", inside).textContent = `${told.words}.`;
  $(".mono", inside).textContent = told.trials ? `by guessing, as good or better in ${(100 * told.p).toFixed(told.p < 0.1 ? 1 : 0)} of 100` : "";
  const list = $("dl", inside);
  const letterOf = Object.fromEntries(Object.entries(told.letters ?? {}).map(([letter, name]) => [name, letter]));
  told.names.forEach((name, k) => {
    const [term, what] = [document.createElement("dt"), document.createElement("dd")];
    term.textContent = letterOf[name] ? `${letterOf[name]} was ${name}` : name;
    what.className = "dim";
    what.textContent = told.lines[k].join("; ") || (name === "untreated" ? "the takes as they came" : "as it is");
    list.append(term, what);
  });
  $("button", inside).focus();
}

function over() {
  run = null;
  delete document.documentElement.dataset.blind;
  if (player.variant.startsWith("blind:")) hearVariant("treated");
}
function close() {
  over();
  dialog().close();
}

document.addEventListener("submit", (event) => {
  if (event.target !== $("#blind-form")) return;
  event.preventDefault();
  start($("#blind-form"));
});
document.addEventListener("click", (event) => {
  const to = (selector) => (event.target instanceof Element ? /** @type {HTMLElement | null} */ (event.target.closest(selector)) : null);
  const heard = to("[data-hear-blind]");
  if (heard) hear(heard.dataset.hearBlind);
  const chosen = to("[data-answer]");
  if (chosen) answer(chosen.dataset.answer);
  const what = to("[data-blind]")?.dataset.blind;
  if (what === "finish") finish();
  if (what === "close") close();
});
document.addEventListener("keydown", (event) => {
  if (!run || !(event.target instanceof Element) || !event.target.closest("#blind") || event.ctrlKey || event.metaKey || event.altKey) return;
  const letter = event.key.toUpperCase();
  if (event.key === " ") {
    event.preventDefault();
    if (player.playing) stop();
    else play();
  } else if (run.heard.includes(letter)) {
    event.preventDefault();
    if (event.shiftKey) answer(letter);
    else hear(letter);
  }
}, true);
document.addEventListener("close", (event) => event.target === dialog() && over(), true);
on("range", () => run && close()); // what was heard is of another loop
