// What is only looked at: asked for once a version, and let go of when the session changes.

import { ask, URGENCY } from "./line.js";
import { seenAt, state } from "./state.js";

// Whatever is only looked at: the answer, or null where there is none. A change of the session lets it go, for what it
// would show is old by then, and a browser keeps no more than six requests to a server under way.
let looking = new AbortController();
/** What puts in, takes out or takes back is under way: until that is told, nobody knows what there is to be looked at. */
let rebuilt = Promise.resolve();
/** @param {Promise<any>} told */
export const rebuilding = (told) => (rebuilt = Promise.allSettled([rebuilt, told]).then(() => {}));
/** @param {string} address @param {import("./line.js").How} [how] */
export async function picture(address, how = {}) {
  const { signal } = looking;
  for (let seen; seen !== rebuilt; ) await (seen = rebuilt);
  if (signal.aborted) return null;
  address = seenAt(address); // as what is seen by now
  const { version } = state;
  if (seen.version !== version) seen = { version, answers: new Map() };
  const before = seen.answers.get(address);
  if (before) return before.clone();
  try {
    const answer = await ask(address, { place: placeOf(address), ...how, signal });
    if (!answer.ok || answer.status === 204) return null;
    if (version === state.version && seen.answers.size < MOST_SEEN) seen.answers.set(address, answer.clone());
    return answer;
  } catch {
    return null;
  }
}
const MOST_SEEN = 60;
/** @type {{ version: number, answers: Map<string, import("./line.js").Answer> }} what has been looked at of this version already */
let seen = { version: -1, answers: new Map() };

// Where it is drawn: the same of another stretch takes its place.
function placeOf(address) {
  const { pathname, searchParams } = new URL(address, location.origin);
  for (const stretch of ["first", "last", "start", "stop"]) searchParams.delete(stretch);
  return `${pathname}?${searchParams}`;
}

/** Nothing of what is shown is asked for any more, for it is gone. */
export const lookNoMore = () => looking.abort();

export function letGo() {
  looking.abort();
  looking = new AbortController();
}

/** @type {{ key: string, page: Promise<Document | null> }} */
let newest = { key: "", page: Promise.resolve(null) };
/** The page of this address as the server has it now, asked for once a version whoever wants a part of it. */
export function freshPage() {
  const key = `${location.pathname}${location.search} ${state.version}`;
  if (newest.key !== key) {
    const text = fetch(location.pathname + location.search, { headers: { accept: "text/html" } }).then((answer) => (answer.ok ? answer.text() : ""));
    newest = { key, page: text.then((t) => (t ? new DOMParser().parseFromString(t, "text/html") : null)).catch(() => null) };
  }
  return newest.page;
}

/** What the server has of a session now. @param {string} session */
export const newestOf = async (session) => (await ask(`/s/${session}/version`, { urgency: URGENCY.behind })).json();
