// Waveform columns from the server, by zoom, fetched once and drawn for what is visible.
import { boot } from "./page.js";

const LEVELS = [256, 1024, 4096];
const MOST_KEPT = 200;
const BLOCK = 1 << 15; // samples that come together, as the server sends them
const kept = new Map();

/** The zoom whose columns are no wider than a pixel, or the finest. */
export function levelFor(samplesPerPixel) {
  return [...LEVELS].reverse().find((level) => level <= samplesPerPixel) || LEVELS[0];
}

/** Int8Array of minimum and maximum by column (Int16Array of samples where asked for), or null while it is under way (then `ready` is called). */
function columns(address, ready, Kind = Int8Array) {
  if (!kept.has(address)) {
    kept.set(address, null);
    if (kept.size > MOST_KEPT) kept.delete(kept.keys().next().value);
    fetch(address)
      .then((r) => (r.ok ? r.arrayBuffer() : new ArrayBuffer(0)))
      .then((data) => {
        kept.set(address, new Kind(data));
        ready();
      });
  }
  return kept.get(address);
}

/** Fetch the other zooms while there is nothing else to do, so that zooming waits for none of them. */
function ahead(waves) {
  const missing = waves.flatMap(({ address }) => LEVELS.map(address)).filter((each) => !kept.has(each));
  if (!missing.length || fetching || waves.length * LEVELS.length > MOST_KEPT) return;
  fetching = true;
  requestIdleCallback(() => {
    fetching = false;
    columns(missing[0], () => ahead(waves));
  });
}

/** The address of a mic's recording, named by what it is of: through all takes that are joined. */
export const recorded = (mic) => (level) => `/s/${boot.session}/peaks/${mic.id}/${level}?of=${mic.content}`;

/** The address of a mic as it sounds in the song; at level 1 of a block of its samples. */
export const inSong = (mic) => (level, block = 0) => `/s/${boot.session}/song-peaks/${mic.id}/${level}${level === 1 ? `/${block}` : ""}?of=${mic.content}`;

/** The address of an output as rendered. */
export const rendered = (key, output) => (level) => `/s/${boot.session}/whole/${key}/${encodeURIComponent(output)}/${level}`;

const scratch = document.createElement("canvas");
const brush = scratch.getContext("2d", { willReadFrequently: true });
const inks = new Map();
let image = null;
let fetching = false; // ahead of being asked for

/** A colour of the style sheet as the 32 bits of a pixel. */
function inkOf(colour) {
  if (!inks.has(colour)) {
    const one = new OffscreenCanvas(1, 1).getContext("2d");
    one.fillStyle = colour;
    one.fillRect(0, 0, 1, 1);
    inks.set(colour, new Uint32Array(one.getImageData(0, 0, 1, 1).data.buffer)[0]);
  }
  return inks.get(colour);
}

/** Set the pixels of a waveform on clear ground, column by column: `rows` of `width` pixels, `perColumn` samples each from `first` on. */
export function plot(pixels, width, rows, data, { first, perColumn, level, scale, ink }) {
  const middle = rows / 2;
  for (let px = 0; px < width; px += 1) {
    const a = Math.floor((first + px * perColumn) / level);
    const b = Math.max(Math.floor((first + (px + 1) * perColumn) / level), a + 1);
    let low = 0;
    let high = 0;
    for (let i = Math.max(a, 0); i < b && 2 * i + 1 < data.length; i += 1) {
      if (data[2 * i] < low) low = data[2 * i];
      if (data[2 * i + 1] > high) high = data[2 * i + 1];
    }
    const from = Math.max(Math.round(middle - high * scale), 0);
    const to = Math.min(Math.max(Math.round(middle - low * scale), from + 1), rows);
    for (let at = from * width + px; at < to * width + px; at += width) pixels[at] = ink;
  }
}

/** Samples of a wave from `first` on, across blocks, or null while some are under way. */
function samplesOf(address, first, count, ready) {
  const from = Math.max(Math.floor(first / BLOCK), 0);
  const until = Math.max(Math.floor((first + count) / BLOCK), from);
  const blocks = [];
  for (let k = from; k <= until; k += 1) blocks.push(columns(address(1, k), ready, Int16Array));
  if (blocks.some((block) => !block)) return null;
  return (at) => blocks[Math.floor(at / BLOCK) - from]?.[at % BLOCK] || 0;
}

/** Set the pixels of a waveform sample by sample: a column spans all samples in it and the first of the next, so that the line is never broken. */
export function plotSamples(pixels, width, rows, at, { first, perColumn, scale, ink }) {
  const middle = rows / 2;
  for (let px = 0; px < width; px += 1) {
    const a = Math.max(Math.floor(first + px * perColumn), 0);
    const b = Math.max(Math.floor(first + (px + 1) * perColumn), a + 1);
    let low = Infinity;
    let high = -Infinity;
    for (let i = a; i <= b; i += 1) {
      const value = at(i);
      if (value < low) low = value;
      if (value > high) high = value;
    }
    const from = Math.max(Math.round(middle - high * scale), 0);
    const to = Math.min(Math.max(Math.round(middle - low * scale), from + 1), rows);
    for (let row = from * width + px; row < to * width + px; row += width) pixels[row] = ink;
  }
}

/** Draw waveforms below each other, each around its `middle`, `half` pixels high where it reaches `full` (a gain): one picture for all of them.
    Calls `ready` when columns have come. */
export function drawWaves(sheet, x, waves, ready) {
  const { dpr } = sheet;
  const width = Math.round((sheet.right - sheet.left) * dpr);
  const perColumn = ((x.high - x.low) * boot.rate) / width;
  const level = levelFor(perColumn * dpr);
  for (const { middle } of waves) sheet.line(sheet.left, middle, sheet.right, middle, "fine");
  const there = waves.map((wave) => ({ ...wave, data: columns(wave.address(level), ready) })).filter((wave) => wave.data);
  if (there.length === waves.length) ahead(waves);
  if (!there.length || width < 1) return;
  const top = Math.min(...there.map((wave) => wave.middle - wave.half));
  const height = Math.round((Math.max(...there.map((wave) => wave.middle + wave.half)) - top) * dpr);
  const pixels = cleared(width, height);
  for (const { middle, half, full = 1, colour = "soft", data, fine, address } of there) {
    const rows = 2 * Math.round(half * dpr);
    const first = Math.min(Math.max(Math.round((middle - top) * dpr) - rows / 2, 0), height - rows);
    const part = pixels.subarray(first * width, (first + rows) * width);
    const scale = (half * dpr) / Math.max(full * 127, 1);
    const start = x.low * boot.rate;
    const near = fine && perColumn < LEVELS[0] ? samplesOf(address, start, perColumn * width, ready) : null;
    if (near) {
      plotSamples(part, width, rows, near, { first: start, perColumn, scale: (half * dpr) / Math.max(full * 32767, 1), ink: inkOf(sheet.colour[colour]) });
      continue;
    }
    plot(part, width, rows, data, { first: start, perColumn, level, scale, ink: inkOf(sheet.colour[colour]) });
  }
  brush.putImageData(image, 0, 0);
  sheet.c.drawImage(scratch, 0, 0, width, height, sheet.left, top, width / dpr, height / dpr);
}

/** The pixels of the one picture, all transparent. */
function cleared(width, height) {
  if (image?.width !== width || image.height !== height) {
    Object.assign(scratch, { width, height });
    image = brush.createImageData(width, height);
  }
  const pixels = new Uint32Array(image.data.buffer);
  pixels.fill(0);
  return pixels;
}
