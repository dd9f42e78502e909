// Day or night before the first paint.
const light = localStorage.getItem("light");
if (light) document.documentElement.dataset.light = light;
