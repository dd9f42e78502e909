// A part of the page drawn again: one request at a time, of those that wait only the newest; the focus stays where the hand is, and
// what is being typed that nobody has yet.

import { $, $$ } from "./dom.js";
import { again, chosenText, holdOn, keep, typingOf } from "./focus.js";
import { ask, URGENCY } from "./line.js";
import { on } from "./messages.js";
import { settled } from "./session.js";
import { seenAt, state } from "./state.js";

/** @type {Map<string, { line: Promise<any>, newest: number }>} */
const parts = new Map();

const MOST_TRIES = 4;
let edits = 0; // so many times something has been set
on("changing", () => void (edits += 1));
let elsewhere = false; // what is drawn next follows what another window has changed: whoever hears what they turn comes first
on("changed", (told) => (elsewhere = told.elsewhere === true));

/** Whether a field is for something yet to be made: what stands there of what is kept begins with that. @param {HTMLInputElement} field */
const isNew = (field) => !field.defaultValue && !Object.keys(field.dataset).length;

/** @param {HTMLInputElement} field */
const known = (field) => again(field) || (field.form?.id && field.name ? `#${field.form.id} [name="${field.name}"]` : "");

/** What is typed there, by where, and is to stay. @param {Element} box @param {(field: HTMLInputElement) => boolean} stays */
const typed = (box, stays) =>
  /** @type {HTMLInputElement[]} */ ($$("input:not([type=checkbox], [type=radio], [type=file])", box))
    .filter((field) => field.value !== field.defaultValue && stays(field))
    .map((field) => ({ where: known(field), value: field.value, given: field.dataset.sent === field.value.trim() }))
    .filter(({ where }) => where);

/** What was typed stands in a new field: that it was typed there the browser does not know. @param {HTMLInputElement | null} field @param {string} value @param {boolean} given */
function put(field, value, given) {
  if (!field) return;
  field.value = value;
  if (given) return; // and is under way
  field.addEventListener("blur", () => field.value !== field.defaultValue && field.dispatchEvent(new Event("change", { bubbles: true })), { once: true });
}

/**
 * Whether it was drawn for this call: not where a newer one took its place, the server had no answer, or the part is no longer there.
 * @param {string} address
 * @param {{ target?: string, focus?: (back: string) => string[], before?: () => void, after?: () => void, stays?: (field: HTMLInputElement) => boolean }} how
 *   `focus`: where it may go, first to last, if what had it is gone; `stays`: whether what is typed in a field does;
 *   `before`: what is to be remembered of the old part, just before it goes; `after`: what goes into the new one
 * @returns {Promise<boolean>}
 */
export function redraw(address, { target = "#body", focus = (back) => [back], before, after, stays = isNew } = {}) {
  const part = parts.get(target) ?? { line: Promise.resolve(), newest: 0 };
  parts.set(target, part);
  const mine = ++part.newest;
  const { screen, lane } = state;
  const drawn = part.line.then(async () => {
    if (mine !== part.newest) return false;
    let text = "";
    for (let tries = 0; tries < MOST_TRIES; tries++) {
      const before = edits;
      const answer = await ask(seenAt(address), { urgency: elsewhere ? URGENCY.figures : URGENCY.behind, part: true }).catch(() => null);
      text = answer?.ok ? await answer.text().catch(() => "") : "";
      if (before === edits) break;
      await settled(); // what came is of before the hand moved: drawn, it would set back what is under it
      if (mine !== part.newest) return false;
    }
    const box = $(target);
    if (!text || !box || screen !== state.screen || lane !== state.lane) return false;
    before?.();
    const draft = typed(box, stays);
    const where = focus(again(document.activeElement));
    const typing = typingOf(box);
    const choose = chosenText();
    htmx.swap(box, text, { swapStyle: "innerHTML", swapDelay: 0, settleDelay: 0 });
    for (const { where: place, value, given } of draft) put($(place, box), value, given);
    after?.();
    if (typing) $(typing.where)?.dispatchEvent(new CustomEvent("typing", { bubbles: true, detail: typing }));
    keep(...where);
    choose();
    holdOn();
    return mine === part.newest;
  });
  part.line = drawn.catch(() => {});
  return drawn;
}
