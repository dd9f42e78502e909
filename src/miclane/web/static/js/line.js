// The one connection of this window to the server. Wishes and changes go out; answers and news of changes come in.

import { WholeAnswer } from "./answer.js";
import { say } from "./messages.js";

/** @typedef {import("./answer.js").Answer & { body?: Response["body"] }} Answer  `body` of what flows */

/** What a wish is for, the most urgent first. */
export const URGENCY = { change: 0, underPlayhead: 1, behind: 2, rest: 3, figures: 4, pictures: 5, next: 6 };
const FIRST = 1;
const LAST = 2;
const FIRST_REST_MS = 200;
const LONGEST_REST_MS = 3000;
const SAID = [409, 422]; // refusals that are told in words
const LARGEST = (8 << 20) - 1000; // bytes of one message that the server takes
const LOST = "The server does not answer.";

/**
 * @typedef {{ urgency?: number, place?: string, method?: string, body?: any, part?: boolean, inTurn?: boolean, flows?: boolean,
 *   signal?: AbortSignal, first?: (part: Uint8Array) => void }} How  `first`: told of what comes before the last of an answer; `part`: a part of a page; `inTurn`: after what was asked for in turn before; `flows`: bit by bit,
 *   as it is taken; `place`: takes the place of an older wish for the same
 * @typedef {{ number: number, address: string, era: number, how: How, text: string, waiting: [(r: Answer) => void, (e: any) => void][], head: any,
 *   parts: Uint8Array[], held: number, flow: ReadableStreamDefaultController<Uint8Array> | null }} Wish
 */

/** What has been asked for, answered, let go of, and come, since the page was opened; `open` while the line is there. */
export const counts = { asked: 0, answered: 0, dropped: 0, bytes: 0, lost: 0, open: false, /** @type {Record<string, number>} */ by: {} };

/** @type {Map<number, Wish>} */
const wishes = new Map();
const windowName = crypto.randomUUID();
let number = 0;
/** @type {WebSocket | null} */
let socket = null;
let rest = FIRST_REST_MS;
let shown = "";
let known = 0; // the newest version of what is shown
let era = 0; // what was asked for before something changed is no answer for what is asked after it
let begun = false; // whether there has been a line

/** @param {object} message */
const send = (message) => socket?.readyState === WebSocket.OPEN && socket.send(JSON.stringify(message));
const aborted = () => new DOMException("let go", "AbortError");

/**
 * What an address answers, as fetch would; who asks for what is asked for already waits for the same answer, unless something
 * was changed since. Rejects with AbortError once it is let go of, with TypeError where a change is not heard of.
 * @param {string} address @param {How} [how] @returns {Promise<Answer>}
 */
export function ask(address, how = {}) {
  const { urgency = URGENCY.pictures, place = "", method = "GET", body, part = false, inTurn = false, flows = false, signal } = how;
  if (signal?.aborted) return Promise.reject(aborted());
  if (method === "POST" && begun && !counts.open) return Promise.reject(new TypeError(LOST));
  const same = method === "GET" && !flows && [...wishes.values()].find((w) => w.address === address && w.era === era && w.how.signal === signal);
  if (same) return new Promise((resolve, reject) => same.waiting.push([resolve, reject]));
  number += 1;
  if (method === "POST") era += 1;
  const mine = number;
  const accept = part ? "text/html" : "application/json";
  const text = JSON.stringify({ wish: mine, urgency, address, method, body, part, accept, place, in_turn: inTurn, flows, version: known });
  if (text.length > LARGEST / 4 && new Blob([text]).size > LARGEST) {
    return Promise.resolve(new Response(JSON.stringify({ error: "That is more than can be changed at once (8 MiB); nothing was kept." }), { status: 413 }));
  }
  if (place) for (const wish of wishes.values()) if (wish.how.place === place) end(wish, aborted());
  counts.asked += 1;
  const what = address.split("?")[0].split("/").at(-1) ?? "";
  counts.by[what] = (counts.by[what] ?? 0) + 1;
  return new Promise((resolve, reject) => {
    /** @type {Wish} */
    const wish = { number: mine, address, era, how, text, waiting: [[resolve, reject]], head: null, parts: [], held: 0, flow: null };
    wishes.set(mine, wish);
    signal?.addEventListener("abort", () => letGo(wish));
    if (socket?.readyState === WebSocket.OPEN) socket.send(text);
    else open();
  });
}

/** @param {Wish} wish */
function letGo(wish) {
  if (!wishes.has(wish.number)) return;
  send({ drop: wish.number });
  end(wish, aborted());
}

/** @param {Wish} wish @param {any} error */
function end(wish, error) {
  wishes.delete(wish.number);
  counts.dropped += 1;
  if (wish.flow) wish.flow.error(error);
  else for (const [, reject] of wish.waiting) reject(error);
}

/** @param {ArrayBuffer} bytes */
function came(bytes) {
  counts.bytes += bytes.byteLength;
  const view = new DataView(bytes);
  const wish = wishes.get(view.getUint32(0, true));
  if (!wish) return; // let go of meanwhile
  const flags = view.getUint16(4, true);
  const long = view.getUint16(6, true);
  if (flags & FIRST) wish.head = JSON.parse(new TextDecoder().decode(new Uint8Array(bytes, 8, long)));
  const part = new Uint8Array(bytes, 8 + long);
  if (!wish.flow) wish.parts.push(part);
  if (wish.how.flows && wish.head.status === 200) flowed(wish, part);
  else if (!(flags & LAST)) wish.how.first?.(part);
  if (!(flags & LAST)) return;
  wishes.delete(wish.number);
  counts.answered += 1;
  if (wish.how.method === "POST") era += 1;
  const { status } = wish.head;
  if (status >= 400 && !SAID.includes(status)) console.error(`${status} ${wish.address}`);
  if (wish.flow) wish.flow.close();
  else for (const [resolve] of wish.waiting) resolve(new WholeAnswer(status, wish.head.headers, wish.parts));
}

/** @param {Wish} wish @param {Uint8Array} part */
function flowed(wish, part) {
  wish.held += part.byteLength; // also what goes to a reader that waits, which no queue counts
  if (wish.flow) return void wish.flow.enqueue(part);
  const body = new ReadableStream(
    {
      start: (flow) => void ((wish.flow = flow), flow.enqueue(part)),
      pull: () => void (wish.held && send({ more: wish.number, bytes: wish.held }), (wish.held = 0)), // all that came has been taken
      cancel: () => letGo(wish),
    },
    { highWaterMark: 1 },
  );
  wish.waiting[0][0](new Response(body, { status: 200, headers: wish.head.headers }));
}

function open() {
  if (socket) return;
  const mine = new WebSocket(`${location.origin.replace("http", "ws")}/line?window=${windowName}`);
  socket = mine;
  mine.binaryType = "arraybuffer";
  mine.onopen = () => {
    rest = FIRST_REST_MS;
    counts.open = true;
    if (shown) send({ shows: shown });
    for (const wish of wishes.values()) mine.send(wish.text);
    begun = true;
    say("line");
  };
  mine.onmessage = (event) => {
    if (typeof event.data !== "string") return came(event.data);
    era += 1;
    say("news", JSON.parse(event.data));
  };
  mine.onclose = () => {
    socket = null;
    if (counts.open) counts.lost += 1;
    counts.open = false;
    for (const wish of [...wishes.values()]) {
      if (wish.how.method === "POST") end(wish, new TypeError(LOST));
      else if (wish.flow) end(wish, aborted());
      else wish.parts = []; // asked for again
    }
    begun = true;
    setTimeout(open, rest);
    rest = Math.min(2 * rest, LONGEST_REST_MS);
  };
}

/** Which version of what it shows this window knows. @param {number} version */
export const knows = (version) => void (known = version);

/** This window shows a session, and wants to hear of what is changed in it elsewhere. @param {string} session */
export function shows(session) {
  if (!session || session === shown) return;
  shown = session;
  if (counts.open) send({ shows: session });
  else open();
}
