// The control for every number: drag, arrows, type, double-click for the default.

import { $, $$ } from "./dom.js";
import { hand, live, typingIn } from "./focus.js";
import { on } from "./messages.js";
import { set, typed } from "./session.js";

const number = (rule, name) => Number(rule.dataset[name]);
const ruleAt = (target) => $(".rule", target.closest?.(".rule-box") ?? document.createElement("i"));

export function toFraction(rule, value) {
  const low = number(rule, "low");
  const high = number(rule, "high");
  if (rule.dataset.scale === "log" && low > 0) return Math.log(Math.max(value, low) / low) / Math.log(high / low);
  return (value - low) / (high - low);
}

export function fromFraction(rule, share) {
  const low = number(rule, "low");
  const high = number(rule, "high");
  const s = Math.min(Math.max(share, 0), 1);
  if (rule.dataset.scale === "log" && low > 0) return low * (high / low) ** s;
  return low + s * (high - low);
}

/**
 * How values are shown, unit by unit: the same table that the server writes numbers with.
 * @type {Record<string, {start: number, decimals: number, unit: string, divisor: number, trimmed: boolean, signed: boolean}[]>}
 */
const FORMATS = JSON.parse($("#formats").textContent);

export function shown(value, unit, signed = true) {
  if (unit === "pan" && Math.abs(value) < 0.005) return ["C", ""];
  const plain = { start: 0, decimals: 2, unit, divisor: 1, trimmed: false, signed: false };
  const f = FORMATS[unit]?.find((one) => Math.abs(value) >= one.start) ?? plain;
  let text = (Math.abs(value) / f.divisor).toFixed(f.decimals);
  if (f.trimmed) text = String(Number(text));
  if (unit === "pan") return [`${value < 0 ? "L" : "R"} ${text}`, ""];
  const sign = Number(text) === 0 ? "" : value < 0 ? "−" : f.signed && signed ? "+" : "";
  return [sign + text, f.unit];
}

const NOTES = ["C", "C#", "D", "D#", "E", "F", "F#", "G", "G#", "A", "A#", "B"];
function note(frequency) {
  const semitones = 69 + 12 * Math.log2(frequency / 440);
  const nearest = Math.round(semitones);
  const cents = Math.round((semitones - nearest) * 100);
  return `${NOTES[((nearest % 12) + 12) % 12]}${Math.floor(nearest / 12) - 1} ${cents < 0 ? "−" : "+"}${Math.abs(cents)}c`;
}

export function show(rule, value) {
  const off = rule.dataset.off !== undefined && Number(rule.dataset.off) === value;
  const [text, unit] = off ? ["off", ""] : shown(value, rule.dataset.unit, rule.dataset.signed === "1");
  rule.setAttribute("aria-valuenow", value);
  rule.setAttribute("aria-valuetext", `${text} ${unit}`);
  const field = $(".value", rule.parentElement);
  if (field) {
    $(".number", field).textContent = text;
    $("small", field).textContent = unit + (rule.dataset.path.endsWith("frequency_hz") ? ` ${note(value)}` : "");
  }
  $(".mark", rule).setAttribute("x", `${100 * Math.min(Math.max(toFraction(rule, value), 0), 1)}%`);
}

const valueOf = (rule) => Number(rule.getAttribute("aria-valuenow"));
const grain = (rule, value) => (rule.dataset.scale === "log" ? 10 ** (Math.floor(Math.log10(Math.max(Math.abs(value), 1e-6))) - 2) : number(rule, "step"));
const round = (rule, value) => {
  const step = grain(rule, value);
  return Number((Math.round(value / step) * step).toPrecision(10));
};

// What an edge of a band may be set to: it does not pass the other edge; 0 is open.
function within(rule, value) {
  const edge = (side) => (rule.dataset[side] ? valueOf($(`.rule[data-path="${CSS.escape(rule.dataset[side])}"]`) ?? rule) : 0);
  const held = Math.min(Math.max(value, number(rule, "low")), number(rule, "high"));
  const [lower, upper] = [edge("above"), edge("below")];
  if (held > 0 && upper > 0 && held * number(rule, "apart") > upper) return Math.max(number(rule, "low"), Math.floor(upper / number(rule, "apart")));
  if (held > 0 && lower > 0 && held < lower * number(rule, "apart")) return Math.min(number(rule, "high"), Math.ceil(lower * number(rule, "apart")));
  return held;
}

function move(rule, value, gesture) {
  const held = within(rule, round(rule, value));
  if (held === valueOf(rule)) return;
  show(rule, held);
  rule.dispatchEvent(new CustomEvent("rule", { bubbles: true, detail: { value: held } }));
  set(rule.dataset.path, held, { gesture, began: performance.now() });
}

let drag = null;
document.addEventListener("pointerdown", (event) => {
  const rule = ruleAt(event.target);
  if (!rule || event.button !== 0 || event.target.closest("input")) return;
  if (event.target.closest(".value")) return;
  event.preventDefault();
  rule.focus();
  const box = $("svg", rule).getBoundingClientRect();
  drag = { rule, box, x: event.clientX, share: toFraction(rule, valueOf(rule)), gesture: `${rule.dataset.path}@${Date.now()}`, moved: false, jump: false };
  const onMark = Math.abs((event.clientX - box.left) / box.width - drag.share) < 0.04;
  drag.jump = event.target.closest("svg") && !onMark;
  rule.setPointerCapture(event.pointerId);
});
document.addEventListener("pointermove", (event) => {
  if (!drag) return;
  const by = (event.clientX - drag.x) / drag.box.width;
  if (!drag.moved && Math.abs(event.clientX - drag.x) < 2) return;
  drag.moved = true;
  drag.share = Math.min(Math.max(drag.share + by * (event.shiftKey ? 0.1 : 1), 0), 1);
  drag.x = event.clientX;
  drag.rule = live(drag.rule);
  move(drag.rule, fromFraction(drag.rule, drag.share), drag.gesture);
});
document.addEventListener("pointerup", (event) => {
  if (drag && !drag.moved && drag.jump) move(drag.rule, fromFraction(drag.rule, (event.clientX - drag.box.left) / drag.box.width), drag.gesture);
  drag = null;
});
document.addEventListener("pointercancel", () => (drag = null));
document.addEventListener("dblclick", (event) => {
  const rule = ruleAt(event.target);
  if (rule && !event.target.closest(".value, input")) move(rule, number(rule, "default"), "");
});

let keyGesture = "";
let keyTimer = 0;
document.addEventListener("keydown", (event) => {
  const rule = event.target.closest?.(".rule");
  if (!rule || event.target.closest("input")) return;
  const steps = { ArrowRight: 1, ArrowUp: 1, ArrowLeft: -1, ArrowDown: -1, PageUp: 10, PageDown: -10 }[event.key];
  if (event.key === "Enter") {
    event.preventDefault();
    return type(rule);
  }
  if (event.ctrlKey || event.metaKey || event.altKey) return;
  if (event.key === "Home" || event.key === "End") {
    event.preventDefault();
    return move(rule, number(rule, event.key === "Home" ? "low" : "high"), "");
  }
  if (!steps) return;
  event.preventDefault();
  event.stopPropagation();
  clearTimeout(keyTimer);
  if (!keyGesture.startsWith(`${rule.dataset.path}@`)) keyGesture = `${rule.dataset.path}@${Date.now()}`;
  keyTimer = setTimeout(() => (keyGesture = ""), 900);
  const fine = event.shiftKey ? 0.1 : 1;
  const value = valueOf(rule);
  const next = rule.dataset.scale === "log" && number(rule, "low") > 0 ? fromFraction(rule, toFraction(rule, value) + 0.01 * steps * fine) : value + number(rule, "step") * (rule.dataset.unit === "Hz" ? 1 : rule.dataset.unit === "dB" ? 5 : 1) * steps * fine;
  const least = value + Math.sign(steps) * grain(rule, value); // a press always moves it
  move(rule, round(rule, next) === round(rule, value) ? least : next, keyGesture);
});
document.addEventListener("click", (event) => {
  if (event.target.closest(".rule-box .value")) type(ruleAt(event.target));
});

/** @param {any} rule @param {import("./focus.js").Typing | null} [begun] what was being typed as its part was drawn anew */
function type(rule, begun = null) {
  const field = $(".value", rule.parentElement);
  if (!field) return;
  const input = document.createElement("input");
  input.value = `${$(".number", field).textContent} ${$("small", field).textContent.trim().split(/\s+/)[0]}`.trim().replace("−", "-");
  input.setAttribute("aria-label", `${rule.getAttribute("aria-label")}, in ${rule.dataset.unit || "plain numbers"}`);
  field.replaceWith(input);
  const where = `.rule[data-path="${CSS.escape(rule.dataset.path)}"]`;
  typingIn(input, where, begun);
  const finish = async (keep, back = keep) => {
    if (!input.dataset.typing) return;
    delete input.dataset.typing;
    const text = input.value;
    const still = hand();
    if (keep && text.trim()) {
      const told = await typed(rule.dataset.path, text);
      if (!told && input.isConnected && still()) {
        input.dataset.typing = "1"; // to be put right
        return;
      }
      const free = still();
      input.replaceWith(field);
      for (const one of new Set([rule, ...$$(where)])) show(one, told?.value ?? valueOf(one)); // it may have been drawn anew
      if (free) rule.focus();
    } else {
      input.replaceWith(field);
      show(rule, valueOf(rule)); // it may have moved meanwhile
      if (back) rule.focus();
    }
  };
  input.addEventListener("keydown", (event) => {
    event.stopPropagation();
    if (event.key === "Enter" || event.key === "Tab") finish(true);
    if (event.key === "Escape") finish(false, true);
  });
  input.addEventListener("blur", () => finish(false));
}
document.addEventListener("typing", (event) => {
  const rule = /** @type {Element} */ (event.target).closest(".rule");
  if (rule) type(rule, /** @type {CustomEvent} */ (event).detail);
});

// A change made elsewhere (a pin) moves the rules of the same settings.
on("moved", ({ path, value }) => {
  for (const rule of $$(`.rule[data-path="${CSS.escape(path)}"]`)) show(rule, value);
  for (const spot of $$(`[data-figure="${CSS.escape(path)}"]`)) spot.textContent = shown(value, "dB").join(" ");
});
