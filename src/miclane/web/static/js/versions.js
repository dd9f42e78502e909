// The Work screen: snapshots taken, compared, taken back; the history gone back and forth in.

import { openBlind } from "./blind.js";
import { $, $$, sure, toast } from "./dom.js";
import { hand, keep, once, over } from "./focus.js";
import { picture } from "./looking.js";
import { player } from "./player.js";
import { redraw } from "./redraw.js";
import { register } from "./screens.js";
import { changedBy, post } from "./session.js";
import { state } from "./state.js";
import { loopSomewhere } from "./strip.js";

const at = (path) => `/s/${state.id}/${path}`;
let comparing = { one: "now", other: "" };

function again() {
  return redraw(at("work/body"), { focus: (back) => [back, "#snapshot-form input", "#page"] }).then((drawn) => {
    if (!drawn) return;
    document.body.dataset.drawn = String(state.version);
    showTimes();
    const [list, now] = [$("#steps"), $("#steps [aria-current]")];
    if (list && now) list.scrollTop = Math.max(0, now.offsetTop - list.offsetTop - list.clientHeight / 2);
    compare();
  });
}
register("work", {
  shown() {
    if (player.first >= player.last - 1 && state.frames) loopSomewhere(1);
    showTimes();
    compare();
  },
  changed: () => void again(),
});

/** When it was, where one is. */
function showTimes() {
  const two = (n) => String(n).padStart(2, "0");
  for (const time of $$("#versions time")) {
    const at = new Date(time.dateTime);
    time.textContent = `${at.getFullYear()}-${two(at.getMonth() + 1)}-${two(at.getDate())} ${two(at.getHours())}:${two(at.getMinutes())}`;
  }
}

async function compare() {
  const box = $("#compare-lines");
  if (!box) return;
  const [one, other] = [$("#compare-one"), $("#compare-other")];
  const has = (select, value) => [...select.options].some((o) => o.value === value);
  if (has(one, comparing.one)) one.value = comparing.one;
  if (has(other, comparing.other)) other.value = comparing.other;
  comparing = { one: one.value, other: other.value };
  const answer = await picture(at(`work/lines?one=${one.value}&other=${other.value}`), { part: true });
  if (answer && box.isConnected) box.innerHTML = await answer.text();
  keep("#compare-lines button", "#compare-other");
}

document.addEventListener("submit", async (event) => {
  if (event.target !== $("#snapshot-form")) return;
  event.preventDefault();
  const form = new FormData($("#snapshot-form"));
  const still = hand();
  const told = await post(at("snapshots"), { name: form.get("name"), note: form.get("note") });
  if (!told) return;
  $("#snapshot-form").reset();
  toast(`“${told.name}” is kept.`);
  comparing.other = told.id;
  await again();
  if (still()) $("#snapshot-form input")?.focus();
});
document.addEventListener("change", async (event) => {
  if (event.target.matches?.("#compare-one, #compare-other")) {
    comparing = { one: $("#compare-one").value, other: $("#compare-other").value };
    compare();
  }
  const field = event.target.closest?.("[data-snapshot-field]");
  if (!field) return;
  const box = field.closest("[data-snapshot]");
  const [name, note] = ["name", "note"].map((which) => $(`[data-snapshot-field="${which}"]`, box).value);
  await post(at(`snapshots/${box.dataset.snapshot}/describe`), { name, note });
});
document.addEventListener("click", async (event) => {
  const to = (selector) => event.target.closest?.(selector);
  if (to("#blind-treated")) return void openBlind(["", "untreated"], (side) => side || "treated");
  const chosen = to("[data-compare]");
  if (chosen) {
    comparing = { one: "now", other: chosen.dataset.compare };
    await compare();
    return void $("#compare-lines").scrollIntoView({ block: "nearest" });
  }
  const back = to("[data-back-to]");
  if (back) return void changes(back, `snapshots/${back.dataset.backTo}/take`, { path: "", version: state.version });
  const line = to("[data-take-line]");
  if (line) return void changes(line, `snapshots/${line.dataset.of}/take`, { path: line.dataset.takeLine, version: state.version });
  const forget = to("[data-forget]");
  if (forget && (await sure(forget, "Forget it for good?"))) {
    if (await post(at(`snapshots/${forget.dataset.forget}/delete`))) again();
  }
  const step = to("[data-go-step]");
  if (step) return void changes(step, `steps/${step.dataset.goStep}`);
  const without = to("[data-without]");
  if (without) return void takeAway(without);
  return undefined;
});

async function changes(button, path, body = {}) {
  if (!once(button)) return;
  const told = await post(at(path), body);
  over(button);
  if (told) changedBy(told, { data: true });
}

/** One step taken back alone: said first what goes with it. */
async function takeAway(button) {
  const answer = await picture(at(`steps/${button.dataset.without}/built`));
  const { labels } = answer ? await answer.json() : { labels: [] };
  const words = labels.length ? `Takes ${labels.length} more along: ${labels.slice(0, 2).join("; ")}${labels.length > 2 ? " …" : ""}` : "";
  if (words && !button.dataset.sure) toast(words);
  if (labels.length && !(await sure(button, `With ${labels.length} more?`))) return;
  changes(button, `steps/${button.dataset.without}/without`);
}
