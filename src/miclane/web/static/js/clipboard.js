// Copy and paste of stages, runs of them, whole chains and sends: by keys, by a menu, by dragging with Ctrl held.

import { $, $$, toast } from "./dom.js";
import { once, over } from "./focus.js";
import { ask, URGENCY } from "./line.js";
import { openMenu } from "./menu.js";
import { change, changedBy, post } from "./session.js";
import { state } from "./state.js";

const HELD = "clipboard";
const held = () => JSON.parse(localStorage.getItem(HELD) ?? "null");
const listOf = (station) => station.dataset.path.replace(/\/[^/]+$/, "");

/** The stages that are chosen: the run that was marked, else the one that has the focus. */
const chosen = (station) => {
  const marked = $$("#route .station.marked");
  return marked.includes(station) ? marked : [station];
};

async function take(address, words) {
  const answer = await ask(`/s/${state.id}/${address}`, { urgency: URGENCY.behind }).catch(() => null);
  const told = await answer?.json().catch(() => null);
  if (!answer?.ok) return void toast(told?.error ?? "The server does not answer.");
  localStorage.setItem(HELD, JSON.stringify(told));
  toast(`${words} copied. Ctrl V puts it in at the route, here, on another lane or in another session.`);
}

export async function copy(station) {
  const { stage } = station.dataset;
  if (stage === "out") return take(`copy/${encodeURIComponent(state.lane)}/sends`, "Sends");
  const stages = stage === "take" ? [] : chosen(station).map((s) => s.dataset.stage);
  const query = stages.map((s) => `stage=${encodeURIComponent(s)}`).join("&");
  return take(`copy/${encodeURIComponent(state.lane)}?${query}`, stages.length ? (stages.length > 1 ? `${stages.length} stages` : "Stage") : "The whole chain");
}

async function put(path, index, clip) {
  const told = await post(`/s/${state.id}/paste`, { path, index, chain: clip.chain, taken_from: clip.from, of: clip.of });
  pasted(told);
}

/** Stages that were dragged onto another lane, return or bus go to its end; with Ctrl they stay here as well. */
export async function carry(station, onto, copied) {
  const stages = chosen(station).map((s) => s.dataset.stage);
  const told = await post(`/s/${state.id}/carry`, { of: state.lane, stages, to: onto.dataset.onto, copied });
  if (!told) return;
  changedBy(told, { data: true });
  toast(`${copied ? "Copied" : "Moved"} to the end of ${onto.title.replace(": its stages", "")}. Undo takes it back.`);
}

function pasted(told) {
  if (!told) return;
  changedBy(told, { data: true, select: told.ids?.length ? { stage: told.ids[0] } : null });
  if (told.left_out.length) toast(`Left out: ${told.left_out.join("; ")}.`);
}

/** Into the gap, or after the station; at the take before everything, at the end after everything. */
export async function paste(at) {
  const clip = held();
  if (!clip) return void toast("Nothing was copied yet: Ctrl C on a station of the route.");
  if (clip.what === "sends") return void pasted(await post(`/s/${state.id}/paste/${encodeURIComponent(state.lane)}/sends`, { sends: clip.sends, taken_from: clip.of === state.id ? clip.from : "" }));
  const base = `${$("#route").dataset.base}/stages`;
  if (at.matches(".gap")) return put(at.dataset.insert, Number(at.dataset.index), clip);
  if (at.dataset.stage === "take") return put(base, 0, clip);
  if (at.dataset.stage === "out") return put(base, 64, clip);
  return put(listOf(at), Number(at.dataset.index) + 1, clip);
}

export async function cut(station) {
  const stations = chosen(station);
  await copy(station);
  change(stations.map((s) => ({ op: "remove", path: s.dataset.path })), { structure: true });
}

/** A copy of a station put in elsewhere on the same route. */
export async function copyTo(station, index) {
  const answer = await ask(`/s/${state.id}/copy/${encodeURIComponent(state.lane)}?stage=${encodeURIComponent(station.dataset.stage)}`, { urgency: URGENCY.behind }).catch(() => null);
  if (answer?.ok) put(listOf(station), index, await answer.json());
}

/** The run of stages is marked from where it began to here. */
export function mark(from, to) {
  const row = $$("#route .station[data-path]").filter((s) => listOf(s) === listOf(from));
  const [a, b] = [row.indexOf(from), row.indexOf(to)].sort((p, q) => p - q);
  for (const s of $$("#route .station")) s.classList.toggle("marked", a >= 0 && row.indexOf(s) >= a && row.indexOf(s) <= b);
}

/** Stages of this path become a chain on the Chains screen. @param {string[]} stages none for all @param {string} name */
async function keep(stages, name) {
  const told = await post(`/s/${state.id}/chains`, { path: state.lane, stages, name });
  if (told) toast(`“${told.name}” is kept, on the Chains screen.`);
}
document.addEventListener("click", async (event) => {
  const button = event.target instanceof Element ? event.target.closest("[data-keep-branch]") : null;
  if (!(button instanceof HTMLButtonElement) || !once(button)) return;
  await keep((button.dataset.keepBranch ?? "").split(" "), button.dataset.name ?? "");
  over(button);
});

/** @param {any} at a station */
function keepThese(at) {
  if (at.dataset.stage === "take") return keep([], "");
  const stations = chosen(at);
  return keep(stations.map((s) => s.dataset.stage), stations.map((s) => s.getAttribute("aria-label")).join(", "));
}

function menuOn(at, x, y) {
  const gap = at.matches(".gap");
  const whole = at.dataset.stage === "out" ? "Copy the sends" : "Copy the whole chain";
  const items = [{ words: "Paste", keys: "Ctrl V", act: () => void paste(at) }];
  if (!gap && at.dataset.stage !== "out") items.push({ words: at.dataset.fixed ? "Keep the chain" : "Keep as a chain", keys: "", act: () => void keepThese(at) });
  if (!gap && !at.dataset.fixed) items.unshift({ words: "Cut", keys: "Ctrl X", act: () => void cut(at) });
  if (!gap) items.unshift({ words: at.dataset.fixed ? whole : "Copy", keys: "Ctrl C", act: () => void copy(at) });
  openMenu(items, { x, y, label: "Copy and paste", back: at });
}

document.addEventListener("contextmenu", (event) => {
  const at = event.target.closest?.("#route .station, #route .gap");
  if (!at) return;
  event.preventDefault();
  const box = at.getBoundingClientRect();
  menuOn(at, event.clientX || box.left, event.clientY || box.bottom);
});
document.addEventListener("keydown", (event) => {
  const at = event.target.closest?.("#route .station, #route .gap");
  const act = { c: copy, x: cut, v: paste }[event.key.toLowerCase()];
  if (!at || !act || !(event.ctrlKey || event.metaKey) || event.shiftKey || event.altKey) return;
  event.preventDefault();
  event.stopPropagation();
  if (act === copy && at.matches(".gap")) return;
  if (act === cut && (at.dataset.fixed || at.matches(".gap"))) return;
  act(at);
});
