// Waveform columns from the server, by mic and zoom, fetched once.
import { boot } from "./page.js";

const LEVELS = [256, 1024, 4096];
const kept = new Map();

/** The zoom whose columns are no wider than a pixel, or the finest. */
export function levelFor(samplesPerPixel) {
  return [...LEVELS].reverse().find((level) => level <= samplesPerPixel) || LEVELS[0];
}

/** Int8Array of minimum and maximum by column, or null while it is under way (then `ready` is called). */
export function columns(mic, level, take, ready) {
  const key = `${take}/${mic}/${level}`;
  if (!kept.has(key)) {
    kept.set(key, null);
    fetch(`/s/${boot.session}/peaks/${mic}/${level}?take=${take}`)
      .then((r) => (r.ok ? r.arrayBuffer() : new ArrayBuffer(0)))
      .then((data) => {
        kept.set(key, new Int8Array(data));
        ready();
      });
  }
  return kept.get(key);
}
