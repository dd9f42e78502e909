// Day or night before the first paint.
const light = localStorage.getItem("light");
if (light) document.documentElement.dataset.light = light;
if (localStorage.getItem("eyes") === "off") document.documentElement.dataset.eyes = "off"; // numbers and curves are hidden
