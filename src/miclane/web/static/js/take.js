// The raw-take report: slips that apply their answer and are measured again; words, sections and phrases as a list.

import { $, toast } from "./dom.js";
import { once, over } from "./focus.js";
import { ask, URGENCY } from "./line.js";
import { on, say } from "./messages.js";
import { change, changedBy, give, post, set } from "./session.js";
import { state } from "./state.js";
import { loopPhrases, setLoop } from "./strip.js";

const bench = () => $("#bench");
let token = 0;

async function loadReport() {
  const spot = $("#bench .report");
  if (!spot || !state.frames) return;
  const stage = bench().dataset.stage;
  const of = `${state.version} ${state.lane} ${stage} ${spot.dataset.report}`;
  if (spot.dataset.of === of) return; // it is here, or on its way
  spot.dataset.of = of;
  const mine = ++token;
  for (const again of spot.childElementCount > 1 ? ["&again=1"] : ["", "&again=1"]) {
    const answer = await ask(`/s/${state.id}/lane/${state.lane}/report?${spot.dataset.report}${again}`, { part: true, urgency: URGENCY.next }).catch(() => null);
    if (mine !== token || bench()?.dataset.stage !== stage || !spot.isConnected) return;
    if (!answer?.ok || answer.status === 204) delete spot.dataset.of;
    if (!answer?.ok) {
      if (spot.childElementCount < 2) spot.innerHTML = `<p class="dim p-3">The take could not be measured: ${answer ? (await answer.json()).error : "the server does not answer"}.</p>`;
      return;
    }
    if (answer.status === 204) return; // let go, for the session has changed: what is shown stays until it is measured again
    const focus = document.activeElement?.closest?.(".slip")?.dataset.finding;
    spot.innerHTML = await answer.text();
    if (focus) $(`.slip[data-finding="${CSS.escape(focus)}"] button`, spot)?.focus();
    const told = JSON.parse($(".report-data", spot)?.textContent ?? "{}");
    if (told.marks && !spot.dataset.report) {
      state.data.marks = told.marks;
      say("marks");
    }
    if (told.tones) showTones(told.tones);
  }
}

// where a ring was found, on the EQ's picture
function showTones(tones) {
  const svg = $("#eq");
  const spot = $("#eq-tones");
  if (!svg || !spot) return;
  const [left, right, top] = ["left", "right", "top"].map((k) => Number(svg.dataset[k]));
  spot.replaceChildren();
  for (const t of tones) {
    const x = left + (Math.log(t.frequency_hz / 20) / Math.log(1000)) * (right - left);
    const mark = document.createElementNS("http://www.w3.org/2000/svg", "path");
    mark.setAttribute("d", `M${x - 5} ${top + 2}h10l-5 8z`);
    const title = document.createElementNS("http://www.w3.org/2000/svg", "title");
    title.textContent = t.title;
    mark.append(title);
    spot.append(mark);
  }
}

const RESTED_MS = 2500; // evidence is measured again once the hand has rested
let later = 0;
on("bench", () => {
  clearTimeout(later);
  later = setTimeout(loadReport, $("#bench .report")?.childElementCount > 1 ? RESTED_MS : 0);
});

document.addEventListener("click", async (event) => {
  const at = (selector) => event.target.closest(selector);
  const apply = at("[data-apply]");
  if (apply && once(apply)) {
    const told = await change(JSON.parse(apply.dataset.apply), { structure: true });
    if (!told) over(apply);
  }
  const show = at("[data-show]");
  if (show) {
    const [a, b] = show.dataset.show.split(" ").map(Number);
    const room = state.rate;
    setLoop(a - room, b + room, false);
  }
  const loop = at("[data-loop-phrase]");
  if (loop) loopPhrases(Number(loop.dataset.loopPhrase), Number(loop.dataset.loopPhrase));
  if (at("#words-choose")) $("#words-file").click();
  if (at("#phrases-find")) await refind();
});

async function refind() {
  const told = await post(`/s/${state.id}/lane/${state.lane}/phrases`);
  if (told) {
    changedBy(told, { data: true });
    toast("Phrases found again; what was the same kept its words and trim. Undo takes it back.");
  }
}

document.addEventListener("change", async (event) => {
  const field = event.target.closest("[data-phrase-field]");
  if (field) {
    const id = field.closest("[data-phrase]").dataset.phrase;
    const told = await set(`lanes/${state.lane}/phrases/${id}/${field.dataset.phraseField}`, field.value.trim(), {});
    const known = state.data.phrases.find((p) => p.id === id);
    if (told && known) {
      known[field.dataset.phraseField] = field.value.trim();
      say("phrases");
    }
  }
  const chosen = event.target.closest("#words-file");
  if (chosen?.files.length) {
    const told = await give(`/s/${state.id}/lane/${state.lane}/words`, chosen.files[0]);
    chosen.value = "";
    if (!told) return;
    changedBy(told, { data: true });
    toast(`${told.lines} lines read; ${told.phrases} phrases have new words.`);
  }
});
