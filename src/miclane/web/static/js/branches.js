// The return that several lanes share.

import { change, go } from "./session.js";
import { state } from "./state.js";

const short = () => crypto.randomUUID().slice(0, 8);
document.addEventListener("click", (event) => {
  const share = event.target.closest("#share-branch");
  if (!share) return;
  const id = `shared${short()}`;
  const before = [...document.querySelectorAll(".side .space .who")].filter((who) => who.textContent.startsWith("Shared crush")).length;
  const value = { id, name: before ? `Shared crush ${before + 1}` : "Shared crush", bus: "vocals", stages: JSON.parse(share.dataset.stages) };
  const edits = [
    { op: "insert", path: "returns", index: 99, value },
    { op: "insert", path: `lanes/${state.lane}/sends`, index: 99, value: { id, level_db: -20 } },
  ];
  change(edits).then((told) => { // nothing is drawn anew here: the screen of the return comes
    if (!told) return;
    go(`/s/${state.id}/lane/return:${id}?stage=take`);
  });
});
