// Parts of the page, and what is said on it.

/** @param {string} selector @param {any} [root] @returns {any} */
export const $ = (selector, root = document) => root.querySelector(selector);
/** @param {string} selector @param {any} [root] @returns {any[]} */
export const $$ = (selector, root = document) => [...root.querySelectorAll(selector)];

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

const SURE_MS = 5000;
/**
 * What cannot be taken back is asked for twice: the button says what comes, and a second press does it.
 * @param {HTMLButtonElement} button @param {string} words @returns {Promise<boolean>}
 */
export function sure(button, words) {
  if (button.dataset.sure) return Promise.resolve(true);
  const before = button.textContent ?? "";
  const called = button.getAttribute("aria-label");
  button.dataset.sure = "1";
  button.textContent = words;
  if (called) button.setAttribute("aria-label", `${words} ${called}`);
  button.classList.add("strong");
  setTimeout(() => {
    delete button.dataset.sure;
    button.textContent = before;
    if (called) button.setAttribute("aria-label", called);
    button.classList.remove("strong");
  }, SURE_MS);
  return Promise.resolve(false);
}
