// The route: open, reorder by dragging, all of it from the keyboard.

import { open, reloadBody, stageMenu } from "./bench.js";
import { carry, copyTo, mark } from "./clipboard.js";
import { $, $$ } from "./dom.js";
import { change } from "./session.js";
import { state } from "./state.js";

const listOf = (station) => station.dataset.path.replace(/\/[^/]+$/, "");
let drag = null;

document.addEventListener("pointerdown", (event) => {
  const station = event.target.closest(".station");
  if (!station || event.button !== 0) return;
  if (station.dataset.fixed) return open(station.dataset.stage);
  drag = { station, x: event.clientX, y: event.clientY, moved: false, id: event.pointerId };
});
// what is pressed without a pointer, by what reads a page out, is a click alone
document.addEventListener("click", (event) => {
  const station = event.detail === 0 && event.target.closest(".station");
  if (station) open(station.dataset.stage);
});
document.addEventListener("pointermove", (event) => {
  if (!drag) return;
  const by = event.clientX - drag.x;
  if (!drag.moved && Math.abs(by) < 6) return;
  if (!drag.moved) drag.station.setPointerCapture(drag.id);
  drag.moved = true;
  drag.station.classList.add("dragging");
  drag.station.setAttribute("transform", `translate(${by} ${overSide(event) ? event.clientY - drag.y : 0})`);
});
/** The lane, return or bus in the list at the side that something is dragged over, marked. @param {PointerEvent} event */
function overSide(event) {
  for (const link of $$(".side .onto")) link.classList.remove("onto");
  const found = document.elementsFromPoint(event.clientX, event.clientY).map((e) => e.closest("[data-onto]")).find(Boolean);
  if (!found || found.dataset.onto === state.lane) return null;
  found.classList.add("onto");
  return found;
}
document.addEventListener("pointerup", (event) => {
  if (!drag) return;
  const { station, moved } = drag;
  drag = null;
  if (!moved && event.shiftKey) {
    const opened = $(".station[aria-current][data-path]");
    return void (opened && mark(opened, station));
  }
  if (!moved) return open(station.dataset.stage);
  const onto = overSide(event);
  onto?.classList.remove("onto");
  if (onto) {
    station.removeAttribute("transform");
    station.classList.remove("dragging");
    return void carry(station, onto, event.ctrlKey || event.metaKey);
  }
  const list = listOf(station);
  const from = Number(station.dataset.index);
  const place = Number(station.dataset.x) + event.clientX - Number(station.ownerSVGElement.getBoundingClientRect().left) - Number(station.dataset.x);
  const others = $$(".station[data-path]").filter((s) => s !== station && listOf(s) === list);
  const index = others.filter((s) => Number(s.dataset.x) < place).length;
  station.removeAttribute("transform");
  station.classList.remove("dragging");
  if (event.ctrlKey || event.metaKey) return void copyTo(station, index + (index >= from ? 1 : 0));
  if (index !== from) change([{ op: "move", path: station.dataset.path, index }], { structure: true });
});

// one stop for Tab, arrows along the line; down to where a stage can be put in after a station, up again to that
const inOrder = (selector) => $$(`#route ${selector}`).sort((a, b) => a.getBoundingClientRect().x - b.getBoundingClientRect().x);

function gapAfter(station) {
  const { stage, path, index } = station.dataset;
  if (path) return $(`#route .gap[data-insert="${CSS.escape(listOf(station))}"][data-index="${Number(index) + 1}"]`);
  const main = inOrder(`.gap[data-insert="${CSS.escape($("#route").dataset.base)}/stages"]`);
  return stage === "take" ? main[0] : main.at(-1);
}

function stationBefore(gap) {
  const { insert, index } = gap.dataset;
  const inList = inOrder(".station[data-path]").find((s) => listOf(s) === insert && Number(s.dataset.index) === Number(index) - 1);
  return inList ?? $(insert.includes("/branches/") ? `#route .station[data-path="${CSS.escape(insert.replace(/\/branches\/.*$/, ""))}"]` : '#route .station[data-stage="take"]');
}

const ALONG = ["ArrowLeft", "ArrowRight", "ArrowUp", "ArrowDown", "Home", "End"];
function along(from, key) {
  for (const s of $$("#route .marked")) s.classList.remove("marked");
  const gap = from.matches(".gap");
  const row = inOrder(gap ? ".gap" : ".station");
  const at = row.indexOf(from);
  const ways = {
    Home: () => row[0], End: () => row.at(-1), ArrowLeft: () => row[at - 1], ArrowRight: () => row[at + 1],
    ArrowDown: () => (gap ? null : gapAfter(from)), ArrowUp: () => (gap ? stationBefore(from) : null),
  };
  const to = ways[key]();
  if (!to) return;
  from.setAttribute("tabindex", "-1");
  to.setAttribute("tabindex", "0");
  to.focus();
}

// with Shift a run of stages is marked, from where it began
/** @type {Element | null} */
let began = null;
function extend(station, by) {
  if (!station.dataset.path) return;
  if (!station.classList.contains("marked") || !began?.isConnected) began = station;
  const row = $$("#route .station[data-path]").filter((s) => listOf(s) === listOf(station));
  const to = row[row.indexOf(station) + by];
  if (!to) return;
  mark(began, to);
  station.setAttribute("tabindex", "-1");
  to.setAttribute("tabindex", "0");
  to.focus();
}

/** The hand comes to the route from wherever it is. */
export const toRoute = () => ($("#route [aria-current]") ?? $("#route .station"))?.focus();

document.addEventListener("keydown", (event) => {
  const station = event.target.closest?.(".station, .gap");
  if (!station) return;
  const done = () => {
    event.preventDefault();
    event.stopPropagation();
  };
  if (event.key === "Enter") {
    done();
    if (station.classList.contains("gap")) stageMenu(station, station.dataset.insert, Number(station.dataset.index));
    else open(station.dataset.stage);
  } else if (event.shiftKey && ["ArrowLeft", "ArrowRight"].includes(event.key)) {
    done();
    extend(station, event.key === "ArrowLeft" ? -1 : 1);
  } else if (!event.altKey && ALONG.includes(event.key)) {
    done();
    along(station, event.key);
  } else if (station.classList.contains("gap") || station.dataset.fixed) return;
  else if (event.altKey && (event.key === "ArrowLeft" || event.key === "ArrowRight")) {
    done();
    const index = Number(station.dataset.index) + (event.key === "ArrowLeft" ? -1 : 1);
    if (index >= 0) change([{ op: "move", path: station.dataset.path, index }], { structure: true });
  } else if (event.key === "Delete") {
    done();
    change([{ op: "remove", path: station.dataset.path }], { structure: true });
  } else if (event.key === "Insert" || event.key === "+") {
    done();
    stageMenu(station, listOf(station), Number(station.dataset.index) + 1);
  }
});
// Back and forward among the stages of one lane draw the bench alone, and what plays plays on.
window.addEventListener("popstate", (event) => {
  if (!$("#bench") || decodeURIComponent(location.pathname) !== `/s/${state.id}/lane/${state.lane}`) return;
  event.stopImmediatePropagation();
  const place = new URLSearchParams(location.search);
  reloadBody(place.get("stage") ?? "", Number(place.get("band") ?? 0));
});
