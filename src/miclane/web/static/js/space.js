// The Space screen: the picture that follows the sound, sends, and new returns.

import { $, toast } from "./dom.js";
import { once, over } from "./focus.js";
import { moveHead } from "./heads.js";
import { picture } from "./looking.js";
import { on } from "./messages.js";
import { listen, measured, player, unhurried } from "./player.js";
import { redraw } from "./redraw.js";
import { register } from "./screens.js";
import { change, changedBy, give, go, post, set } from "./session.js";
import { hearVariant, prepared } from "./sides.js";
import { state } from "./state.js";
import { freshData, initStrip, loopSomewhere } from "./strip.js";
import { showWhere } from "./where.js";
import "./phrases.js";
import "./stretches.js";

let token = 0;
let shown = [0, 1]; // what the picture spans

function shownNow() {
  if (player.hear === "lane") listen("vocals", state.lane);
  if (player.first >= player.last - 1) loopSomewhere(3); // the loop one came with stays
  initStrip();
  drawPicture();
  if (showWhere()) redrawSettings();
  else drawEffects();
}

export async function drawPicture() {
  const box = $("#space-picture");
  if (!box) return;
  if (!state.frames) {
    box.innerHTML = '<p class="dim p-6">No sound in this session yet: drop takes and stems on its files first.</p>';
    return;
  }
  const mine = ++token;
  const [first, last] = measured(3);
  const answer = await picture(`/s/${state.id}/space/picture?first=${first}&last=${last}&hear=${player.hear}&lane=${state.lane}&before=${player.variant === "duckfirst"}&chosen=${$("#space")?.dataset.return ?? ""}`, { part: true });
  if (!answer || mine !== token || !box.isConnected) return;
  box.innerHTML = await answer.text();
  shown = [first, last];
  head(player);
}

/** @param {import("./messages.js").Changed} change */
function reloadSpace({ jumped, data, edits }) {
  if (jumped || data || edits.some((e) => e.path.includes("/throws"))) freshData();
  redrawSettings();
}
function redrawSettings() {
  const ret = $("#space")?.dataset.return ?? "";
  const focus = (back) => [back, "#space .rule", "#space button"];
  redraw(`/s/${state.id}/space/body?return_id=${encodeURIComponent(ret)}`, { focus }).then((drawn) => {
    if (!drawn) return;
    document.body.dataset.drawn = String(state.version);
    showWhere();
    drawEffects();
  });
}

function head(told) {
  moveHead($("#space-head"), (frame) => ((frame - shown[0]) / (shown[1] - shown[0])) * 860, [0, 860], told);
}

on("redraw", () => void (state.screen === "space" && redrawSettings()));
register("space", { shown: shownNow, changed: reloadSpace });

document.addEventListener("click", (event) => {
  const at = (s) => event.target.closest(s);
  const bool = at("[data-bool] button");
  if (bool) return void set(bool.closest("[data-bool]").dataset.bool, bool.dataset.value === "true", { structure: true });
  const send = at("[data-add-send]");
  if (send) return void change([{ op: "insert", path: send.dataset.addSend, index: 99, value: { id: send.dataset.return, level_db: -14 } }], { structure: true });
  if (at("#add-duck")) {
    const { path, index } = at("#add-duck").dataset;
    return void change([{ op: "insert", path, index: Number(index), value: { kind: "duck", key: { lane: state.lane } } }], { structure: true });
  }
  const fresh = at("[data-add-return]");
  if (fresh) return addReturn(fresh.dataset.addReturn, JSON.parse(fresh.dataset.value));
  const act = at("[data-space]");
  if (act) return void ask(act);
  const also = at("[data-also]");
  if (also) {
    const now = JSON.parse(also.dataset.now);
    const wanted = now.includes(also.dataset.lane) ? now.filter((l) => l !== also.dataset.lane) : [...now, also.dataset.lane];
    return void set(also.dataset.also, wanted.map((lane) => ({ lane, tap: "treated" })), { structure: true });
  }
  const opened = at("[data-throw]");
  if (opened) {
    const [first, last] = measured();
    const value = { id: `t${crypto.randomUUID().slice(0, 8)}`, start_s: first / state.rate, end_s: last / state.rate, level_db: -3 };
    return void change([{ op: "insert", path: opened.dataset.throw, index: 99, value }], { structure: true });
  }
  if (at("#tap")) return tap();
  if (at("#duckfirst")) return void duckFirst(!duckingFirst);
  return undefined;
});

// A return with its effect and, after that, its ducker.
function addReturn(name, first) {
  const id = `r${crypto.randomUUID().slice(0, 8)}`;
  const key = state.data?.lane ? { key: { lane: state.data.lane } } : {};
  const stages = [{ ...first, id: `${id}a` }, { kind: "duck", id: `${id}b`, ...key }];
  /** @type {import("./queue.js").Edit[]} */
  const edits = [{ op: "insert", path: "returns", index: 99, value: { id, name, bus: "vocals", stages } }];
  if (state.data?.lane) edits.push({ op: "insert", path: `lanes/${state.data.lane}/sends`, index: 99, value: { id, level_db: -14 } });
  change(edits).then((told) => told && go(`/s/${state.id}/space?return_id=${id}`));
}

const here = () => `/s/${state.id}/space/${$("#space").dataset.return}`;

async function ask(button) {
  if (!once(button)) return;
  const [first, last] = measured();
  const told = await post(`${here()}/${button.dataset.space}?first=${first}&last=${last}`);
  over(button);
  if (!told) return;
  changedBy(told);
  if (told.copied !== undefined) toast(told.copied ? `Copied to ${told.copied} other ${told.copied > 1 ? "returns" : "return"}.` : "Every other return is held down like this one already.");
  if (told.fader_db !== undefined) toast(`Just heard at ${told.fader_db.toFixed(1).replace("-", "−")} dB; it was heard in ${Math.round(100 * told.before)} % of the loop before. Undo takes it back.`);
}

// Tempo by tapping: the mean of the last gaps, if they are alike.
let taps = [];
let tapped;
function tap() {
  const now = performance.now();
  if (now - (taps.at(-1) ?? 0) > 2500) taps = [];
  taps.push(now);
  taps = taps.slice(-9);
  const spot = $("#tap");
  if (taps.length < 4) return void (spot.textContent = `Tap ${4 - taps.length} more`);
  const bpm = Math.round((60000 * (taps.length - 1)) / (taps.at(-1) - taps[0]) * 10) / 10;
  spot.textContent = `${bpm.toFixed(1)} bpm`;
  clearTimeout(tapped);
  tapped = setTimeout(() => set("tempo_bpm", Math.min(400, Math.max(20, bpm)), { structure: true }), 1200);
}

let duckingFirst = false; // is to be heard once it is there
on("variant", () => (duckingFirst = player.variant === "duckfirst"));
async function duckFirst(wanted) {
  duckingFirst = wanted;
  if (wanted) await prepared("duckfirst", () => duckingFirst);
  if (duckingFirst === wanted) hearVariant(wanted ? "duckfirst" : "treated");
  drawPicture();
}

async function drawEffects() {
  for (const spot of document.querySelectorAll("[data-effect]")) {
    const answer = await picture(`${here()}/effect/${spot.dataset.effect}`, { part: true });
    if (answer && spot.isConnected) spot.innerHTML = await answer.text();
  }
}

document.addEventListener("change", async (event) => {
  const chosen = event.target.closest?.("[data-impulse]");
  if (!chosen?.files.length) return;
  const told = await give(`${here()}/impulse/${chosen.dataset.impulse}`, chosen.files[0]);
  chosen.value = "";
  if (!told) return;
  changedBy(told);
});

// held, the mix without this return
async function without(wanted) {
  const spot = $("#without");
  if (!spot || (wanted && player.variant === "without")) return;
  if (wanted) {
    player.without = $("#space").dataset.return;
    spot.setAttribute("aria-pressed", "true");
    const held = () => spot.getAttribute("aria-pressed") === "true";
    await prepared("without", held);
    if (held()) hearVariant("without");
  } else if (spot.getAttribute("aria-pressed") === "true") {
    spot.setAttribute("aria-pressed", "false");
    hearVariant("treated");
  }
}
document.addEventListener("pointerdown", (event) => event.target.closest("#without") && without(true));
for (const end of ["pointerup", "pointercancel"]) document.addEventListener(end, () => without(false));
document.addEventListener("keydown", (event) => {
  if (!event.target.closest?.("#without") || event.repeat || (event.key !== "Enter" && event.key !== " ")) return;
  event.preventDefault();
  event.stopPropagation();
  without(true);
}, true);
document.addEventListener("keyup", (event) => event.target.closest?.("#without") && without(false));

const LIKE = ["threshold_db", "depth_db", "attack_ms", "hold_ms", "release_ms", "lookahead_ms", "key_low_cut_hz", "holds", "band_low_hz", "band_high_hz", "key", "also"];
document.addEventListener("click", (event) => {
  const copy = event.target.closest("#duck-copy");
  if (copy) {
    sessionStorage.setItem("duck", copy.dataset.settings);
    toast("Copied. Open another return and paste.");
  }
  const paste = event.target.closest("#duck-paste");
  if (!paste) return;
  const held = sessionStorage.getItem("duck");
  if (!held) return toast("Nothing was copied yet: press “Copy settings” on the ducker that should be copied.");
  const settings = JSON.parse(held);
  change(LIKE.map((name) => ({ op: "set", path: `${paste.dataset.path}/${name}`, value: settings[name] })), { structure: true });
});

on("variant", () => $("#duckfirst")?.setAttribute("aria-pressed", player.variant === "duckfirst"));
on("rendered", unhurried(drawPicture));
on("rendered", unhurried(() => state.screen === "space" && drawEffects()));
on("phrase", unhurried(() => state.screen === "space" && drawPicture()));
on("position", (told) => state.screen === "space" && head(told));
