// What the strip shows of the song, and where on it a frame lies.

/** @type {any} */
export const view = { first: 0, last: 1, strip: null, canvas: null, rows: null, names: [], token: 0, loopIds: [] };
export const color = (name) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();
export const TOP = 24;
/** Height of the waveform, less where the strip stands over another picture. */
export const wave = () => (slim() ? 40 : 68);
export const slim = () => view.strip?.classList.contains("slim") ?? false;

export const x = (frame) => ((frame - view.first) / (view.last - view.first)) * view.strip.clientWidth;
export const frameAt = (px) => view.first + (px / view.strip.clientWidth) * (view.last - view.first);

export function row(name) {
  const k = view.rows?.names.indexOf(name) ?? -1;
  return k < 0 ? null : view.rows.flat.subarray(k * view.rows.n, (k + 1) * view.rows.n);
}
