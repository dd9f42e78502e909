// Sound from the server: a stretch of it, as two channels.

import { ask } from "./line.js";
import { player } from "./player.js";
import { state } from "./state.js";

export function address(what, start, stop, variant, extra = "") {
  if (variant === "without") extra += `&stage=${player.without}`;
  if (variant === "pair" || variant === "music") extra += `&stage=${encodeURIComponent(player.pair)}`;
  if (variant === "bypassed") extra += `&stage=${encodeURIComponent(player.bypassed)}`;
  if (variant === "band") extra += `&stage=${player.band.stage}&band=${player.band.index}`;
  const [side, other] = variant.split(":");
  if (side === "alt") variant = "treated";
  const alternative = side === "alt" ? other : state.alternative;
  if (alternative) extra += `&alternative=${alternative}`;
  const lane = (variant === "band" && player.band.lane) || player.lane;
  return `/s/${state.id}/${what}?lane=${lane}&hear=${player.hear}&variant=${variant}&start=${start}&stop=${stop}${extra}`;
}

const COMPARED = ["untreated", "unducked", "duckfirst", "without", "bypassed"];
/** Whether a side is as loud as what it is compared with: then it comes with what it is turned by. @param {string} variant */
export const matched = (variant) => COMPARED.includes(variant) || (player.equal && (variant.startsWith("alt:") || (variant === "treated" && state.alternative !== "")));

/** @param {number} start @param {number} stop @param {string} variant @param {string} extra @param {AbortSignal} signal @param {number} urgency */
export async function fetchSound(start, stop, variant, extra, signal, urgency) {
  if (!extra && matched(variant)) extra = "&match=true";
  const answer = await ask(address("sound", start, stop, variant, extra), { urgency, signal });
  if (answer.status === 204) return null;
  if (!answer.ok) throw new Error((await answer.json()).error);
  const by = answer.headers.get("x-match");
  const sound = parted(new Float32Array(await answer.arrayBuffer()));
  return { ...sound, version: Number(answer.headers.get("x-version")), match: by === null ? undefined : Number(by) };
}

/** Both channels of a sound whose left stands before its right. @param {Float32Array} rows */
export function parted(rows) {
  const n = rows.length / 2;
  return { left: rows.slice(0, n), right: rows.slice(n) };
}
