// A lane that follows another: whom it follows, what it gives up, and what its leader has beside its own on each rule.

import { $, $$ } from "./dom.js";
import { once, over } from "./focus.js";
import { picture } from "./looking.js";
import { on, say } from "./messages.js";
import { shown, toFraction } from "./rule.js";
import { change } from "./session.js";
import { state } from "./state.js";

/** @param {any} edits @param {Element} from */
const make = (edits, from) => void (once(from) && change(edits, { structure: true, data: true, where: "", alternative: "" }).then(() => over(from)));

document.addEventListener("change", (event) => {
  const chooser = event.target.closest?.("[data-follow]");
  if (chooser) make([{ op: "set", path: chooser.dataset.follow, value: chooser.value || null }], chooser);
});
document.addEventListener("click", (event) => {
  const button = event.target.closest?.("[data-edits]");
  if (button) make(JSON.parse(button.dataset.edits), button);
});

// what is usual for a backing; open until it is pressed again, and asked for anew after each change
let thin = "";
async function showThin() {
  const box = $("#thin-list");
  $("#thin")?.setAttribute("aria-expanded", String(thin === state.lane));
  if (!box) return;
  if (thin !== state.lane) return void box.replaceChildren();
  if (!box.childElementCount) box.innerHTML = '<p class="busy">Looking at its take …</p>';
  const answer = await picture(`/s/${state.id}/lane/${state.lane}/thin`, { part: true });
  if (answer && box.isConnected && thin === state.lane) box.innerHTML = await answer.text();
}
document.addEventListener("click", (event) => {
  if (!event.target.closest?.("#thin")) return;
  thin = thin === state.lane ? "" : state.lane;
  showThin();
});
on("bench", () => thin && showThin());

export function drawGhosts() {
  const bench = $("#bench");
  for (const old of $$(".rule .ghost", bench ?? document)) old.remove();
  if (!bench?.dataset.ghosts) return;
  for (const [path, value] of Object.entries(JSON.parse(bench.dataset.ghosts))) {
    const rule = $(`.rule[data-path="${CSS.escape(path)}"]`, bench);
    if (!rule) continue;
    const ghost = document.createElementNS("http://www.w3.org/2000/svg", "rect");
    for (const [name, is] of Object.entries({ class: "ghost", x: `${100 * toFraction(rule, value)}%`, y: 0, width: 4, height: 12, rx: 1, transform: "translate(-2 0)" })) ghost.setAttribute(name, String(is));
    $("svg", rule).append(ghost);
    rule.title = `${bench.dataset.leader} has ${shown(value, rule.dataset.unit, rule.dataset.signed === "1").join(" ")}`;
  }
}
on("bench", drawGhosts);

const REST_MS = 900;
let resting = 0;
// what a hand has made its own, or made as the leader's again, is drawn so once it rests
on("moved", ({ path }) => {
  if (!path.endsWith("/differs")) return;
  clearTimeout(resting);
  resting = setTimeout(() => say("redraw"), REST_MS);
});
