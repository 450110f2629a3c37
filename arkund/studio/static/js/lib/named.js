// What was measured in a spectrum, by name: fundamental, ring, box, and other drums where they stand highest. Names are pointed at.
import { figure } from "./geometry.js";

const FONT = '12px "Sheet", sans-serif';
const ROW = 15;
const MOST_BLEED = 3;
const CHARACTER = 6.4; // pixels of a letter, about

/** The names of a chart with where they are written: {words, hz, x, y, width, colour}, in rows so that none covers another. */
export function marksOf(sheet, x, chart) {
  const out = [];
  const add = (hz, words, cuts) => out.push({ hz, words, cuts, x: x.to(hz), line: x.to(hz), width: words.length * CHARACTER });
  if (chart.fundamental_hz) add(chart.fundamental_hz, `fundamental ${figure(chart.fundamental_hz, 0)} Hz`, false);
  if (chart.ring) add(chart.ring.frequency_hz, `ring ${figure(chart.ring.frequency_hz, 0)} Hz, ${figure(chart.ring.decay_s, 1)} s`, true);
  if (chart.box && chart.box.above_db > 1) add(chart.box.frequency_hz, `box ${figure(chart.box.frequency_hz, 0)} Hz ${figure(chart.box.above_db, 1, true)} dB`, true);
  for (const b of chart.bleed.slice(0, MOST_BLEED)) add(b.frequency_hz, `${b.piece} ${figure(b.against_own_db, 0, true)} dB`, true);
  const ends = [];
  for (const mark of out.sort((a, b) => a.x - b.x)) {
    if (mark.x + mark.width > sheet.right) mark.x -= mark.width + 8;
    let row = ends.findIndex((end) => end < mark.x - 6);
    if (row < 0) row = ends.push(0) - 1;
    ends[row] = mark.x + mark.width + 8;
    mark.y = sheet.top - 26 - (row % 3) * ROW;
  }
  return out;
}

/** The name under a pointer, or null. */
export function pointed(marks, px, py) {
  return (marks || []).find((m) => px >= m.x - 2 && px <= m.x + m.width + 6 && Math.abs(py - m.y) < ROW / 2) || null;
}

export function drawMarks(sheet, marks, level, chosen) {
  for (const m of marks) {
    const own = m === chosen || m.words === chosen?.words;
    sheet.line(m.line, m.y + 6, m.line, level(m.hz) - 4, "ask", own ? 2 : 1, [2, 2]);
    sheet.text(m.words, m.x + 4, m.y, own ? "ink" : "ask", "left", FONT);
  }
}

/** The usual zones as a quiet row under the chart. */
export function drawZones(sheet, x, zones) {
  for (const [name, low, high] of zones) {
    const [a, b] = [Math.max(x.to(low), sheet.left), Math.min(x.to(high), sheet.right)];
    sheet.line(a, sheet.bottom + 24, b, sheet.bottom + 24, "line", 3);
    sheet.c.save();
    sheet.c.globalAlpha = 0.45;
    sheet.hatch(a, sheet.top, b - a, sheet.bottom - sheet.top, "fine", 9);
    sheet.c.restore();
    sheet.text(name, (a + b) / 2, sheet.bottom + 36, "soft", "center", FONT);
  }
}
