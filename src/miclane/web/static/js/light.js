// What cannot wait for the page: day or night before the first paint, and the first press of a button.
const light = localStorage.getItem("light");
if (light) document.documentElement.dataset.light = light;
if (localStorage.getItem("eyes") === "off") document.documentElement.dataset.eyes = "off"; // numbers and curves are hidden

// A button that is pressed before the scripts are there is pressed once they are.
let early = null;
function hold(event) {
  const button = event.target.closest("button");
  if (!button) return;
  event.preventDefault();
  event.stopImmediatePropagation();
  early = button;
}
window.addEventListener("click", hold, true);
document.addEventListener("DOMContentLoaded", () => {
  setTimeout(() => {
    window.removeEventListener("click", hold, true);
    if (early?.isConnected) early.click();
  });
});
