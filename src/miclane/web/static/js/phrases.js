// Phrases edited in the strip: ends dragged, split, joined, named, taken away; by mouse and by keyboard.

import { $, toast } from "./dom.js";
import { hand } from "./focus.js";
import { picture } from "./looking.js";
import { on } from "./messages.js";
import { player } from "./player.js";
import { change } from "./session.js";
import { state } from "./state.js";
import { menuFor } from "./stretches.js";
import { layout, loopPhrases } from "./strip.js";
import { frameAt } from "./strip_view.js";

const EDGE = 6;
const base = () => `lanes/${state.data.phrases_of}/phrases`;
const apply = (edits, gesture = "") => change(edits, { gesture, structure: true, data: true });

export function split(index, frame = player.at) {
  const p = state.data.phrases[index];
  const least = 0.08 * state.rate;
  if (!p || frame < p.start + least || frame > p.end - least) return toast("Put the playhead inside the phrase to split it there.");
  const words = p.words.split(/\s+/).filter(Boolean);
  const first = Math.round((words.length * (frame - p.start)) / (p.end - p.start));
  const id = `p${crypto.randomUUID().slice(0, 8)}`;
  const rest = { id, start: Math.round(frame), end: p.end, words: words.slice(first).join(" "), section: p.section, trim_db: p.trim_db };
  return apply([
    { op: "set", path: `${base()}/${p.id}/end`, value: Math.round(frame) },
    { op: "set", path: `${base()}/${p.id}/words`, value: words.slice(0, first).join(" ") },
    { op: "insert", path: base(), index: index + 1, value: rest },
  ]);
}

export function join(index) {
  const [p, next] = state.data.phrases.slice(index, index + 2);
  if (!next) return toast("There is no phrase after this one to join it with.");
  return apply([
    { op: "remove", path: `${base()}/${next.id}` },
    { op: "set", path: `${base()}/${p.id}/end`, value: next.end },
    { op: "set", path: `${base()}/${p.id}/words`, value: `${p.words} ${next.words}`.trim().slice(0, 400) },
  ]);
}

function limits(index) {
  const { phrases } = state.data;
  return [index ? phrases[index - 1].end : 0, index + 1 < phrases.length ? phrases[index + 1].start : state.frames];
}

function moveEnd(index, which, frame, gesture) {
  const p = state.data.phrases[index];
  if (!p) return null;
  const [low, high] = limits(index);
  const least = 0.05 * state.rate;
  const value = Math.round(which === "start" ? Math.min(Math.max(frame, low), p.end - least) : Math.max(Math.min(frame, high), p.start + least));
  p[which] = value;
  layout();
  return change([{ op: "set", path: `${base()}/${p.id}/${which}`, value }], { gesture, structure: false });
}

const indexOf = (id) => state.data.phrases.findIndex((p) => p.id === id); // where it stands by now
let drag = null;
document.addEventListener("pointerdown", (event) => {
  const box = event.target.closest?.(".strip .phrase");
  if (!box || event.button !== 0) return;
  const edge = edgeOf(box, event.clientX);
  if (!edge) return;
  event.preventDefault();
  event.stopPropagation();
  drag = { id: state.data.phrases[Number(box.dataset.index)]?.id, which: edge, gesture: `phrase@${Date.now()}`, strip: box.parentElement, moved: false };
}, true);
document.addEventListener("pointermove", (event) => {
  if (drag) {
    drag.moved = true;
    moveEnd(indexOf(drag.id), drag.which, frameAt(event.clientX - drag.strip.getBoundingClientRect().left), drag.gesture);
    return;
  }
  const box = event.target.closest?.(".strip .phrase");
  if (box) box.style.cursor = edgeOf(box, event.clientX) ? "ew-resize" : "pointer";
});
document.addEventListener("pointerup", () => {
  if (!drag) return;
  const { moved, gesture, id, which } = drag;
  drag = null;
  const phrase = state.data?.phrases[indexOf(id)];
  if (moved && phrase) change([{ op: "set", path: `${base()}/${id}/${which}`, value: phrase[which] }], { gesture, structure: true, data: true });
});

function edgeOf(box, x) {
  const r = box.getBoundingClientRect();
  if (r.width < 4 * EDGE) return "";
  return x - r.left < EDGE ? "start" : r.right - x < EDGE ? "end" : "";
}

// Each word of a phrase, to be looped or thrown.
async function offerWords(p, row, index) {
  const answer = p.words && (await picture(`/s/${state.id}/lane/${state.data.phrases_of}/phrases/${p.id}/words`));
  if (!answer || !row.isConnected) return;
  const what = document.createElement("span");
  what.className = "dim self-center";
  what.textContent = "Loop or throw";
  row.append(what);
  for (const { word, start, end } of await answer.json()) {
    const button = document.createElement("button");
    button.type = "button";
    button.textContent = word;
    button.title = `${(start / state.rate).toFixed(2)} s to ${(end / state.rate).toFixed(2)} s, about: to be looped or thrown`;
    button.addEventListener("click", (event) => {
      event.stopPropagation();
      const box = button.getBoundingClientRect();
      menuFor(start, end, box.left, box.bottom + 4, $(`.strip .phrase[data-index="${index}"]`));
    });
    row.append(button);
  }
  row.hidden = false;
}

// everything of one phrase in a small box
function openBox(index) {
  const p = state.data.phrases[index];
  const anchor = $(`.strip .phrase[data-index="${index}"]`);
  if (!p || !anchor) return;
  const box = anchor.getBoundingClientRect();
  const menu = document.createElement("div");
  menu.className = "menu phrase-menu";
  menu.setAttribute("role", "dialog");
  menu.setAttribute("aria-label", `Phrase ${index + 1}`);
  menu.innerHTML = `<label class="field"><span>Words</span><input class="field-text" name="words" maxlength="400"></label><label class="field"><span>Section</span><input class="field-text" name="section" maxlength="60" list="section-names"></label>
    <div class="flex gap-1"><button type="button" data-do="split">Split at the playhead</button><button type="button" data-do="join">Join with the next</button><button type="button" data-do="remove">Take away</button></div>
    <div class="flex gap-1 flex-wrap mt-2" role="group" aria-label="Each word, about where it is sung" hidden></div>`;
  offerWords(p, $("[role=group]", menu), index);
  $("[name=words]", menu).value = p.words;
  $("[name=section]", menu).value = p.section;
  $("#layer").replaceChildren(menu);
  menu.style.left = `${Math.min(box.left, innerWidth - menu.offsetWidth - 10)}px`;
  menu.style.top = `${box.bottom + 6}px`;
  $("[name=words]", menu).select();
  const close = () => {
    $("#layer").replaceChildren();
    $(`.strip .phrase[data-index="${index}"]`)?.focus();
  };
  const keep = () => {
    const edits = ["words", "section"].map((name) => [name, $(`[name=${name}]`, menu).value.trim()]).filter(([name, value]) => value !== p[name]);
    if (edits.length) apply(edits.map(([name, value]) => ({ op: "set", path: `${base()}/${p.id}/${name}`, value })));
  };
  menu.addEventListener("change", keep);
  menu.addEventListener("keydown", (event) => {
    event.stopPropagation();
    if (event.key === "Enter" && event.target.matches("input")) {
      keep();
      close();
    } else if (event.key === "Escape") close();
  });
  menu.addEventListener("click", (event) => {
    const what = event.target.closest("[data-do]")?.dataset.do;
    if (!what) return;
    close();
    if (what === "split") split(index);
    else if (what === "join") join(index);
    else apply([{ op: "remove", path: `${base()}/${p.id}` }]);
  });
}

// a double click, told by its count: the first click draws the boxes anew, so the page never sees one on the same box
document.addEventListener("click", (event) => {
  if (event.detail !== 2) return;
  const box = document.elementFromPoint(event.clientX, event.clientY)?.closest(".strip .phrase");
  if (box) openBox(Number(box.dataset.index));
});
document.addEventListener("keydown", (event) => {
  const box = event.target.closest?.(".strip .phrase");
  if (!box || event.ctrlKey || event.metaKey) return;
  const index = Number(box.dataset.index);
  const stop = () => {
    event.preventDefault();
    event.stopPropagation();
  };
  const still = hand();
  const again = (what) => Promise.resolve(what).then(() => setTimeout(() => still() && $(`.strip .phrase[data-index="${index}"]`)?.focus(), 60));
  if (event.key === "F2") {
    stop();
    openBox(index);
  } else if (event.key === "s" || event.key === "j") {
    stop();
    again(event.key === "s" ? split(index) : join(index));
  } else if (event.key === "Delete") {
    stop();
    again(apply([{ op: "remove", path: `${base()}/${state.data.phrases[index].id}` }]));
  } else if (event.altKey && (event.key === "ArrowLeft" || event.key === "ArrowRight")) {
    stop();
    const which = event.shiftKey ? "end" : "start";
    const by = (event.key === "ArrowLeft" ? -0.01 : 0.01) * state.rate;
    again(moveEnd(index, which, state.data.phrases[index][which] + by, `phrase-${which}-${index}`));
  } else if (event.key === "ArrowLeft" || event.key === "ArrowRight") {
    stop();
    const next = Math.min(Math.max(index + (event.key === "ArrowLeft" ? -1 : 1), 0), state.data.phrases.length - 1);
    loopPhrases(next, next);
    $(`.strip .phrase[data-index="${next}"]`)?.focus();
  }
});
on("phrases", layout);
