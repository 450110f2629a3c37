// The song folded by bars, drawn: a row per bar, each hit where it fell, the drift beside them.
import { clamp, figure } from "./lib/geometry.js";
import { Alpine } from "./lib/page.js";

export const ROW = 22;
const FAR_MS = 18;
const TOLD_MS = 8;
const MOST_DRIFT_MS = 10;
const DRIFT = { middle: 27, half: 20 }; // of the strip beside the chart, in pixels

/** Part of the Timing chart, which has the hits by bar and what is chosen. */
export const folded = {
  draw() {
    if (!this.chart) return;
    const { sheet } = this;
    const { scroll } = this.$refs;
    if (!sheet.begin(scroll.clientHeight)) return;
    const x = this.axis();
    this.graticule(x);
    const from = Math.floor(scroll.scrollTop / ROW);
    const until = Math.min(from + Math.ceil((sheet.bottom - sheet.top) / ROW) + 1, this.count);
    const { c } = sheet;
    c.save();
    c.beginPath();
    c.rect(0, sheet.top, sheet.width, sheet.bottom - sheet.top);
    c.clip();
    this.drawDrift(from, until, sheet.top - scroll.scrollTop);
    for (let bar = from; bar < until; bar += 1) this.row(bar, sheet.top + bar * ROW - scroll.scrollTop, x);
    for (const note of this.$store.page.notes) {
      const y = sheet.top + (Number(note.place) + 0.5) * ROW - scroll.scrollTop;
      if (y > sheet.top - ROW && y < sheet.bottom + ROW) sheet.pin(note.number, sheet.left - 44, y, note.state);
    }
    if (this.dragged) sheet.line(this.dragged.to, sheet.top, this.dragged.to, sheet.bottom, "yours", 1, [3, 3]);
    c.restore();
    sheet.frame();
  },
  /** How far the kit as a whole is from the grid, down the bars: left early, right late. */
  drawDrift(from, until, top) {
    const { sheet } = this;
    const middle = sheet.right + DRIFT.middle;
    sheet.line(middle, sheet.top, middle, sheet.bottom, "fine");
    const points = [];
    for (let bar = Math.max(from - 1, 0); bar <= until; bar += 1) {
      if (!this.drift.has(bar)) continue;
      const off = clamp(this.drift.get(bar), -MOST_DRIFT_MS, MOST_DRIFT_MS);
      points.push([middle + (off / MOST_DRIFT_MS) * DRIFT.half, top + (bar + 0.5) * ROW]);
    }
    sheet.path(points, "yours", 1.5);
  },
  graticule(x) {
    const { sheet, chart } = this;
    const step = chart.tempo.beat_unit / (chart.grid || 16);
    for (let at = 0; at < this.beats() - 1e-6; at += step) {
      if (at < x.low || at > x.high) continue;
      const whole = Math.abs(at - Math.round(at)) < 1e-6;
      sheet.line(x.to(at), sheet.top, x.to(at), sheet.bottom, whole ? "line" : "fine");
      if (whole) sheet.text(`${Math.round(at) + 1}`, x.to(at), sheet.top - 10, "soft", "center");
    }
    sheet.text("beat", sheet.left - 8, sheet.top - 10, "soft", "right");
    sheet.text("drift ±10 ms", sheet.right + DRIFT.middle, sheet.top - 10, "soft", "center", '10px "Sheet", sans-serif');
    sheet.text("kick, snare", sheet.right + 116, sheet.top - 10, "soft", "right", '10px "Sheet", sans-serif');
  },
  row(bar, y, x) {
    const { sheet } = this;
    const chart = Alpine.raw(this.chart); // unwatched: thousands of values are read for each frame
    if (this.first !== null && bar >= this.first && bar <= this.last) sheet.hatch(sheet.left, y, sheet.right - sheet.left, ROW, "line");
    sheet.line(sheet.left, y, sheet.right, y, "fine");
    sheet.text(`${bar + 1}`, sheet.left - 8, y + ROW / 2, "soft", "right");
    if (chart.meant[bar] === 12) sheet.text("3", sheet.left - 28, y + ROW / 2, "yours", "right");
    const chosen = Alpine.raw(this.chosen);
    const offs = [];
    for (const hit of Alpine.raw(this.byBar).get(bar) || []) {
      const [piece, , place, off, ghost, , , grace] = hit;
      if (place < x.low || place > x.high) continue;
      const far = Math.abs(off) >= FAR_MS && !ghost && !grace && piece !== "crash";
      const stepped = chosen === hit && this.stepped ? this.stepped.by_ms / chart.beat_ms[bar] : 0;
      const at = x.to(place + stepped);
      if (chosen === hit) sheet.line(at, y + 1, at, y + ROW - 1, "yours", 3);
      sheet.glyph(piece, at, y + ROW / 2, ghost ? 3 : 5, far ? "ask" : "ink", ghost);
      if (far || (Math.abs(off) > TOLD_MS && !grace)) sheet.line(x.to(place - off / chart.beat_ms[bar]), y + ROW - 4, at, y + ROW - 4, far ? "ask" : "soft", 1.5);
      if ((piece === "kick" || piece === "snare") && !ghost && !grace) offs.push(off);
    }
    if (offs.length) {
      const mean = offs.reduce((a, b) => a + b, 0) / offs.length;
      sheet.text(`${figure(mean, 1, true)} ms`, sheet.right + 116, y + ROW / 2, Math.abs(mean) > 10 ? "ask" : "soft", "right");
    }
    const section = (chart.bars.sections || []).find((s) => s.bar === bar);
    if (section) {
      sheet.line(sheet.left, y, sheet.right, y, "yours", 1);
      sheet.text(section.name, sheet.right - 4, y + ROW / 2, "yours", "right", '11px "Sheet", sans-serif');
    }
  },
};
