// Files that are dragged over any screen are taken into the session, or said to be of no use; the browser never gets them.

import { $, toast } from "./dom.js";
import { newestOf } from "./looking.js";
import { changedBy, give } from "./session.js";
import { state } from "./state.js";

const carries = (event) => [...(event.dataTransfer?.types ?? [])].includes("Files");
for (const name of ["dragenter", "dragover"]) {
  window.addEventListener(name, (event) => {
    if (carries(event)) event.preventDefault();
  });
}

window.addEventListener("drop", async (event) => {
  if (!carries(event)) return;
  event.preventDefault();
  if ($("#drop")) return; // this screen takes them itself
  const files = [...(event.dataTransfer?.files ?? [])];
  if (!state.id) return void toast("There is no session here to take files into: drop them on the shelf.");
  const taken = [];
  const refused = [];
  for (const file of files) {
    toast(`Reading ${file.name} …`);
    const told = await give(`/s/${state.id}/import`, file, (words) => refused.push(words));
    if (told) taken.push(told);
  }
  if (taken.length) changedBy(await newestOf(state.id), { data: true });
  const came = taken.map((t) => `${t.name} (${t.role})`).join(", ");
  toast([came && `On a lane of its own: ${came}. Undo takes it back.`, ...refused.map((r) => `Refused. ${r}`)].filter(Boolean).join(" "));
});

