// The Space screen: the picture that follows the sound, sends, and new returns.

import { change, on, picture, set, state, $ } from "./session.js";
import { listen, measured, player, unhurried } from "./player.js";
import { loopPhrases } from "./strip.js";

let token = 0;
let shown = [0, 1]; // what the picture spans

export function initSpace() {
  if (state.screen !== "space") return;
  if (player.hear === "lane") listen("vocals", state.lane);
  const { phrases } = state.data;
  const covered = phrases.filter((p) => p.start < player.last && p.end > player.first).length;
  if (player.first >= player.last - 1 || (covered < 2 && phrases.length > 2)) {
    const k = Math.min(3, Math.max(0, phrases.length - 3));
    loopPhrases(k, Math.min(k + 2, phrases.length - 1));
  }
  drawPicture();
}

export async function drawPicture() {
  const box = $("#space-picture");
  if (!box) return;
  const mine = ++token;
  const [first, last] = measured(3);
  const answer = await picture(`/s/${state.id}/space/picture?first=${first}&last=${last}&hear=${player.hear}&lane=${state.lane}`, { headers: { "hx-request": "true" } });
  if (!answer || mine !== token || !box.isConnected) return;
  box.innerHTML = await answer.text();
  shown = [first, last];
  head(player.at);
}

export function reloadSpace() {
  const ret = $("#space")?.dataset.return ?? "";
  const focus = document.activeElement?.closest?.("[data-path]")?.dataset.path;
  htmx.ajax("GET", `/s/${state.id}/space/body?return_id=${encodeURIComponent(ret)}`, { target: "#body", swap: "innerHTML" }).then(() => focus && $(`[data-path="${CSS.escape(focus)}"]`)?.focus());
}

function head(at) {
  const line = $("#space-head");
  if (!line) return;
  const x = ((at - shown[0]) / (shown[1] - shown[0])) * 860;
  line.setAttribute("x1", x);
  line.setAttribute("x2", x);
}

document.addEventListener("click", (event) => {
  const at = (s) => event.target.closest(s);
  const phrase = at("#space-svg [data-phrase]");
  if (phrase) {
    const k = Number(phrase.dataset.phrase);
    return loopPhrases(k, Math.min(k + (event.shiftKey ? 2 : 1), state.data.phrases.length - 1));
  }
  const bool = at("[data-bool] button");
  if (bool) return void set(bool.closest("[data-bool]").dataset.bool, bool.dataset.value === "true", { structure: true });
  const send = at("[data-add-send]");
  if (send) return void change([{ op: "insert", path: send.dataset.addSend, index: 99, value: { id: send.dataset.return, level_db: -14 } }], { structure: true });
  if (at("#add-duck")) {
    const { path, index } = at("#add-duck").dataset;
    return void change([{ op: "insert", path, index: Number(index), value: { kind: "duck", key: { lane: state.lane } } }], { structure: true });
  }
  if (at("#add-return")) {
    const id = `r${crypto.randomUUID().slice(0, 8)}`;
    const stages = [{ kind: "reverb", id: `${id}a`, name: "Plate" }, { kind: "duck", id: `${id}b`, key: { lane: state.lane } }];
    change([{ op: "insert", path: "returns", index: 99, value: { id, name: "Plate", bus: "vocals", stages } }], { structure: true }).then((told) => told && location.assign(`/s/${state.id}/space?return_id=${id}`));
  }
  return undefined;
});

on("rendered", unhurried(drawPicture));
on("phrase", unhurried(() => state.screen === "space" && drawPicture()));
on("position", ({ at }) => state.screen === "space" && head(at));
