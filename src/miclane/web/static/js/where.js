// What the bench sets: the song, the section of the loop, its phrases; what is otherwise elsewhere beside each control.

import { $, $$ } from "./dom.js";
import { picture } from "./looking.js";
import { on, say } from "./messages.js";
import { player, range } from "./player.js";
import { toFraction } from "./rule.js";
import { go } from "./session.js";
import { state } from "./state.js";
import { freshData, setLoop } from "./strip.js";

const REST_MS = 900;
const kept = () => `for:${state.id}`;
const scope = () => sessionStorage.getItem(kept()) ?? "song";

const LEAST = 0.25; // of a phrase, or of the loop

/** Phrases that the loop is about: those of which a good part lies in it. */
function inLoop() {
  const inside = (p) => Math.min(p.end, player.last) - Math.max(p.start, player.first);
  return (state.data?.phrases ?? []).filter((p) => inside(p) > LEAST * Math.min(p.end - p.start, player.last - player.first));
}

/** Where that is, as the server reads it; "" for the song, also where there is no such place. */
function place(wanted) {
  const phrases = inLoop();
  const section = phrases[0]?.section ?? "";
  if (wanted === "section" && section) return `section:${section}`;
  if (wanted === "phrase" && phrases.length) return `phrases:${state.data.phrases_of}:${phrases.map((p) => p.id).join(",")}`;
  return "";
}

/** The switch as it stands over the loop; whether what is shown is set for another place than before. */
export function showWhere() {
  const box = $("#for");
  state.where = box ? place(scope()) : "";
  if (!box) return false;
  const phrases = inLoop();
  for (const part of $$("[data-of-place]", box)) part.hidden = !(state.data?.phrases ?? []).length; // there is no place but the song
  const section = phrases[0]?.section ?? "";
  const names = { song: "the song", section: section || "this section", phrase: phrases.length > 1 ? `these ${phrases.length} phrases` : "this phrase" };
  const chosen = state.where.split(":")[0].replace("phrases", "phrase") || "song";
  for (const button of $$("[data-scope]", box)) {
    const name = button.dataset.scope;
    button.textContent = names[name];
    button.disabled = name !== "song" && !place(name);
    button.title = name === "section" && !section ? "The phrase of the loop has no section yet: F2 on a phrase names it" : "";
    button.setAttribute("aria-checked", String(name === chosen));
    button.tabIndex = name === chosen ? 0 : -1;
  }
  box.classList.toggle("there", state.where !== "");
  showMarks();
  return box.dataset.where !== state.where;
}

function choose(wanted) {
  sessionStorage.setItem(kept(), wanted);
  if (showWhere()) say("redraw");
}

document.addEventListener("click", (event) => {
  const button = event.target.closest?.("[data-scope]");
  if (button) choose(button.dataset.scope);
  const visit = event.target.closest?.("[data-visit]");
  if (visit) visitAt(visit.dataset);
});
on("to-scope", () => {
  if (!$("#for")) return;
  const order = ["song", "section", "phrase"].filter((s) => s === "song" || place(s));
  const now = state.where.split(":")[0].replace("phrases", "phrase") || "song";
  choose(order[(order.indexOf(now) + 1) % order.length]);
});

// another loop may be in another section
let leaving = false;
on("range", () => {
  if (!leaving && showWhere()) say("redraw");
});

// ---- what is otherwise elsewhere, beside the control ----

/** @returns {{ path: string, value: any, words: string, whose: string, here: boolean }[]} */
const marks = () => JSON.parse($("#for")?.dataset.marks ?? "[]");

function controlOf(path) {
  const quoted = CSS.escape(path);
  return $(`.rule[data-path="${quoted}"]`) ?? $(`[data-switch="${quoted}"], [data-choice="${quoted}"], [data-select="${quoted}"], [data-bool="${quoted}"]`, $("#body"));
}

function showMarks() {
  for (const old of $$("#body .there-tag, #body .rule .ghost.there")) old.remove();
  /** @type {Map<Element, string[]>} */
  const told = new Map();
  let here = 0;
  for (const mark of marks()) {
    if (mark.here) here += 1;
    const control = controlOf(mark.path);
    if (!control) continue;
    told.set(control, [...(told.get(control) ?? []), `${mark.whose} ${mark.words}`]);
    if (control.matches(".rule") && typeof mark.value === "number") drawGhost(control, mark.value);
  }
  for (const [control, words] of told) tag(control, words);
  const says = $("#for-says");
  if (!says) return;
  if (state.where) says.textContent = here ? `${here} ${here > 1 ? "settings are" : "setting is"} otherwise here; all else is as in the song` : "what is turned now holds here alone";
  else says.textContent = "";
}

function drawGhost(rule, value) {
  const ghost = document.createElementNS("http://www.w3.org/2000/svg", "path");
  ghost.setAttribute("class", "ghost there");
  ghost.setAttribute("d", "M-4 1h8l-4 7z");
  const svg = $("svg", rule);
  const nested = document.createElementNS("http://www.w3.org/2000/svg", "svg");
  nested.setAttribute("class", "ghost there");
  nested.setAttribute("overflow", "visible");
  nested.setAttribute("x", `${100 * Math.min(Math.max(toFraction(rule, value), 0), 1)}%`);
  nested.append(ghost);
  svg.append(nested);
}

function tag(control, words) {
  const spot = control.matches(".rule") ? $(".row > span", control.parentElement) : (control.closest(".field")?.firstElementChild ?? control);
  const small = document.createElement("small");
  small.className = "there-tag";
  small.textContent = words.length > 1 ? `${words[0]} +${words.length - 1}` : words[0];
  small.title = words.join("\n");
  if (spot === control) control.after(small);
  else spot.append(" ", small);
}
on("bench", () => void showWhere());

// what was turned for a place is drawn so once the hand rests
let resting = 0;
const LEVEL = /\/(fader_db|level_db)$/;
on("changed", ({ structure, edits }) => {
  clearTimeout(resting);
  if (structure) return;
  const local = state.where || edits.some((e) => marks().some((m) => m.path === e.path));
  const level = edits.some((e) => LEVEL.test(e.path));
  if (!local) return;
  resting = setTimeout(() => {
    say("redraw");
    if (level) freshData();
  }, REST_MS);
});

// ---- all of it ----

let open = false;
async function list() {
  const box = $("#difference-list");
  $("#differences")?.setAttribute("aria-expanded", String(open));
  if (!box) return;
  box.hidden = !open;
  if (!open) return void box.replaceChildren();
  const answer = await picture(`/s/${state.id}/differences`, { part: true });
  if (answer && box.isConnected && open) box.innerHTML = await answer.text();
}
document.addEventListener("click", (event) => {
  if (!event.target.closest?.("#differences")) return;
  open = !open;
  list();
});
on("bench", () => open && list());

function visitAt({ visit, first, last, toScope }) {
  sessionStorage.setItem(kept(), toScope);
  sessionStorage.setItem(`loop:${state.id}`, JSON.stringify([Number(first), Number(last)]));
  const here = location.pathname === new URL(visit, location.origin).pathname && $("#strip");
  if (!here) leaving = true; // what is left behind need not be drawn for the loop of what comes
  if (here) setLoop(Number(first), Number(last), false);
  else range(Number(first), Number(last), Number(first));
  leaving = false;
  go(visit);
}
