// A small list of things to do at a place in the page: arrows go along it, Escape leaves it, and the focus comes back.

import { $, $$ } from "./dom.js";

/**
 * @typedef {{ words: string, note?: string, keys?: string, act: () => void }} Item
 * @param {Item[]} items @param {{ x: number, y: number, label: string, back?: any }} where  `back` has the focus afterwards
 */
export function openMenu(items, { x, y, label, back }) {
  const menu = document.createElement("div");
  menu.className = "menu";
  menu.setAttribute("role", "menu");
  menu.setAttribute("aria-label", label);
  const leave = () => {
    closeMenu();
    (back?.isConnected ? back : $("#route .station[aria-current]"))?.focus();
  };
  for (const { words, note, keys, act } of items) {
    const item = document.createElement("button");
    item.setAttribute("role", "menuitem");
    for (const [tag, text, look] of [["span", words, ""], ["span", note, "dim"], ["kbd", keys, ""]]) {
      if (!text) continue;
      const part = document.createElement(tag);
      part.textContent = text;
      part.className = look;
      item.append(part);
    }
    item.addEventListener("click", () => {
      leave();
      act();
    });
    menu.append(item);
  }
  $("#layer").replaceChildren(menu);
  menu.style.left = `${Math.min(x, innerWidth - menu.offsetWidth - 10)}px`;
  menu.style.top = `${Math.min(y, innerHeight - menu.offsetHeight - 10)}px`;
  $("button", menu).focus();
  menu.addEventListener("keydown", (event) => {
    event.stopPropagation();
    const all = $$("button", menu);
    const by = { ArrowDown: 1, ArrowUp: -1 }[event.key];
    if (by) all[(all.indexOf(document.activeElement) + by + all.length) % all.length].focus();
    else if (event.key === "Escape") leave();
    else return;
    event.preventDefault();
  });
}

export function closeMenu() {
  $("#layer").replaceChildren();
  $(".stretch")?.remove();
}
document.addEventListener("pointerdown", (event) => {
  if (!(/** @type {Element} */ (event.target).closest(".menu"))) closeMenu();
});
