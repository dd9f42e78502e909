// The way to the loudspeaker. It takes a tenth of a second to make.

import { state } from "./state.js";

/** @type {Promise<AudioContext> | null} */
let way = null;

/** The one there is, or is being made; one that could not be made (the server was gone) is made anew when it is next asked for. */
export function loudspeaker() {
  way ??= made();
  return way;
}

async function made() {
  const context = new AudioContext({ sampleRate: state.rate, latencyHint: "interactive" });
  try {
    await context.audioWorklet.addModule("/static/js/worklet.js");
  } catch (error) {
    way = null;
    context.close();
    throw error;
  }
  return context;
}
