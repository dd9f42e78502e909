// The hand stays where it is: radios by arrows, focus kept when what was focused is drawn anew or taken away.

import { $, $$ } from "./dom.js";

/** @type {Element | null} */
let last = null; // where the focus was, as long as nothing else has it
document.addEventListener("focusin", (event) => (last = /** @type {Element} */ (event.target)));
document.addEventListener("pointerdown", (event) => {
  if (!(/** @type {Element} */ (event.target).closest("button, a, input, select, [tabindex]"))) last = null; // let go of on purpose
});

/** Whether the focus fell to the page since what had it is gone. */
export const lost = () => last !== null && !last.isConnected && (document.activeElement === document.body || !document.activeElement);

/** The focus goes to the first of these that is there, if it was lost. @param {string[]} selectors */
export function keep(...selectors) {
  if (!lost()) return;
  for (const selector of selectors) {
    const found = selector && $(selector);
    if (found) return void found.focus({ preventScroll: true });
  }
}

const KNOWN_BY = [
  "data-path", "data-put", "data-role", "data-move", "data-take", "data-switch", "data-scope", "data-make-dynamic", "data-select", "data-pick-band", "data-add-band",
  "data-trims", "data-apply", "data-insert", "data-for-bus", "data-spread", "data-start", "data-part", "data-add-send", "data-throw", "data-impulse", "data-space", "data-remove", "data-attack",
];
const quoted = (element, name) => `[${name}="${CSS.escape(element.getAttribute(name))}"]`;

/** A selector of the same control once its part of the page has been drawn again; "" where it cannot be known. @param {any} element @param {boolean} [gone] */
export function again(element, gone = false) {
  if (!gone && !element?.closest?.("#body, #layer, #fit-bench")) return "";
  if (element.id) return `#${CSS.escape(element.id)}`;
  if (element.dataset.standsFor) return element.dataset.standsFor;
  const group = element.closest("[data-choice], [data-bool]");
  if (group && element.hasAttribute("data-value")) return `${quoted(group, group.hasAttribute("data-choice") ? "data-choice" : "data-bool")} ${quoted(element, "data-value")}`;
  for (const [one, name] of [[".station", "data-stage"], [".bar-group", "data-phrase"], [".pin", "data-band"], [".gap", "data-index"]]) {
    if (element.matches(one)) return one + quoted(element, name);
  }
  if (element.dataset.member) return `${quoted(element, "data-member")}${quoted(element, "data-member-do")}`;
  if (element.dataset.also) return `${quoted(element, "data-also")}${quoted(element, "data-lane")}`;
  const name = KNOWN_BY.find((a) => element.hasAttribute(a));
  return name ? quoted(element, name) : "";
}

/** What is chosen of the text in the field that has the focus: a function that chooses it again in the same field drawn anew. */
export function chosenText() {
  const had = /** @type {any} */ (document.activeElement);
  const back = again(had);
  if (!back || typeof had.selectionStart !== "number") return () => {};
  const { selectionStart, selectionEnd, selectionDirection } = had;
  return () => {
    const now = /** @type {any} */ (document.activeElement);
    if (now !== had && typeof now?.selectionStart === "number" && again(now) === back) now.setSelectionRange(selectionStart, selectionEnd, selectionDirection);
  };
}

/** Whether the hand is still where it is now, or nowhere: what comes late does not take the focus from where it has gone on to. */
export function hand() {
  const had = document.activeElement;
  const back = again(had);
  return () => {
    const now = document.activeElement;
    return !now || now === document.body || now === had || (back !== "" && again(now) === back);
  };
}

/** @typedef {{ where: string, text: string, from: number, to: number }} Typing */

/**
 * A field that has taken the place of what stands at `where`, to be typed in; it does so again, with what was typed, when its part of
 * the page is drawn anew. @param {HTMLInputElement} input @param {string} where @param {Typing | null} [begun]
 */
export function typingIn(input, where, begun) {
  input.dataset.standsFor = where;
  input.dataset.typing = "1";
  if (begun) input.value = begun.text;
  input.focus({ preventScroll: true });
  if (begun) input.setSelectionRange(begun.from, begun.to);
  else input.select();
}

/** What is being typed in such a field, just before it is taken away. @param {Element} box @returns {Typing | null} */
export function typingOf(box) {
  const input = $("[data-typing]", box);
  if (!input) return null;
  const where = input.dataset.standsFor;
  delete input.dataset.typing; // that it goes is no end of the typing
  return { where, text: input.value, from: input.selectionStart, to: input.selectionEnd };
}

/** The same control as it is drawn now, where the one that a hand took hold of has been drawn anew since. @template {Element} T @param {T} element @returns {T} */
export const live = (element) => (element.isConnected ? element : (again(element, true) && $(again(element, true))) || element);

/** @type {{ pointer: number, on: Element, x: number, y: number } | null} */
let holding = null; // the pointer that is down, on what, and where
document.addEventListener(
  "pointerdown",
  (event) => (holding = { pointer: event.pointerId, on: /** @type {Element} */ (event.target), x: event.clientX, y: event.clientY }),
  true,
);
document.addEventListener("pointercancel", () => (holding = null), true);
document.addEventListener(
  "pointerup",
  (event) => {
    const press = holding;
    holding = null;
    const mouse = event.pointerType === "mouse" && event.button === 0; // of a finger a click comes that finds what is there now
    if (press && mouse && !press.on.isConnected && Math.hypot(event.clientX - press.x, event.clientY - press.y) < SLIP_PX) {
      pressedAnew(press.on, document.elementFromPoint(event.clientX, event.clientY));
    }
  },
  true,
);

const PRESSED = "button, a[href], summary, [role=radio]";
const SLIP_PX = 4; // so far a pointer may slip while it presses

/** A press on what is drawn anew before it is let go of counts: no click comes of it by itself. @param {Element} gone @param {Element | null} under */
function pressedAnew(gone, under) {
  const was = gone.closest(PRESSED);
  const now = /** @type {HTMLElement | null | undefined} */ (under?.closest(PRESSED));
  if (was && now && was.tagName === now.tagName && known(was) === known(now)) now.click();
}
/** @param {Element} control */
const known = (control) => again(control, true) || `${control.getAttribute("aria-label")} ${control.textContent}`;

/** Where what had the pointer is gone the page has it, so that it is heard where it is let go of, outside the window too. */
export function holdOn() {
  if (!holding || holding.on.isConnected) return;
  try {
    document.documentElement.setPointerCapture(holding.pointer);
  } catch {
    holding = null; // it is up already
  }
}

/** A button whose work is under way is pressed once only, and keeps the focus; `over` when it has come to nothing. @param {Element} button */
export function once(button) {
  if (button.getAttribute("aria-busy") === "true") return false;
  button.setAttribute("aria-busy", "true");
  return true;
}
/** @param {Element} button */
export const over = (button) => button.removeAttribute("aria-busy");

// one stop for Tab in a group of radios: the one that is chosen
function tidy() {
  for (const group of $$("[role=radiogroup]")) {
    const radios = $$("[role=radio]", group);
    const chosen = radios.find((r) => r.getAttribute("aria-checked") === "true") ?? radios[0];
    for (const radio of radios) radio.tabIndex = radio === chosen ? 0 : -1;
  }
}
for (const name of ["htmx:afterSettle", "click", "focusin"]) document.addEventListener(name, () => queueMicrotask(tidy));
if (document.readyState === "loading") document.addEventListener("DOMContentLoaded", tidy);
else tidy();

document.addEventListener("keydown", (event) => {
  const radio = /** @type {Element} */ (event.target).closest?.("[role=radio]");
  const by = { ArrowRight: 1, ArrowDown: 1, ArrowLeft: -1, ArrowUp: -1 }[event.key];
  if (!radio || !by || event.altKey || event.ctrlKey || event.metaKey) return;
  event.preventDefault();
  event.stopPropagation();
  const radios = $$("[role=radio]", radio.closest("[role=radiogroup]")).filter((r) => !r.disabled);
  const next = radios[(radios.indexOf(radio) + by + radios.length) % radios.length];
  next.focus();
  next.click();
});

// ---- F6: from one part of the screen to the next ----

const PARTS = "header, .side, #strip, #route, #bench > *, #space > *, #map, #print-form, #prints, #body > table, #body > .grid, .shelf, #foot";
const REACHED = "a[href], button:not(:disabled), input:not(:disabled), select, [tabindex='0']";
const within = (part) => $$(REACHED, part).filter((e) => e.tabIndex >= 0 && e.checkVisibility());

document.addEventListener("keydown", (event) => {
  if (event.key !== "F6") return;
  event.preventDefault();
  const all = $$(PARTS).filter((part) => within(part).length);
  const parts = all.filter((part) => !all.some((other) => other !== part && part.contains(other)));
  const active = document.activeElement;
  const here = active === $("#page") ? 0 : parts.findLastIndex((part) => part.contains(active)); // a screen begins after the head
  const by = event.shiftKey ? -1 : 1;
  const next = parts[here < 0 && by < 0 ? parts.length - 1 : (here + by + parts.length) % parts.length];
  const inside = within(next);
  (inside.find((e) => e.getAttribute("aria-current") || e.matches("[role=slider]")) ?? inside[0])?.focus();
});
