// Ears that have heard the same for long: said once, where one looks; the sound goes on.

import { $ } from "./dom.js";
import { on } from "./messages.js";
import { player } from "./player.js";
import { state } from "./state.js";

const limits = () => JSON.parse($("#ears")?.dataset.limits ?? "null");
let loop = { key: "", heard: 0, said: false };
let session = { heard: 0, silent: 0, said: false };
let before = 0;

const few = () => (state.data?.phrases ?? []).filter((p) => p.start < player.last && p.end > player.first).length <= 1;

on("position", ({ playing }) => {
  const now = performance.now() / 1000;
  const passed = Math.min(now - before, 1); // of a window that slept only a moment counts
  before = now;
  const told = limits();
  if (!told || !player.context) return;
  const key = `${player.first} ${player.last}`;
  if (loop.key !== key) loop = { key, heard: 0, said: false };
  if (playing) {
    loop.heard += passed;
    session.heard += passed;
    session.silent = 0;
  } else session.silent += passed;
  if (session.silent > told.rest_s) {
    loop.heard = 0;
    session = { heard: 0, silent: 0, said: false };
    say("");
  }
  if (!loop.said && loop.heard > told.loop_s && few()) {
    loop.said = true;
    say(told.loop_words);
  }
  if (!session.said && session.heard > told.session_s) {
    session.said = true;
    say(told.session_words);
  }
});

function say(words) {
  const box = $("#ears");
  if (!box) return;
  box.hidden = !words;
  box.firstElementChild.textContent = words;
}
document.addEventListener("click", (event) => {
  if (event.target instanceof Element && event.target.closest("#ears button")) say("");
});
