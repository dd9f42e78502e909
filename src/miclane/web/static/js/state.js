// What this window shows, and of which version.

/** @type {any} */
export const state = { id: "", version: 0, lane: "", screen: "", rate: 48000, frames: 0, data: null, together: [], where: "", alternative: "" };

/** What shows settings shows them as they are where the bench sets them. */
const SETTINGS = /^\/s\/[^/]+\/(lane|space|readings|paste|copy)\b/;
/** @param {string} address */
export function seenAt(address) {
  const more = [];
  if (state.where && SETTINGS.test(address)) more.push(`where=${encodeURIComponent(state.where)}`);
  if (state.alternative && SEEN.test(address)) more.push(`alternative=${state.alternative}`);
  return more.length ? `${address}${address.includes("?") ? "&" : "?"}${more.join("&")}` : address;
}
/** What is heard, shown or measured is so of the alternative that is chosen. */
const SEEN = /^\/s\/[^/]+\/(lane|space|readings|strip|levels|fit|map|passes|paste|copy)\b/;
