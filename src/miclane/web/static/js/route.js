// The route: open, reorder by dragging, all of it from the keyboard.

import { change, set, $, $$ } from "./session.js";
import { open, stageMenu } from "./bench.js";

const listOf = (station) => station.dataset.path.replace(/\/[^/]+$/, "");
let drag = null;

document.addEventListener("pointerdown", (event) => {
  const station = event.target.closest(".station");
  if (!station || event.button !== 0) return;
  if (station.dataset.fixed) return open(station.dataset.stage);
  drag = { station, x: event.clientX, moved: false, id: event.pointerId };
});
document.addEventListener("pointermove", (event) => {
  if (!drag) return;
  const by = event.clientX - drag.x;
  if (!drag.moved && Math.abs(by) < 6) return;
  if (!drag.moved) drag.station.setPointerCapture(drag.id);
  drag.moved = true;
  drag.station.classList.add("dragging");
  drag.station.setAttribute("transform", `translate(${by} 0)`);
});
document.addEventListener("pointerup", (event) => {
  if (!drag) return;
  const { station, moved } = drag;
  drag = null;
  if (!moved) return open(station.dataset.stage);
  const list = listOf(station);
  const from = Number(station.dataset.index);
  const place = Number(station.dataset.x) + event.clientX - Number(station.ownerSVGElement.getBoundingClientRect().left) - Number(station.dataset.x);
  const others = $$(".station[data-path]").filter((s) => s !== station && listOf(s) === list);
  const index = others.filter((s) => Number(s.dataset.x) < place).length;
  station.removeAttribute("transform");
  station.classList.remove("dragging");
  if (index !== from) change([{ op: "move", path: station.dataset.path, index }], { structure: true });
});

document.addEventListener("keydown", (event) => {
  const station = event.target.closest?.(".station, .gap");
  if (!station) return;
  const done = () => {
    event.preventDefault();
    event.stopPropagation();
  };
  if (event.key === "Enter" || event.key === " ") {
    done();
    if (station.classList.contains("gap")) stageMenu(station, station.dataset.insert, Number(station.dataset.index));
    else open(station.dataset.stage);
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
  } else if (event.key === "b") {
    done();
    set(`${station.dataset.path}/on`, station.classList.contains("off"), { structure: true });
  }
});
window.addEventListener("popstate", () => {
  if ($("#bench") && location.pathname.includes("/lane/")) open(new URLSearchParams(location.search).get("stage") ?? "");
});
