// What this window knows of the session, and the only way it changes it.

import { $, toast } from "./dom.js";
import { ask as askLine, knows } from "./line.js";
import { letGo, lookNoMore, newestOf, rebuilding } from "./looking.js";
import { on, say } from "./messages.js";
import { EditQueue } from "./queue.js";
import { seenAt, state } from "./state.js";

const IN_TURN = /\/(edits|typed|undo|redo)$/; // each after those before

// What the server answers to a request: its status and what it tells; status 0 where it does not answer.
async function ask(address, body, first = undefined) {
  try {
    const inTurn = IN_TURN.test(address);
    const answer = await askLine(address, { method: "POST", body: body ?? {}, inTurn, first });
    const bytes = answer.headers.get("content-type") === "application/octet-stream";
    const told = await (bytes ? answer.arrayBuffer().then(lastOf) : answer.json()).catch(() => ({ error: `The server answered ${answer.status}.` }));
    return { status: told.refused ?? answer.status, told };
  } catch {
    return { status: 0, told: { error: "The server does not answer. Nothing was lost; try again when it runs." } };
  }
}

const ok = (status) => status >= 200 && status < 300;

/** Resolves once all that was set is kept. */
export const settled = () => queue.idle();

/** How much of what was set is not kept yet. */
export const unkept = () => queue.size;

/** What the server was asked to do is under way: what is set meanwhile comes after it, and is made against what it made. */
let posting = Promise.resolve();
let posted = { id: "", version: 0 }; // the newest that came of it

const made = (id) => (posted.id === id ? posted.version : 0);

// Something the server is asked to do, once all edits before it are kept; what it tells, or null with its reason shown.
export async function post(address, body) {
  await queue.idle();
  const asked = ask(seenAt(address), body);
  const { id } = state;
  const learned = asked.then((answer) => {
    const version = (address.startsWith(`/s/${id}/`) && answer.told?.version) || 0;
    if (version > made(id)) posted = { id, version };
  });
  posting = Promise.allSettled([posting, learned]).then(() => {});
  const { status, told } = await asked;
  if (ok(status)) return told;
  toast(told.error);
  if (status === 409) catchUp(told);
  return null;
}

/**
 * A file given to the server: what it tells, or null with its reason shown.
 * @param {string} address @param {File} file @param {(words: string) => void} [refused]
 */
export async function give(address, file, refused = toast) {
  const form = new FormData();
  form.append("file", file, file.name);
  const answer = await fetch(address, { method: "POST", body: form, headers: { accept: "application/json" } }).catch(() => null);
  const told = await answer?.json().catch(() => null);
  if (answer?.ok) return told;
  refused(told?.error ?? `${file.name}: the server does not answer.`);
  return null;
}

// A part of an answer: the length of the JSON, the JSON, and sound, its left before its right; where it ends.
function partOf(bytes, at) {
  const length = new DataView(bytes).getUint32(at, true);
  const told = JSON.parse(new TextDecoder().decode(new Uint8Array(bytes, at + 4, length)));
  const flat = new Float32Array(bytes, at + 4 + length, told.bytes / 4);
  return { part: { ...told, flat }, end: at + 4 + length + told.bytes };
}

function lastOf(bytes) {
  const { part, end } = partOf(bytes, 0);
  return end < bytes.byteLength ? partOf(bytes, end).part : part;
}

function learn(told) {
  state.version = told.version;
  knows(told.version);
  state.steps = told.steps;
  if (told.alternative_ids) say("alternatives", { ids: told.alternative_ids });
  if (told.alternative_ids && state.alternative && !told.alternative_ids.includes(state.alternative)) {
    state.alternative = "";
    say("alternative-gone");
  }
  waiting(queue.size, queue.unheard);
  const undo = $("#undo");
  const had = document.activeElement;
  if (undo) {
    undo.disabled = !told.undo_label;
    undo.title = told.undo_label;
    $("#redo").disabled = !told.ahead;
    $("#redo").title = told.redo_label;
    if (had === undo && undo.disabled) ($("#redo").disabled ? $("#page") : $("#redo")).focus();
    if (had === $("#redo") && $("#redo").disabled) (undo.disabled ? $("#page") : undo).focus();
  }
}

/** Lanes that are changed together, wherever that is said. */
const together = () => ($("#together")?.hidden === false ? state.together : []);

/** @type {(() => void)[]} */
const resting = [];
const rest = (ms) => new Promise((done) => (resting.push(() => done(undefined)), setTimeout(done, ms)));
const queue = new EditQueue(send, { kept, refused, waiting }, rest);
on("line", () => {
  for (const go of resting.splice(0)) go();
  look();
});

// Edits, in the order in which they are made; what the server told of them, or null where it refused them.
export function change(edits, options = {}) {
  letGo();
  say("changing");
  const told = queue.push({ edits, where: state.where, alternative: state.alternative, ...options });
  if (options.structure) rebuilding(told);
  return told;
}

/** @param {import("./queue.js").Job} job @returns {Promise<import("./queue.js").Answer>} */
async function send(job) {
  for (let under; under !== posting; ) await (under = posting);
  const listening = job.edits.length ? (state.listening?.() ?? null) : null;
  const body = { edits: job.edits, base: Math.max(state.version, made(state.id)), gesture: job.gesture, token: job.token, also: together(), where: job.where, alternative: job.alternative, listening };
  const soundOf = (flat) => ({ from: listening.start, flat, hear: `${listening.hear} ${listening.lane}` });
  const { status, told } = await ask(`/s/${state.id}/edits`, body, (bytes) => {
    const { part } = partOf(bytes.buffer, bytes.byteOffset); // heard while it is written to the disk
    if (listening && part.flat.length) say("ahead", { ...part, began: job.began, token: job.token, sound: soundOf(part.flat) });
  });
  if (ok(status)) {
    if (told.flat?.length) told.sound = soundOf(told.flat);
    return { state: "kept", told };
  }
  return { state: status === 0 || status >= 500 ? "unheard" : "refused", told: { ...told, status } };
}

let drawnBefore = false; // what was set has not been kept yet, but the page has been drawn as the server had it
function kept(job, told) {
  const elsewhere = told.version > state.version + 1 || drawnBefore; // something has been changed meanwhile, and drawn without this
  if (!queue.size) drawnBefore = false;
  learn(told);
  if (job.structure || elsewhere) letGo();
  for (const { path, value } of told.followed ?? []) say("moved", { path, value });
  const { structure, data, select, began, edits, gesture } = job;
  say("changed", { ...told, structure: structure || elsewhere, data: data || elsewhere, select, began, edits, gesture, token: job.token, jumped: elsewhere });
}

function refused(job, told) {
  toast(told.error);
  say("refused");
  if (told.status === 409) catchUp(told);
  else drawAgain(); // what is drawn is not what is kept
}

const drawAgain = () => say("changed", { version: state.version, structure: true, jumped: true, began: performance.now(), edits: [], curves: {} });

function waiting(count, unheard) {
  const saved = $("#saved");
  document.body.dataset.waiting = count;
  if (!saved) return;
  saved.classList.toggle("warn", unheard);
  if (unheard) saved.textContent = `not saved: the server does not answer; ${count} ${count > 1 ? "changes wait" : "change waits"}`;
  else if (!count && state.steps !== undefined) saved.textContent = `saved, step ${state.steps}`;
  if (!count) hear();
}

addEventListener("beforeunload", (event) => {
  if (queue.size) event.preventDefault();
});

// The newest state, as a refusal brings it or as it is seen elsewhere, takes the place of what is shown.
function catchUp(told, elsewhere = false) {
  if (gone(told)) return;
  letGo();
  drawnBefore = queue.size > 0;
  learn(told);
  say("changed", { ...told, structure: true, began: performance.now(), edits: [], jumped: true, elsewhere });
}

export const set = (path, value, options) => change([{ op: "set", path, value }], options);

export async function typed(path, text) {
  const began = performance.now();
  const told = await post(`/s/${state.id}/typed`, { path, text, base: state.version, also: together(), where: state.where, alternative: state.alternative });
  if (told) {
    drawnBefore = queue.size > 0;
    learn(told);
    say("changed", { ...told, structure: false, began, edits: [] });
  }
  return told;
}

// What the server changed of itself when asked to.
export function changedBy(told, { data = false, select = null } = {}) {
  drawnBefore = queue.size > 0;
  learn(told);
  say("changed", { ...told, structure: true, data, select, began: performance.now(), edits: [] });
}

// Where what is looked at has been taken away, by undo or in another window, the first lane is shown.
function gone(told) {
  const shown = state.screen === "lane" ? state.lane : state.screen === "space" && $("#space") ? `return:${$("#space").dataset.return}` : "";
  if (!shown || !told.paths || told.paths.includes(shown)) return false;
  lookNoMore();
  learn(told);
  if (state.screen === "space") go(`/s/${state.id}/space`);
  else go(told.paths[0] ? `/s/${state.id}/lane/${told.paths[0]}` : `/s/${state.id}`);
  return true;
}

/** Another screen of this session in this window; what plays plays on. @param {string} address */
export function go(address) {
  const link = document.createElement("a");
  link.href = address;
  link.hidden = true;
  for (const name of ["hx-boost", "hx-target", "hx-select", "hx-select-oob", "hx-swap"]) link.setAttribute(name, $(".top nav").getAttribute(name));
  $("#going").replaceChildren(link); // it stays until the next, for what comes is asked of it where to go
  htmx.process(link);
  link.click();
}

/** What puts in or takes away: nothing is looked at meanwhile, and all is drawn again where it is refused. @param {string} address */
export async function rebuild(address) {
  letGo();
  const asked = post(address);
  rebuilding(asked);
  const told = await asked;
  if (!told) drawAgain();
  return told;
}

export async function history(way) {
  const told = await rebuild(`/s/${state.id}/${way}`);
  if (told) catchUp(told);
}

// What is changed elsewhere is told on the line; it is looked at once nothing of one's own is on its way.
let newestTold = 0;
on("news", ({ changed, version = 0 }) => {
  if (changed !== state.id) return;
  newestTold = Math.max(newestTold, version);
  hear();
});
function hear() {
  if (newestTold > state.version && !queue.size) look();
}
document.addEventListener("visibilitychange", hear);

export async function look() {
  if (!state.id || queue.size || document.hidden) return;
  const { id } = state;
  const newest = await newestOf(id).catch(() => null); // the line tells when it is there again
  if (newest?.version > state.version && !queue.size && id === state.id) catchUp(newest, true);
}
