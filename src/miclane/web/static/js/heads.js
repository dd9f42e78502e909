// The line that goes with the playhead in a picture. It is told where it is many times a second: what stands, stays.

/** @param {SVGLineElement | null} line @param {number} x */
export function placeHead(line, x) {
  const at = x.toFixed(1);
  if (!line || line.getAttribute("x1") === at) return;
  line.setAttribute("x1", at);
  line.setAttribute("x2", at);
}
