// The Shelf: new sessions, and files dropped or chosen, sent one after another with their progress.

import { $ } from "./dom.js";
import { hand } from "./focus.js";
import { post } from "./session.js";

document.addEventListener("submit", async (event) => {
  if (event.target.id !== "new-session") return;
  event.preventDefault();
  const f = event.target.elements;
  const told = await post("/sessions", { name: f.name.value.trim(), tempo_bpm: Number(f.tempo_bpm.value), key: f.key.value.trim(), rate: Number(f.rate.value) });
  if (!told) return;
  if (!waiting.length) return location.assign(told.address);
  $("#drop").dataset.session = told.id;
  $("#new-session").inert = true;
  $("#files-wait").textContent = "The session is made; its files come in below.";
  const files = waiting;
  waiting = [];
  take(files);
});

// Files for a session that is still to be made: what it is called, its rate, tempo and key are asked for first.
/** @type {File[]} */
let waiting = [];
function ask(files) {
  waiting.push(...files);
  const form = $("#new-session");
  const name = form.elements.name;
  name.value ||= (waiting[0].name.replace(/\.[^.]+$/, "").replace(/[_-]+/g, " ").trim() || "New session").slice(0, 200);
  $("#files-wait").hidden = false;
  $("#files-wait").textContent = waiting.length > 1 ? `${waiting.length} files come into it.` : `${waiting[0].name} comes into it.`;
  form.scrollIntoView({ block: "center" });
  name.focus();
  name.select();
}

function row(file) {
  const table = $("#imports");
  table.hidden = false;
  const tr = document.createElement("tr");
  const [name, progress, result] = [0, 1, 2].map(() => document.createElement("td"));
  name.textContent = file.name;
  const bar = document.createElement("progress");
  bar.max = 100;
  bar.value = 0;
  bar.setAttribute("aria-label", `Sending ${file.name}`);
  progress.append(bar);
  result.textContent = "waiting";
  result.setAttribute("role", "status");
  tr.append(name, progress, result);
  $("tbody", table).append(tr);
  return { bar, result };
}

function answered(text) {
  try {
    return JSON.parse(text || "{}");
  } catch {
    return {};
  }
}

/** A file sent with its progress; what came of it is `told`. */
function give(address, file, { bar, result }, told, short = false) {
  return new Promise((done) => {
    const form = new FormData();
    if (short) form.append("short", "true");
    form.append("file", file, file.name);
    const call = new XMLHttpRequest();
    call.open("POST", address);
    call.setRequestHeader("accept", "application/json");
    call.upload.onprogress = (e) => {
      bar.value = (90 * e.loaded) / Math.max(e.total, 1);
      result.textContent = e.loaded === e.total ? "reading it" : "sending";
    };
    call.onerror = () => {
      result.textContent = "The server does not answer.";
      done(false);
    };
    call.onload = () => {
      bar.value = 100;
      told(call.status, answered(call.responseText));
      done(call.status === 201);
    };
    call.send(form);
  });
}
const refusal = (status, told) => `Refused. ${told.error ?? `The server answered ${status}.`} `;
function opens(address, name) {
  const link = document.createElement("a");
  link.href = address;
  link.className = "font-semibold underline";
  link.textContent = name;
  return link;
}

function send(session, file, row, short = false) {
  const { result } = row;
  return give(`/s/${session}/import`, file, row, (status, told) => {
    if (status === 201) return void result.replaceChildren(opens(`/s/${session}/lane/${told.lane}`, told.name), `, ${told.role}, ${told.seconds.toFixed(1)} s`);
    result.textContent = refusal(status, told);
    if (told.short) result.append(takeWhatIsThere(session, file, row));
    return undefined;
  }, short);
}

/** An archive, opened as the session it is; what of it is missing is said. */
function open(file, row) {
  return give("/sessions/archive", file, row, (status, told) => {
    if (status !== 201) return void (row.result.textContent = refusal(status, told));
    row.result.replaceChildren(opens(told.address, told.name), told.missing.length ? " is there, but not all of it. Missing or damaged:" : " is there, whole.");
    if (!told.missing.length) return undefined;
    const list = document.createElement("ul");
    for (const line of told.missing) list.append(Object.assign(document.createElement("li"), { textContent: line }));
    row.result.append(list);
    return undefined;
  });
}

// a file that is cut short, taken as it is when that is asked for
function takeWhatIsThere(session, file, row) {
  const button = document.createElement("button");
  button.className = "btn small";
  button.textContent = "Take what is there";
  button.addEventListener("click", () => send(session, file, row, true));
  return button;
}

const isArchive = (file) => /\.zip$/i.test(file.name);
async function take(files) {
  if (!files.length) return;
  const archives = [...files].filter(isArchive);
  for (const archive of archives) await open(archive, row(archive));
  if (archives.length) await cards();
  const list = [...files].filter((file) => !isArchive(file));
  if (!list.length) return;
  if (!$("#drop").dataset.session) return ask(list);
  const rows = list.map(row);
  const { session } = $("#drop").dataset;
  let taken = 0;
  for (let i = 0; i < list.length; i++) taken += (await send(session, list[i], rows[i])) ? 1 : 0;
  const all = taken === list.length;
  if (!$("#opens")) {
    const p = document.createElement("p");
    p.id = "opens";
    p.className = "mt-3";
    $("#imports").after(p);
  }
  const link = document.createElement("a");
  link.className = "btn strong";
  link.href = `/s/${session}`;
  link.textContent = "Open the session";
  $("#opens").replaceChildren(taken ? link : "", all ? "" : ` ${list.length - taken} of ${list.length} files were refused; the others are there.`);
}

// Something done to a session: the cards are drawn again, and what can be done with it next has the focus.
async function doTo(what) {
  const [id, act] = what.split("/");
  const still = hand();
  if (!(await post(`/sessions/${what}`))) return;
  await cards();
  if (still()) $(`[data-session-do="${CSS.escape(id)}/${act === "delete" ? "restore" : "copy"}"]`)?.focus();
}
async function cards() {
  const answer = await fetch("/", { headers: { accept: "text/html" } }).catch(() => null);
  if (!answer?.ok) return location.reload();
  const fresh = new DOMParser().parseFromString(await answer.text(), "text/html");
  for (const part of ["#count", "#cards", "#binned"]) $(part).innerHTML = fresh.querySelector(part).innerHTML;
}

document.addEventListener("dragover", (event) => {
  const drop = $("#drop");
  if (!drop || !event.dataTransfer?.types.includes("Files")) return; // an archive of this shelf is here already
  event.preventDefault();
  drop.classList.add("over");
});
document.addEventListener("dragleave", (event) => event.relatedTarget === null && $("#drop")?.classList.remove("over"));
document.addEventListener("drop", (event) => {
  if (!$("#drop")) return;
  event.preventDefault();
  $("#drop").classList.remove("over");
  take(event.dataTransfer.files);
});
document.addEventListener("click", (event) => {
  if (event.target.closest("[data-choose]")) $("#files").click();
  const act = event.target.closest("[data-session-do]");
  if (act) doTo(act.dataset.sessionDo);
});
document.addEventListener("change", (event) => {
  if (event.target.id === "files") take(event.target.files);
});
document.addEventListener("dragstart", (event) => {
  const link = event.target.closest?.("[data-archive]");
  if (link) event.dataTransfer.setData("DownloadURL", `application/zip:${link.dataset.archive.replace(/[:/\\]/g, "_")}.miclane.zip:${link.href}`);
});
