// Under the route: how far sibilants stand to the voice after each stage, and which of them raised it.

import { $ } from "./dom.js";
import { URGENCY } from "./line.js";
import { picture } from "./looking.js";
import { on } from "./messages.js";
import { measured, player, unhurried } from "./player.js";
import { minus } from "./spectrogram.js";
import { state } from "./state.js";

async function drawBalance() {
  const row = $("#balance");
  if (!row || !state.frames || !player.last || player.hear === "return") return;
  const [first, last] = measured();
  const answer = await picture(`/s/${state.id}/lane/${state.lane}/balance?hear=${player.hear}&first=${first}&last=${last}`, { urgency: URGENCY.figures });
  if (!answer || !row.isConnected) return;
  const told = await answer.json();
  row.replaceChildren();
  if (!told.stations.length) return;
  const by = Object.fromEntries(told.raised.map((r) => [r.id, r.by]));
  const name = document.createElement("span");
  name.className = "name";
  name.textContent = "s to voice";
  const at = (id) => Number($(`.station[data-stage="${CSS.escape(id)}"]`)?.dataset.x ?? 26);
  for (const s of told.stations) {
    const spot = document.createElement("span");
    spot.className = by[s.id] ? "mono raised" : "mono";
    spot.style.left = `${s.id === "take" ? 27 : at(s.id)}px`;
    spot.textContent = minus(s.db);
    spot.title = by[s.id] ? `${s.name} raises the sibilants by ${by[s.id].toFixed(1)} dB against the voice` : `sibilants to voice after ${s.name}, dB`;
    row.append(spot);
  }
  const most = told.raised.reduce((m, r) => (!m || r.by > m.by ? r : m), null);
  name.textContent = most ? `dB, s to voice; ${most.name} +${most.by.toFixed(1)}` : "dB, s to voice";
  name.title = `How far s and sh stand over the voice after each stage: ${told.raised.map((r) => `${r.name} raises the sibilants by ${r.by.toFixed(1)} dB`).join("; ") || "no stage raises the sibilants against the voice"}`;
  row.append(name);
  document.body.dataset.balance = String(state.version);
}

on("bench", drawBalance);
on("rendered", unhurried(drawBalance));
on("phrase", unhurried(drawBalance));
