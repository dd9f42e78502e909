// What this window knows of the session, and the only way it changes it.

export const state = { id: "", version: 0, lane: "", screen: "", rate: 48000, frames: 0, data: null };
export const client = crypto.randomUUID();
export const bus = new EventTarget();
export const $ = (selector, root = document) => root.querySelector(selector);
export const $$ = (selector, root = document) => [...root.querySelectorAll(selector)];

export function say(name, detail = {}) {
  bus.dispatchEvent(new CustomEvent(name, { detail }));
}

export function on(name, listener) {
  bus.addEventListener(name, (event) => listener(event.detail));
}

let toastTimer = 0;
export function toast(words) {
  let box = $(".toast");
  if (!box) {
    box = document.createElement("div");
    box.className = "toast";
    box.setAttribute("role", "status");
    document.body.append(box);
  }
  box.textContent = words;
  clearTimeout(toastTimer);
  toastTimer = setTimeout(() => box.remove(), 6000);
}

export async function post(address, body) {
  let answer;
  try {
    answer = await fetch(address, {
      method: "POST", headers: { "content-type": "application/json", accept: "application/json" }, body: JSON.stringify(body ?? {}),
    });
  } catch {
    toast("The server does not answer. Nothing was lost; try again when it runs.");
    return null;
  }
  const told = await (answer.headers.get("content-type") === "application/octet-stream" ? withSound(answer) : answer.json())
    .catch(() => ({ error: `The server answered ${answer.status}.` }));
  if (answer.ok) return told;
  toast(told.error);
  if (answer.status === 409) say("stale");
  return null;
}

// Whatever is only looked at: the answer, or null where there is none. A change of the session lets it go, for what it
// would show is old by then, and a browser keeps no more than six requests to a server under way.
let looking = new AbortController();
export async function picture(address, options = {}) {
  try {
    const answer = await fetch(address, { ...options, signal: looking.signal });
    return answer.ok && answer.status !== 204 ? new Response(await answer.arrayBuffer(), { headers: answer.headers }) : null;
  } catch {
    return null;
  }
}

function letGo() {
  looking.abort();
  looking = new AbortController();
}

// The length of the JSON, the JSON, and sound as interleaved floats.
async function withSound(answer) {
  const bytes = await answer.arrayBuffer();
  const length = new DataView(bytes).getUint32(0, true);
  const told = JSON.parse(new TextDecoder().decode(new Uint8Array(bytes, 4, length)));
  return { ...told, flat: new Float32Array(bytes, 4 + length) };
}

function learn(told) {
  state.version = told.version;
  const saved = $("#saved");
  if (saved) saved.textContent = `saved, step ${told.steps}`;
  const undo = $("#undo");
  if (undo) {
    undo.disabled = !told.undo_label;
    undo.title = told.undo_label;
    $("#redo").disabled = !told.ahead;
    $("#redo").title = told.redo_label;
  }
}

// One edit is under way at a time; of a drag only the newest waits.
let running = null;
let waiting = null;

export function change(edits, { gesture = "", structure = false, data = false, select = null, began = performance.now() } = {}) {
  const job = { edits, gesture, structure, data, select, began };
  if (running) {
    if (waiting && waiting.gesture === gesture && gesture) {
      waiting.edits = waiting.edits.every((e) => e.op === "set") && (structure || !waiting.structure) ? edits : [...waiting.edits, ...edits];
      waiting.structure ||= structure;
      waiting.data ||= data;
      waiting.select = select ?? waiting.select;
      return waiting.promise;
    }
    if (waiting) {
      const before = waiting.promise;
      return before.then(() => change(edits, { gesture, structure, data, select, began }));
    }
    job.promise = new Promise((done) => (job.done = done));
    waiting = job;
    return job.promise;
  }
  return run(job);
}

async function run(job) {
  running = job;
  letGo();
  say("changing");
  const listening = state.listening?.() ?? null;
  const told = await post(`/s/${state.id}/edits`, { edits: job.edits, base: state.version, gesture: job.gesture, listening });
  running = null;
  if (told) {
    if (told.flat?.length) told.sound = { from: listening.start, flat: told.flat, hear: `${listening.hear} ${listening.lane}` };
    learn(told);
    say("changed", { ...told, structure: job.structure, data: job.data, select: job.select, began: job.began, edits: job.edits, gesture: job.gesture });
  } else say("refused");
  job.done?.(told);
  if (waiting) {
    const next = waiting;
    waiting = null;
    run(next);
  }
  return told;
}

export const set = (path, value, options) => change([{ op: "set", path, value }], options);

export async function typed(path, text) {
  const began = performance.now();
  const told = await post(`/s/${state.id}/typed`, { path, text, base: state.version });
  if (told) {
    learn(told);
    say("changed", { ...told, structure: false, began, edits: [] });
  }
  return told;
}

// What the server changed of itself when asked to.
export function changedBy(told, { data = false } = {}) {
  learn(told);
  say("changed", { ...told, structure: true, data, began: performance.now(), edits: [] });
}

// Where what is looked at has been taken away, by undo or in another window, the first lane is shown.
function gone(told) {
  if (state.screen !== "lane" || !told.paths || told.paths.includes(state.lane)) return false;
  letGo();
  looking.abort(); // nothing of it is asked for any more
  location.assign(told.paths[0] ? `/s/${state.id}/lane/${told.paths[0]}` : `/s/${state.id}`);
  return true;
}

export async function history(way) {
  letGo();
  const told = await post(`/s/${state.id}/${way}`);
  if (told && !gone(told)) {
    learn(told);
    say("changed", { ...told, structure: true, began: performance.now(), edits: [], jumped: true });
  }
}

export async function look() {
  if (!state.id || running || waiting || document.hidden) return;
  try {
    const told = await (await fetch(`/s/${state.id}/version`, { headers: { accept: "application/json" } })).json();
    if (told.version > state.version && !running && !waiting && !gone(told)) {
      learn(told);
      say("changed", { ...told, structure: true, began: performance.now(), edits: [], jumped: true });
    }
  } catch {
    /* the next look may succeed */
  }
}
