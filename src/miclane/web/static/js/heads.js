// The line that goes with the playhead in a picture: told where it is many times a second, moved on by the browser meanwhile.

import { player } from "./player.js";
import { state } from "./state.js";

const OFF_S = 0.06; // so far from where it is told to be it may run, of its own clock
const OFF_PX = 1.5;

/** @type {WeakMap<Element, { motion: Animation, from: number, speed: number, to: number }>} */
const going = new WeakMap();

/**
 * @param {HTMLElement | SVGElement | null | false | undefined} head
 * @param {(frame: number) => number} place  where a frame stands across the picture, in px or its units; evenly
 * @param {[number, number]} seen  from where to where it is seen
 * @param {{ at: number, playing?: boolean, starved?: boolean }} told
 */
export function moveHead(head, place, [low, high], { at, playing, starved }) {
  if (!head) return;
  const x = place(at);
  const now = going.get(head);
  const outside = !(x >= low && x <= high);
  const display = outside ? "none" : "";
  if (head.style.display !== display) head.style.display = display;
  const speed = place(state.rate) - place(0); // the same to the last bit wherever it is
  const to = Math.min(place(player.last), high);
  if (outside || !playing || starved || !(to > x)) {
    going.delete(head);
    now?.motion.cancel();
    const still = `translateX(${x.toFixed(1)}px)`;
    if (head.style.transform !== still) head.style.transform = still;
    return;
  }
  const runs = now && now.from + (now.speed * Number(now.motion.currentTime)) / 1000;
  if (runs !== undefined && now?.speed === speed && now.to === to && Math.abs(runs - x) < Math.max(OFF_PX, speed * OFF_S)) return;
  now?.motion.cancel();
  const motion = head.animate({ transform: [`translateX(${x}px)`, `translateX(${to}px)`] }, { duration: (1000 * (to - x)) / speed, fill: "forwards" });
  going.set(head, { motion, from: x, speed, to });
}
