// The foot: play, loop, what is heard, what it is compared with, and the figures of the loop.

import { $, $$, toast } from "./dom.js";
import { showKeys } from "./keys.js";
import { URGENCY } from "./line.js";
import { picture } from "./looking.js";
import { openMenu } from "./menu.js";
import { on, say } from "./messages.js";
import { begin, isSong, listen, looping, measured, play, player, range, stop, unhurried } from "./player.js";
import { history, settled } from "./session.js";
import { bypass, hearBand, hearsWithout, hearVariant, match, prepared } from "./sides.js";
import { state } from "./state.js";
import { loopPhrases, looped, phraseAt, setLoop } from "./strip.js";

const clock = (frame) => {
  const s = frame / state.rate;
  return `${Math.floor(s / 60)}:${(s % 60).toFixed(1).padStart(4, "0")}`;
};

export function showFoot() {
  const playButton = $("#play");
  if (!playButton) return;
  playButton.textContent = player.playing ? "■" : "▶";
  playButton.setAttribute("aria-label", player.playing ? "Stop" : "Play");
  const phrases = state.data?.phrases ?? [];
  const inside = phrases.map((p, i) => [p, i]).filter(([p]) => p.start < player.last && p.end > player.first).map(([, i]) => i + 1);
  const whole = player.first === 0 && player.last >= state.frames;
  $("#loop-name").textContent = whole ? "Whole song" : inside.length > 1 ? `Phrases ${inside[0]}–${inside.at(-1)}` : inside.length ? `Phrase ${inside[0]}` : "Loop";
  const short = inside.length > 1 && !whole; // tenths of a loop of several phrases have no room, and say little
  $("#loop-time").textContent = [player.first, player.last].map((f) => (short ? clock(f).slice(0, -2) : clock(f))).join("–");
  $("#loop-on").setAttribute("aria-pressed", !whole);
  $$("#hear button").forEach((b) => b.setAttribute("aria-checked", b.dataset.hear === player.hear));
  const hold = holdVariant();
  $("#hold").setAttribute("aria-pressed", player.variant === hold);
  $("#hold").firstChild.textContent = hold[0].toUpperCase() + hold.slice(1);
  $("#hold").setAttribute("aria-label", `Hold for ${hold}`);
  $("#removed").setAttribute("aria-pressed", player.variant === "removed" || takenAlone());
  $("#bypass")?.setAttribute("aria-pressed", hearsWithout(stageOpen()));
  for (const button of $$("#bench [data-bypass]")) button.setAttribute("aria-pressed", hearsWithout(button.dataset.bypass));
  const without = player.variant === "bypassed";
  $("#leave-out").setAttribute("aria-pressed", without);
  $("#leave-out").textContent = without ? leftOut() : "Without …";
}

// ---- bypass: of the open stage, its branch, the lane's chain, all vocals, everything; one key each, held or pressed ----

const branchOpen = () => {
  const inside = /\/branches\/([^/]+)\/stages/.exec($("#bench")?.dataset.path ?? "")?.[1];
  return inside ? `branch:${inside}` : ($("#bench [data-bypass^='branch:']")?.dataset.bypass ?? "");
};
const WITHOUT = {
  b: { words: "the open stage", short: "No stage", scope: () => stageOpen(), none: "No stage is open." },
  y: { words: "its branch", short: "No branch", scope: branchOpen, none: "No branch is open: open a split, or a stage on a branch." },
  c: { words: "the chain", short: "No chain", scope: () => "chain:" },
  v: { words: "any vocal's chain", short: "No vocal chain", scope: () => "vocals:" },
  a: { words: "everything", short: "Nothing on", scope: () => "everything:" },
};
const leftOut = () => WITHOUT[Object.keys(WITHOUT).find((key) => WITHOUT[key].scope() === player.bypassed) ?? "b"].short;

function hearWithout(scope, on) {
  if (on && scope === stageOpen() && $("#bypass")?.disabled) return void toast("This stage is switched off already; without it is how it sounds.");
  if (on) bypass(scope);
  other("bypassed", on);
}
const wantsWithout = (scope) => wanted === "bypassed" && player.bypassed === scope;

function pressWithout(key) {
  const scope = WITHOUT[key].scope();
  if (!scope) return void toast(WITHOUT[key].none);
  hearWithout(scope, !wantsWithout(scope));
}

function chooseWithout() {
  const box = $("#leave-out").getBoundingClientRect();
  const items = Object.entries(WITHOUT).filter(([, { scope }]) => scope()).map(([key, { words, scope }]) => ({
    words: wantsWithout(scope()) ? `With ${words} again` : `Without ${words}`, keys: key.toUpperCase(), act: () => pressWithout(key),
  }));
  openMenu(items, { x: box.left, y: box.top - 40 * items.length, label: "Heard without", back: $("#leave-out") });
}

// the stage that is open, where one is
const stageOpen = () => ($("#bypass") ? $("#bench").dataset.stage : "");
const TAKEN = -2;
const takenAlone = () => player.band?.index === TAKEN && player.band.stage === stageOpen();

// What the open stage takes; where none is open, what the whole chain takes.
function hearRemoved() {
  const stage = stageOpen();
  if (!stage) return void other("removed", wanted !== "removed");
  if (takenAlone()) return void hearBand(null);
  if ($("#bypass").disabled) return void toast("This stage is switched off: it takes nothing.");
  wanted = "band";
  hearBand({ stage, index: TAKEN });
}

on("bench", ({ stage }) => {
  const of = player.bypassed; // a stage that is not open any more, or a branch
  if (player.variant === "bypassed" && !of.endsWith(":") && of !== stage && of !== branchOpen()) other("bypassed", false);
  showFoot();
});

export const toggle = () => (player.playing ? stop() : play());

const holdVariant = () => state.data?.hold ?? "untreated";

const SETTLE_MS = 15000; // a slow machine; where the server does not answer, nothing new is heard either
const pause = (ms) => new Promise((done) => setTimeout(done, ms));
let wanted = "treated"; // what is to be heard once it is there
on("variant", () => (wanted = player.variant));

async function other(variant, on) {
  wanted = on ? variant : "treated";
  if (!on) return void (player.variant === variant && hearVariant("treated"));
  const of = player.bypassed;
  const still = () => wanted === variant && player.bypassed === of;
  if (variant === "bypassed" ? hearsWithout(of) : player.variant === variant) return;
  if (!(await begin())) return;
  await Promise.race([settled(), pause(SETTLE_MS)]); // what is set counts already
  await prepared(variant, still); // it comes with what makes it equally loud
  if (COMPARED.includes(variant) && !isSong()) showMatch(player.matched);
  if (still()) hearVariant(variant); // not let go of meanwhile
}
const COMPARED = ["untreated", "unducked", "bypassed"];

function toggleLoop() {
  const whole = player.first === 0 && player.last >= state.frames;
  if (whole) {
    if (state.data?.phrases?.length) loopPhrases(phraseAt(player.at), phraseAt(player.at));
    else range(...(player.before ?? [0, Math.min(state.frames, 8 * state.rate)]), player.at);
    looping(true);
  } else {
    player.before = [player.first, player.last];
    if ($("#strip")) setLoop(0, state.frames, false);
    else range(0, state.frames, player.at);
    looping(false);
  }
}

function step(by) {
  const phrases = state.data?.phrases ?? [];
  if (!phrases.length) return;
  const [from, to] = looped() ?? [phraseAt(player.at), phraseAt(player.at)];
  const k = Math.min(Math.max((by < 0 ? from : to) + by, 0), phrases.length - 1);
  loopPhrases(k, k);
}

document.addEventListener("click", (event) => {
  const at = (s) => event.target.closest(s);
  if (at("#play")) toggle();
  else if (at("#loop-on")) toggleLoop();
  else if (at("#hear button")) listen(at("#hear button").dataset.hear, state.lane);
  else if (at("#removed")) hearRemoved();
  else if (at("#bypass")) hearWithout(stageOpen(), !wantsWithout(stageOpen()));
  else if (at("#leave-out")) chooseWithout();
  else if (at("#bench [data-bypass]")) hearWithout(at("[data-bypass]").dataset.bypass, !wantsWithout(at("[data-bypass]").dataset.bypass));
  else if (at("#undo")) history("undo");
  else if (at("#redo")) history("redo");
  else if (at("#help")) showKeys();
  else if (at("#eyes")) toggleEyes();
  else if (at("#light")) {
    const night = document.documentElement.dataset.light === "night" || (!document.documentElement.dataset.light && matchMedia("(prefers-color-scheme: dark)").matches);
    document.documentElement.dataset.light = night ? "day" : "night";
    localStorage.setItem("light", document.documentElement.dataset.light);
    showLight();
    say("light");
  }
});

function toggleEyes() {
  const root = document.documentElement;
  if (root.dataset.eyes) delete root.dataset.eyes;
  else root.dataset.eyes = "off";
  localStorage.setItem("eyes", root.dataset.eyes ?? "on");
  showEyes();
  say("light"); // what is drawn on canvas is drawn again
}

export function showEyes() {
  const off = document.documentElement.dataset.eyes === "off";
  $("#eyes")?.setAttribute("aria-pressed", off);
}

export function showLight() {
  showEyes();
  const night = document.documentElement.dataset.light === "night" || (!document.documentElement.dataset.light && matchMedia("(prefers-color-scheme: dark)").matches);
  if ($("#light")) $("#light").textContent = night ? "Day" : "Night";
}

// hold with the mouse as with the key, and with Enter on the button
document.addEventListener("keydown", (event) => {
  if (!event.target.closest?.("#hold") || event.key !== "Enter") return;
  event.preventDefault();
  if (!event.repeat) other(holdVariant(), true);
});
document.addEventListener("keyup", (event) => event.target.closest?.("#hold") && event.key === "Enter" && other(holdVariant(), false));
document.addEventListener("pointerdown", (event) => {
  if (event.target.closest("#hold")) other(holdVariant(), true);
});
for (const end of ["pointerup", "pointercancel"]) document.addEventListener(end, () => [player.variant, wanted].includes(holdVariant()) && !held.has("h") && other(holdVariant(), false));

const held = new Set();
const HELD_MS = 400; // a key that is held that long is let go to end what it began
let pressedAt = 0;
const typing = (target) => target.closest?.("input, textarea, select, dialog[open], .menu");
// on the window, so that what a part of the page has taken for itself does not come here
window.addEventListener("keydown", (event) => {
  if (typing(event.target) || event.defaultPrevented) return;
  const key = event.key.toLowerCase();
  if ((event.ctrlKey || event.metaKey) && key === "z") {
    event.preventDefault();
    return void history(event.shiftKey ? "redo" : "undo");
  }
  if (event.ctrlKey || event.metaKey || event.altKey) return;
  if (event.key === " ") {
    event.preventDefault();
    if (!event.repeat) toggle();
  } else if (key === "l") toggleLoop();
  else if (event.key === "ArrowLeft" || event.key === "ArrowRight") {
    if (event.target.closest?.(".rule, .pin, .edge, [role=radiogroup]")) return;
    event.preventDefault();
    step(event.key === "ArrowLeft" ? -1 : 1);
  } else if (["1", "2", "3"].includes(key)) listen(["lane", "vocals", "mix"][Number(key) - 1], state.lane);
  else if (key === "h" && !held.has("h")) {
    held.add("h");
    other(holdVariant(), true);
  } else if (key === "r" && !event.repeat) hearRemoved();
  else if (key in WITHOUT && !held.has(key)) {
    held.add(key);
    pressedAt = performance.now();
    pressWithout(key);
  }
  else if (key === "e" && !event.repeat) toggleEyes();
  else if (key === "t" && $("#route")) say("to-route");
  else if (key === "n" && $("#strip")) say("to-stretch");
  else if (key === "w" && $("#for")) say("to-scope");
  else if (event.key === "[" || event.key === "]") {
    player.pressed = event.timeStamp;
    say("to-alternative", { by: event.key === "]" ? 1 : -1 });
  }
  else if (event.key === "?") showKeys();
});
document.addEventListener("keyup", (event) => {
  if (event.key.toLowerCase() === "h" && held.delete("h")) other(holdVariant(), false);
  const key = event.key.toLowerCase();
  if (key in WITHOUT && held.delete(key) && performance.now() - pressedAt > HELD_MS) other("bypassed", false);
});
addEventListener("blur", () => {
  if (held.delete("h")) other(holdVariant(), false);
  for (const key of Object.keys(WITHOUT)) if (held.delete(key)) other("bypassed", false);
});
document.addEventListener("keyup", (event) => {
  // the space bar must not also press the focused button
  if (event.key === " " && event.target.matches?.("button") && !typing(event.target)) event.preventDefault();
});

const db = (v) => (v > 1e-7 ? `${(20 * Math.log10(v)).toFixed(1).replace("-", "−")}` : "−∞");
let shownAt = 0;
on("position", ({ mean, peak, playing, guard = 1 }) => {
  const meter = $("#meter");
  if (!meter || performance.now() - shownAt < 90) return;
  shownAt = performance.now();
  const safe = guard < 0.999 ? `, loudspeaker held ${guard > 0 ? `${db(guard)} dB` : "silent"}` : "";
  if (isSong() && COMPARED.includes(player.variant)) showMatch(player.matched); // it comes with the stream
  const words = playing ? `${db(Math.sqrt(mean))} / ${db(peak)} dBFS${safe}` : "stopped";
  if (meter.textContent === words) return; // said again, it would be painted again
  meter.textContent = words;
  meter.classList.toggle("warn", safe !== "");
  meter.title = safe ? "Over full scale: the loudspeaker is turned down for safety; a print is not" : "";
});
for (const name of /** @type {const} */ (["playing", "range", "hear", "variant"])) on(name, showFoot);

const showMatch = (by) => ($("#matched").textContent = `matched ${by > 0 ? "+" : by < 0 ? "−" : ""}${Math.abs(by).toFixed(1)} dB`);
let readingsToken = 0;
export async function measure() {
  if (!state.lane || !state.frames) {
    $("#lufs").textContent = $("#dbtp").textContent = "—";
    $("#matched").textContent = "matched —";
    return;
  }
  const mine = ++readingsToken;
  const [first, last] = measured();
  const query = `lane=${state.lane}&hear=${player.hear}&start=${first}&stop=${last}&first=${first}&last=${last}&against=${holdVariant()}`;
  const answer = await picture(`/s/${state.id}/readings?${query}`, { urgency: URGENCY.figures });
  if (!answer || mine !== readingsToken) return;
  const told = await answer.json();
  player.figures = told;
  const text = (v) => (v <= -100 ? "−∞" : v.toFixed(1).replace("-", "−"));
  $("#lufs").textContent = text(told.lufs);
  $("#lufs").parentElement.title = isSong() ? "of the phrase at the playhead" : "of the loop";
  $("#dbtp").textContent = text(told.true_peak_dbtp);
  showMatch(told.match_db);
  match(holdVariant(), told.match_db);
  say("readings", told);
}
on("rendered", unhurried(measure));
on("phrase", unhurried(measure));
