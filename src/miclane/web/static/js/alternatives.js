// Alternatives: made, switched while it plays, kept and dropped. All of the loop are fetched and wait; another is heard at the
// next block of sound, and only then drawn.

import { openBlind } from "./blind.js";
import { $, sure } from "./dom.js";
import { fetchSound } from "./fetching.js";
import { once, over } from "./focus.js";
import { URGENCY } from "./line.js";
import { picture } from "./looking.js";
import { openMenu } from "./menu.js";
import { on, say } from "./messages.js";
import { give, isSong, orderNow, player, refresh } from "./player.js";
import { changedBy, post, rebuild } from "./session.js";
import { hearVariant, match } from "./sides.js";
import { state } from "./state.js";

/** @typedef {{ id: string, name: string, of: string, scope: string, beneath: string, lines: { text: string, path: string }[] }} Alternative */

/** @type {Alternative[]} */
let all = [];
let levels = {}; // loudness of the loop, and what makes it as loud as A, by alternative
let equally = sessionStorage.getItem("equally") !== "off";
const kept = () => `alternative:${state.id}`;
const nameOf = (id) => (id ? (all.find((a) => a.id === id)?.name ?? "?") : "A");
const ids = () => ["", ...all.map((a) => a.id)];
const variantOf = (id) => `alt:${id}`;

export async function showAlternatives() {
  if (!state.id || !$("#alternatives")) return;
  const wanted = sessionStorage.getItem(kept()) ?? "";
  const first = state.alternative !== wanted;
  state.alternative = wanted;
  await load();
  if (!state.alternative) return; // a page comes as what is beneath
  if (first) refresh();
  say("redraw");
}

let stale = true; // what is known of them is not what there is
async function load() {
  stale = true;
  const answer = await picture(`/s/${state.id}/alternatives`);
  if (!answer) return;
  learn(await answer.json());
}

/** @param {Alternative[]} told */
function learn(told) {
  all = told;
  stale = false;
  if (!ids().includes(state.alternative)) {
    state.alternative = "";
    left();
    say("redraw");
  }
  draw();
  ready();
}

/** The one that was heard is gone: what is beneath is heard. */
function left() {
  sessionStorage.removeItem(kept());
  level();
  refresh();
}
on("alternative-gone", left);
// nothing more is asked of those that have gone
on("alternatives", ({ ids: there }) => (all = all.filter((a) => there.includes(a.id))));

function draw() {
  const box = $("#alternatives");
  if (!box) return;
  if (all.length && $("[data-sure]", box)) return void setTimeout(draw, 1000); // what is asked for twice waits for its answer
  box.hidden = !all.length;
  if (box.hidden) return void box.replaceChildren();
  const had = document.activeElement?.closest?.("#alternatives button")?.dataset ?? null;
  const group = document.createElement("span");
  group.className = "choice";
  group.setAttribute("role", "radiogroup");
  group.setAttribute("aria-label", "Alternative");
  for (const id of ids()) {
    const button = document.createElement("button");
    button.type = "button";
    button.setAttribute("role", "radio");
    button.setAttribute("aria-checked", String(id === state.alternative));
    button.tabIndex = id === state.alternative ? 0 : -1;
    button.dataset.alternative = id;
    button.textContent = nameOf(id);
    button.title = id ? `Of ${all.find((a) => a.id === id)?.of}. [ and ] go from one to the next` : "What is beneath them";
    group.append(button);
  }
  const says = document.createElement("span");
  says.className = "says";
  says.setAttribute("aria-live", "polite");
  says.textContent = saying();
  /** @type {string[][]} */
  const buttons = [["blind", "Blind", "", "Heard under letters that nobody can name until you have answered"], ["equally", equally ? "equally loud" : "as loud as they are", String(equally), "All are turned so that they are as loud as A"]];
  if (state.alternative) buttons.push(["lines", "Lines", "", "What differs, to be put into another"], ["keep", "Keep", "", "The session becomes this one; the others sound as they do"], ["drop", "Drop", "", "This one goes"]);
  box.replaceChildren(group, says, ...buttons.map(([what, words, pressed, title]) => button(what, words, pressed, title)));
  if (had) $(had.alternative === undefined ? `[data-alternative-do="${had.alternativeDo}"]` : `[data-alternative="${state.alternative}"]`, box)?.focus();
}

function button(what, words, pressed, title) {
  const made = document.createElement("button");
  made.type = "button";
  made.className = "btn small";
  made.dataset.alternativeDo = what;
  made.textContent = words;
  made.title = title;
  if (pressed) made.setAttribute("aria-pressed", pressed);
  return made;
}

function saying() {
  const one = all.find((a) => a.id === state.alternative);
  const by = gainOf(state.alternative);
  const turned = equally && Math.abs(by) >= 0.05 ? `, turned ${by > 0 ? "+" : "−"}${Math.abs(by).toFixed(1)} dB` : "";
  if (!one) return `A: what is beneath${turned}`;
  const lines = one.lines.map((l) => l.text);
  const told = lines.length ? lines.slice(0, 2).join("; ") + (lines.length > 2 ? `; ${lines.length - 2} more` : "") : "as beneath, so far: what is changed now is its own";
  return `${one.name}, of ${one.of}: ${told}${turned}`;
}

// ---- switching ----

export function choose(id) {
  if (id === state.alternative || !ids().includes(id)) return;
  const began = performance.now();
  if (!isSong() && waiting.has(id)) hearVariant(variantOf(id));
  state.alternative = id;
  if (id) sessionStorage.setItem(kept(), id);
  else sessionStorage.removeItem(kept());
  level();
  draw();
  say("alternative", { began });
  refresh();
  say("redraw");
}
on("to-alternative", ({ by }) => {
  const order = ids();
  choose(order[(order.indexOf(state.alternative) + by + order.length) % order.length]);
});

const gainOf = (id) => levels[id]?.gain_db ?? 0;

function level() {
  player.equal = equally && all.length > 0;
  for (const id of ids()) match(variantOf(id), equally ? gainOf(id) : 0);
  match("treated", player.equal ? gainOf(state.alternative) : 0);
}

// all others of the loop, so that they can be heard at once
/** @type {Set<string>} */
const waiting = new Set();
let token = 0;
let readyFor = "";
async function ready() {
  const [first, last] = [player.first, player.last];
  const of = `${state.id} ${state.version} ${first} ${last} ${player.hear} ${player.lane} ${ids().join()}`;
  if (of === readyFor) return; // another of them is chosen, and all are as they were
  readyFor = "";
  const mine = ++token;
  wait(null);
  if (!all.length || isSong() || !state.frames || !player.node) return;
  const answer = await picture(`/s/${state.id}/alternatives/levels?first=${first}&last=${last}&lane=${player.lane}&hear=${player.hear}`, { urgency: URGENCY.figures });
  if (mine !== token) return;
  if (answer) levels = await answer.json();
  level();
  draw();
  for (const id of ids()) {
    if (!ids().includes(id)) return; // gone meanwhile
    const sound = await fetchSound(first, last, variantOf(id), "", new AbortController().signal, URGENCY.next).catch(() => null);
    if (mine !== token || !sound || !ids().includes(id)) return;
    give(variantOf(id), first, sound, orderNow());
    wait(id);
  }
  readyFor = of;
}

/** One more is there; none any more (null). */
function wait(id) {
  if (id === null) waiting.clear();
  else waiting.add(id);
  document.body.dataset.alternatives = String(waiting.size);
}
on("rendered", () => {
  if (player.variant.startsWith("alt:")) hearVariant("treated"); // the same, as the sound that is edited
  ready();
});

let resting = 0;
on("changed", ({ structure, jumped, data }) => {
  if (!all.length && !structure && !jumped && !data && !stale) return;
  clearTimeout(resting);
  resting = setTimeout(() => {
    load();
    if (state.alternative && !structure) say("redraw");
  }, structure ? 0 : 900);
});

// ---- making, keeping, dropping ----

function scopes() {
  const bench = $("#bench");
  const base = $("#route")?.dataset.base ?? "";
  const items = [];
  if (bench?.dataset.path) items.push(["Of this stage", bench.dataset.path]);
  if (base) items.push([{ lanes: "Of this lane", returns: "Of this return", buses: "Of this bus" }[base.split("/")[0]], base]);
  const ret = $("#space")?.dataset.return;
  if (ret) items.push(["Of this return", `returns/${ret}`]);
  items.push(["Of the whole mix", ""]);
  return items;
}

async function make(scope) {
  const told = await post(`/s/${state.id}/alternatives`, { scope, under: state.alternative });
  if (!told) return;
  take(told);
  changedBy(told, { data: true });
}

/** One that the server has made is the one that is heard. @param {{ id: string, alternatives: Alternative[] }} told */
export function take(told) {
  learn(told.alternatives);
  choose(told.id);
}

document.addEventListener("click", async (event) => {
  const to = (selector) => (event.target instanceof Element ? event.target.closest(selector) : null);
  const maker = to("#make-alternative");
  if (maker) {
    const box = maker.getBoundingClientRect();
    const items = scopes().map(([words, scope]) => ({ words, act: () => make(scope) }));
    return void openMenu(items, { x: box.left, y: box.bottom + 6, label: "Another way", back: maker });
  }
  const chosen = to("[data-alternative]");
  if (chosen instanceof HTMLElement) return void choose(chosen.dataset.alternative ?? "");
  const act = to("[data-alternative-do]");
  if (!(act instanceof HTMLButtonElement)) return undefined;
  const what = act.dataset.alternativeDo;
  if (what === "equally") {
    equally = !equally;
    sessionStorage.setItem("equally", equally ? "on" : "off");
    readyFor = "";
    level();
    draw();
    return void refresh();
  }
  if (what === "blind") return void openBlind([...ids(), "untreated"], (id) => (id === "untreated" ? id : nameOf(id)));
  if (what === "lines") return void lines(act);
  if (what === "drop" && !(await sure(act, "Drop it?"))) return undefined;
  if (!once(act)) return undefined;
  const id = state.alternative;
  const told = await rebuild(`/s/${state.id}/alternatives/${id}/${what}`);
  over(act);
  if (told) changedBy(told, { data: true });
  return undefined;
});

// each line of what differs, and where it can be put
function lines(anchor) {
  const one = all.find((a) => a.id === state.alternative);
  if (!one) return;
  const box = anchor.getBoundingClientRect();
  const put = async (path, target) => {
    const told = await post(`/s/${state.id}/alternatives/${one.id}/put`, { path, target });
    if (told) changedBy(told, { data: true });
  };
  const others = ids().filter((id) => id !== one.id);
  const items = one.lines.flatMap((l) => others.map((id) => ({ words: `${l.text}`, note: `into ${nameOf(id)}`, act: () => put(l.path, id) })));
  openMenu(items.length ? items : [{ words: "Nothing differs yet", act: () => {} }], { x: box.left, y: box.top - 12 - 30 * Math.max(items.length, 1), label: "What differs", back: anchor });
}
