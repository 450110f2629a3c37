// Pure geometry of charts: scales, ticks, hit tests. Nothing here draws or knows the page.

const SILENT_DB = -150; // below the steps of 24 bits

/** A scale from values to pixels; `log` for frequencies. */
export function scale(low, high, from, to, log = false) {
  const f = log ? Math.log : (v) => v;
  const inverse = log ? Math.exp : (v) => v;
  const a = f(low);
  const span = f(high) - a || 1;
  return {
    low,
    high,
    to: (value) => from + ((f(value) - a) / span) * (to - from),
    back: (pixel) => inverse(a + ((pixel - from) / (to - from)) * span),
  };
}

/** Round figures from low to high, about `count` of them. */
export function ticks(low, high, count) {
  const raw = (high - low) / Math.max(count, 1);
  const power = 10 ** Math.floor(Math.log10(raw));
  const step = [1, 2, 5, 10].map((m) => m * power).find((s) => s >= raw);
  const out = [];
  for (let i = Math.ceil(low / step - 1e-9); i * step <= high + 1e-9; i += 1) out.push(Number((i * step).toPrecision(12)));
  return out;
}

/** How many digits after the point the figures of even steps need, so that no two read alike. */
export function digitsOf(values) {
  const step = values.length > 1 ? Math.abs(values[1] - values[0]) : 1;
  return step > 0 && step < 1 ? Math.min(Math.ceil(-Math.log10(step) - 1e-9), 6) : 0;
}

/** The frequencies that a logarithmic axis is marked at; true = with a figure. */
export function octaveTicks(low, high) {
  const out = [];
  for (let decade = 10; decade <= high; decade *= 10) {
    for (let m = 1; m < 10; m += 1) {
      const value = decade * m;
      if (value >= low && value <= high) out.push([value, m === 1 || m === 2 || m === 5]);
    }
  }
  return out;
}

export const clamp = (value, low, high) => Math.min(Math.max(value, low), high);

/** Bring a value onto a field's step and into its range. */
export function fit(value, field) {
  const stepped = Math.round(value / field.step) * field.step;
  return Number(clamp(stepped, field.low, field.high).toFixed(6));
}

/** The index of the nearest of some points {x, y} within `most` pixels, or -1. */
export function nearest(points, x, y, most = 14) {
  let best = -1;
  let distance = most;
  points.forEach((p, i) => {
    const d = Math.hypot(p.x - x, p.y - y);
    if (d < distance) [best, distance] = [i, d];
  });
  return best;
}

/** Where a minute:second label of a time in seconds reads best. */
export function clock(seconds) {
  const sign = seconds < 0 ? "−" : "";
  const s = Math.abs(seconds);
  return `${sign}${Math.floor(s / 60)}:${(s % 60).toFixed(s % 1 ? 1 : 0).padStart(s % 1 ? 4 : 2, "0")}`;
}

/** A number with a true minus sign and fixed digits. */
export function figure(value, digits = 1, signed = false) {
  const text = value.toFixed(digits);
  if (Number(text) === 0) return text.replace("-", ""); // nothing has no sign
  return `${signed && value > 0 ? "+" : ""}${text}`.replace("-", "−");
}

/** A level with its unit; below all that can be stored nothing sounds. */
export const level = (db, unit) => (db > SILENT_DB ? `${figure(db)} ${unit}` : "silent");

/** The hertz figure of an axis: 50, 2k. */
export const hertz = (value) => (value >= 1000 ? `${value / 1000}k` : `${value}`);
