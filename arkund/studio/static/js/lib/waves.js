// Waveform columns from the server, by zoom, fetched once and drawn for what is visible.
import { boot } from "./page.js";

const LEVELS = [256, 1024, 4096];
const MOST_KEPT = 200;
const kept = new Map();

/** The zoom whose columns are no wider than a pixel, or the finest. */
export function levelFor(samplesPerPixel) {
  return [...LEVELS].reverse().find((level) => level <= samplesPerPixel) || LEVELS[0];
}

/** Int8Array of minimum and maximum by column, or null while it is under way (then `ready` is called). */
function columns(address, ready) {
  if (!kept.has(address)) {
    kept.set(address, null);
    if (kept.size > MOST_KEPT) kept.delete(kept.keys().next().value);
    fetch(address)
      .then((r) => (r.ok ? r.arrayBuffer() : new ArrayBuffer(0)))
      .then((data) => {
        kept.set(address, new Int8Array(data));
        ready();
      });
  }
  return kept.get(address);
}

/** The address of a mic's recording; its take is part of the Plan's version. */
export const recorded = (mic, version) => (level) => `/s/${boot.session}/peaks/${mic}/${level}?of=${version}`;

/** The address of an output as rendered. */
export const rendered = (key, output) => (level) => `/s/${boot.session}/whole/${key}/${encodeURIComponent(output)}/${level}`;

/** Draw a waveform around `middle`, `half` pixels high where it reaches `full` (a gain). Calls `ready` when its columns have come. */
export function drawWave(sheet, x, addressOf, { middle, half, full = 1, colour = "soft" }, ready) {
  const perPixel = ((x.high - x.low) * boot.rate) / (sheet.right - sheet.left);
  const level = levelFor(perPixel);
  sheet.line(sheet.left, middle, sheet.right, middle, "fine");
  const data = columns(addressOf(level), ready);
  if (!data) return;
  const { c } = sheet;
  c.fillStyle = sheet.colour[colour];
  const scale = half / Math.max(full * 127, 1);
  for (let px = sheet.left; px < sheet.right; px += 1) {
    const a = Math.floor((x.back(px) * boot.rate) / level);
    const b = Math.max(Math.floor((x.back(px + 1) * boot.rate) / level), a + 1);
    let low = 0;
    let high = 0;
    for (let i = Math.max(a, 0); i < b && 2 * i + 1 < data.length; i += 1) {
      if (data[2 * i] < low) low = data[2 * i];
      if (data[2 * i + 1] > high) high = data[2 * i + 1];
    }
    c.fillRect(px, middle - high * scale, 1, Math.max((high - low) * scale, 0.6));
  }
}
