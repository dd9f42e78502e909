// The Passes screen, and the mark in the list at the side of a lane in which something is open again.

import { $, $$ } from "./dom.js";
import { URGENCY } from "./line.js";
import { picture } from "./looking.js";
import { on } from "./messages.js";
import { player } from "./player.js";
import { redraw } from "./redraw.js";
import { register } from "./screens.js";
import { state } from "./state.js";
import { loopSomewhere } from "./strip.js";

const LATER_MS = 6000; // after the last change: what nobody waits for
const SOON_MS = 400;

const here = () => $("#passes")?.dataset.of ?? "";

function again() {
  return redraw(`/s/${state.id}/passes/body?lane=${here()}`, { focus: (back) => [back, "#passes .tabs a", "#page"] }).then((drawn) => {
    if (drawn) laid();
    return drawn;
  });
}

/** Names of stages over the dots of them; hash brought into view once. */
function laid() {
  for (const name of $$(".pass-stations [data-x]")) {
    name.style.left = `${name.dataset.x}%`;
    name.style.width = `${100 / $$(".pass-stations [data-x]").length}%`;
  }
  document.body.dataset.passes = `${state.version} ${$("#passes")?.dataset.missing ?? ""}`;
}

let soon = 0;
/** What has not been measured yet is, one after the other, and shown as it comes. */
function measure() {
  clearTimeout(soon);
  soon = setTimeout(async () => {
    const wanted = ($("#passes")?.dataset.missing ?? "").split(" ").filter(Boolean);
    for (const of of wanted) {
      const version = state.version;
      const answer = await picture(`/s/${state.id}/passes/measured?of=${encodeURIComponent(of)}`, { urgency: URGENCY.pictures, place: `passes ${of}` });
      if (!answer || version !== state.version || state.screen !== "passes") return;
      await again();
    }
  }, SOON_MS);
}

register("passes", {
  shown() {
    if (player.first >= player.last - 1 && state.frames) loopSomewhere(1);
    laid();
    if (state.alternative) again().then(measure);
    else measure();
  },
  changed: () => void again().then(measure),
});
on("changed", (change) => {
  if (state.screen === "passes" && !change.structure) again().then(measure);
});

/** What is known of each lane's mark, by session, alternative and lane. @type {Map<string, { again: string[], says: string }>} */
const marks = new Map();

function show() {
  for (const link of $$(".side a[data-lane]")) {
    const told = marks.get(`${state.id} ${state.alternative} ${link.dataset.lane}`);
    let mark = $(".again", link);
    if (!told?.again.length) {
      mark?.remove();
      continue;
    }
    if (!mark) {
      mark = document.createElement("span");
      mark.className = "again";
      $(".who", link)?.after(mark);
    }
    const [word] = told.again;
    mark.textContent = `${word} again${told.again.length > 1 ? ` +${told.again.length - 1}` : ""}`;
    mark.title = told.says;
  }
}

let later = 0;
function look() {
  show();
  clearTimeout(later);
  later = setTimeout(async () => {
    if (document.hidden) return;
    for (const link of $$(".side a[data-lane]:not(.music)")) {
      const { lane } = link.dataset;
      const { id, version, alternative } = state;
      const answer = await picture(`/s/${id}/passes/marks?of=${encodeURIComponent(lane)}`, { urgency: URGENCY.next, place: "mark" });
      if (!answer || id !== state.id || version !== state.version || alternative !== state.alternative) return;
      const told = await answer.json();
      marks.set(`${id} ${alternative} ${lane}`, told);
      show();
    }
    document.body.dataset.marks = String(state.version);
  }, LATER_MS);
}
on("changed", look);
on("alternative", look);
document.addEventListener("htmx:afterSettle", (event) => {
  if (event.target.id === "page") look();
});
if (document.readyState === "loading") document.addEventListener("DOMContentLoaded", () => setTimeout(look));
else setTimeout(look);
