// What is played behind the first piece after a change, a piece at a time, until the whole loop is there.

import { fetchSound } from "./fetching.js";
import { URGENCY } from "./line.js";
import { give, orderNow, player } from "./player.js";
import { state } from "./state.js";

const PIECE_S = 1; // a hand that moves on would only throw more away
const AHEAD_S = 0.5; // the next is asked for so long before what is there ends
const LATE_S = 0.25;

/** From frame `from` on, until `there` says that all of the loop has come. @param {number} from @param {number} generation @param {AbortSignal} signal @param {{ whole: boolean }} there */
export async function behind(from, generation, signal, there) {
  const { first, last } = player;
  const wanted = () => generation === orderNow() && !there.whole && player.playing;
  let rest = last - first;
  let at = from;
  while (wanted() && rest > 0) {
    if (at >= last) {
      if (!player.looping) return;
      at = first;
    }
    const to = Math.min(at + Math.round(PIECE_S * state.rate), last);
    const sound = await fetchSound(at, to, "treated", `&first=${first}&last=${last}`, signal, URGENCY.behind).catch(() => null);
    if (!sound) return;
    if (!there.whole) give("treated", at, sound, generation);
    rest -= to - at;
    at = await near(to, last - first, wanted);
  }
}

// Wait until the playhead is near a frame; where to go on: there, or at the playhead where that has passed it meanwhile.
/** @param {number} at @param {number} length @param {() => boolean} wanted */
async function near(at, length, wanted) {
  while (wanted()) {
    const ahead_s = ((((at - player.at) % length) + length) % length) / state.rate;
    if (ahead_s > length / state.rate - LATE_S) return player.at;
    if (ahead_s <= AHEAD_S) return at;
    await new Promise((resolve) => setTimeout(resolve, Math.min(1000 * (ahead_s - AHEAD_S), 500)));
  }
  return at;
}
