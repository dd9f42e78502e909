// The Fit screen: words as dark as they are clear, the map of what stands over them, and both sounds alone.

import { $, $$ } from "./dom.js";
import { choose, forget, letGo, lookAt, pressed, voice } from "./fit_both.js";
import { LEFT, at, drawMap, planesOf, sample, yOf } from "./fit_picture.js";
import { keep, once, over } from "./focus.js";
import { moveHead } from "./heads.js";
import { URGENCY } from "./line.js";
import { picture } from "./looking.js";
import { on } from "./messages.js";
import { isSong, listen, player, seek, unhurried } from "./player.js";
import { register } from "./screens.js";
import { change, go } from "./session.js";
import { state } from "./state.js";
import { freshData, initStrip, loopPhrases, loopSomewhere } from "./strip.js";
import "./phrases.js";
import "./stretches.js";

const FAILED_MS = 4000;

/** @type {import("./fit_picture.js").Planes | null} */
let map = null;
let shownSpan = [0, 1]; // what is drawn
let token = 0;
let spot = { place: 0, band: 12 };
const span = () => (isSong() ? [0, state.frames] : [player.first, player.last]);

function shown() {
  map = null;
  forget();
  if (!$("#fit-map")) return;
  if (player.hear !== "mix") listen("mix", state.lane);
  if (player.first >= player.last - 1) loopSomewhere(3);
  initStrip();
  draw();
}

async function draw() {
  if (!$("#fit-map") || !state.frames) return;
  const mine = ++token;
  const [first, last] = span();
  const query = `first=${first}&last=${last}&voice=${encodeURIComponent(voice())}`;
  setTimeout(() => mine === token && drawnOf !== mine && say("Not measured yet; it is under way."), FAILED_MS);
  const [words, planes] = await Promise.all([
    picture(`/s/${state.id}/fit/words?${query}`, { part: true, urgency: URGENCY.figures }),
    picture(`/s/${state.id}/fit/map?${query}`, { urgency: URGENCY.pictures }),
  ]);
  if (mine !== token || !$("#fit-map")) return;
  if (!words || !planes) return say("Not measured: a change came in between, or it could not be done.");
  const text = await words.text();
  const found = planesOf(await planes.arrayBuffer());
  if (mine !== token || !$("#fit-map")) return;
  map = found;
  drawnOf = mine;
  shownSpan = [first, last];
  put(text);
  paint();
  document.body.dataset.fit = String(state.version);
  findAnswers(mine, query);
  lookAt();
  drawRoom(mine, first, last);
}

async function drawRoom(mine, first, last) {
  if (isSong()) return void $("#fit-room").replaceChildren("Room on the buses is measured over a loop; make one.");
  const answer = await picture(`/s/${state.id}/fit/room?first=${first}&last=${last}`, { part: true, urgency: URGENCY.next });
  if (answer && mine === token && $("#fit-room")) $("#fit-room").innerHTML = await answer.text();
}
let drawnOf = 0;

// what would help is measured last, and takes a moment
async function findAnswers(mine, query) {
  const box = $("#fit-answers");
  if (!map?.names.length) return void box.replaceChildren();
  if (!box.childElementCount) box.innerHTML = "<h2>What would let it through</h2>";
  if (!$(".busy", box)) $("h2", box).insertAdjacentHTML("afterend", '<p class="busy">Trying what would help …</p>'); // what stands is of before
  box.setAttribute("aria-busy", "true");
  const answer = await picture(`/s/${state.id}/fit/answers?${query}`, { part: true, urgency: URGENCY.next });
  if (!answer || mine !== token || !box.isConnected) return;
  box.innerHTML = await answer.text();
  box.removeAttribute("aria-busy");
  keep("#fit-answers [data-fit-apply]", "#fit-map"); // the answer that was taken is gone
  document.body.dataset.answers = String(state.version);
}

function say(words) {
  const busy = $("#fit-busy");
  if (!busy) return;
  busy.hidden = !words;
  busy.textContent = words;
}

// the parts of what came, each to its place; who had the focus keeps it
function put(text) {
  const had = document.activeElement?.closest?.(".fit-phrase, .stand");
  const back = had ? `${had.matches(".stand") ? ".stand" : ".fit-phrase"}[data-number="${had.dataset.number}"]` : "";
  const box = document.createElement("template");
  box.innerHTML = text;
  for (const [from, to] of [["#fit-row", "#fit-words"], ["#fit-sum-now", "#fit-sum"], ["#fit-list", "#fit-stands"]]) $(to)?.replaceChildren(...($(from, box.content)?.childNodes ?? []));
  for (const phrase of $$("#fit-words .fit-phrase")) {
    phrase.style.left = `${phrase.dataset.left}%`;
    phrase.style.width = `${phrase.dataset.right - phrase.dataset.left}%`;
  }
  for (const bar of $$("#fit-words [data-share]")) bar.style.height = `${100 * bar.dataset.share}%`;
  for (const word of $$("#fit-words [data-clear]")) word.style.setProperty("--clear", word.dataset.clear);
  if (back) $(back)?.focus({ preventScroll: true });
  say("");
}

function paint() {
  const canvas = $("#fit-map canvas");
  if (!canvas || !map) return;
  drawMap(canvas, map);
  const legend = $("#fit-legend");
  const seen = map.names.filter((_, k) => map?.whose.some((w, at) => w === k && map && map.over[at] > 0));
  legend.replaceChildren();
  legend.append(seen.length ? "Over the voice:" : "Nothing stands over the voice.");
  for (const { path, name } of seen) legend.append(labelled(path, name));
  const line = document.createElement("span");
  line.className = "voice-line";
  line.textContent = "the voice";
  legend.append(line);
  for (const each of $$("#fit-stands [data-sample]")) sample(each, map, each.dataset.sample);
  head(player);
}

function labelled(path, name) {
  const label = document.createElement("span");
  label.className = "label";
  const swatch = document.createElement("span");
  label.append(swatch, name);
  if (map) sample(swatch, map, path);
  return label;
}

function head(told) {
  const line = $("#fit-head");
  if (!line) return;
  const right = $("#fit-map").clientWidth;
  line.hidden = false;
  moveHead(line, (frame) => LEFT + ((frame - shownSpan[0]) / (shownSpan[1] - shownSpan[0])) * (right - LEFT), [LEFT, right], told);
}

// ---- a place of the map ----

function showSpot() {
  const box = $("#fit-spot");
  const area = $("#fit-map");
  if (!box || !map) return;
  spot = { place: Math.min(Math.max(spot.place, 0), map.places - 1), band: Math.min(Math.max(spot.band, 0), map.bands - 1) };
  const wide = (area.clientWidth - LEFT) / map.places;
  const found = at(map, spot.place, spot.band);
  const words = phraseOf(spot.place)?.words ?? "";
  box.hidden = false;
  box.style.left = `${LEFT + spot.place * wide}px`;
  box.style.top = `${yOf(map, found.high, area.clientHeight)}px`;
  box.style.height = `${area.clientHeight / map.bands}px`;
  const range = `${Math.round(found.low)} to ${Math.round(found.high)} Hz`;
  const over = Math.abs(found.over).toFixed(1);
  box.dataset.says = found.whose ? `${found.whose.name}, ${over} dB over${words ? ` “${words}”` : " the voice"}, ${range}` : `${range}: the voice is free here`;
  area.setAttribute("aria-description", box.dataset.says);
  box.classList.toggle("to-left", spot.place > map.places / 2);
}

function phraseOf(place) {
  if (!map) return null;
  const frame = shownSpan[0] + ((place + 0.5) / map.places) * (shownSpan[1] - shownSpan[0]);
  return (state.data?.phrases ?? []).find((p) => p.start <= frame && p.end > frame) ?? null;
}

function choosePlace() {
  if (!map) return;
  const phrase = phraseOf(spot.place);
  const { whose } = at(map, spot.place, spot.band);
  if (!phrase) return seek(Math.round(shownSpan[0] + (spot.place / map.places) * (shownSpan[1] - shownSpan[0])));
  choose(state.data.phrases.indexOf(phrase), whose?.path ?? "");
}

register("fit", {
  shown,
  changed: ({ jumped, data }) => {
    if (jumped || data) freshData();
    draw();
  },
});

document.addEventListener("change", (event) => {
  const chooser = event.target.closest?.("#fit-voice");
  if (chooser) go(`/s/${state.id}/fit?voice=${encodeURIComponent(chooser.value)}`);
});
document.addEventListener("click", (event) => {
  const to = (s) => event.target.closest(s);
  const stand = to(".stand");
  if (stand) return void choose(Number(stand.dataset.number), stand.dataset.path, stand.dataset.low);
  const phrase = to(".fit-phrase");
  if (phrase) return void (letGo(), loopPhrases(Number(phrase.dataset.number), Number(phrase.dataset.number)));
  if (pressed(event)) return undefined;
  const apply = to("[data-fit-apply]");
  if (apply && once(apply)) return void change(JSON.parse(apply.dataset.fitApply), { structure: true, data: true }).then(() => over(apply));
  const area = to("#fit-map");
  if (!area || !map) return undefined;
  const box = area.getBoundingClientRect();
  if (event.clientX < box.left + LEFT) return undefined;
  spot = {
    place: Math.floor(((event.clientX - box.left - LEFT) / (box.width - LEFT)) * map.places),
    band: Math.floor((1 - (event.clientY - box.top) / box.height) * map.bands),
  };
  showSpot();
  return choosePlace();
});
document.addEventListener("pointermove", (event) => {
  const area = event.target.closest?.("#fit-map");
  if (!area || !map) return;
  const box = area.getBoundingClientRect();
  if (event.clientX < box.left + LEFT) return;
  spot = {
    place: Math.floor(((event.clientX - box.left - LEFT) / (box.width - LEFT)) * map.places),
    band: Math.floor((1 - (event.clientY - box.top) / box.height) * map.bands),
  };
  showSpot();
});
document.addEventListener("keydown", (event) => {
  if (event.target.id !== "fit-map" || event.ctrlKey || event.metaKey) return;
  const by = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] }[event.key];
  if (!by && event.key !== "Enter") return;
  event.preventDefault();
  event.stopPropagation();
  if (event.key === "Enter") return choosePlace();
  spot = { place: spot.place + by[0] * (event.shiftKey ? 1 : 10), band: spot.band + by[1] };
  showSpot();
});
document.addEventListener("focusin", (event) => event.target.id === "fit-map" && showSpot());
addEventListener("resize", () => map && paint());

const soon = unhurried(draw);
on("rendered", () => state.screen === "fit" && soon());
on("range", () => state.screen === "fit" && isSong() && draw());
on("position", (told) => state.screen === "fit" && head(told));
on("light", () => state.screen === "fit" && paint());
