// Timing: the song folded by bars.
import { clamp, figure } from "./lib/geometry.js";
import { charted } from "./lib/charted.js";
import { registerListen } from "./lib/listen.js";
import { Alpine, registerPage, start } from "./lib/page.js";

const ROW = 22;

Alpine.data("timing", () => ({
  ...charted({ left: 64, right: 70, top: 26, bottom: 30 }),
  first: null,
  last: null,
  strength: 100,
  tolerance: 3,
  drag: false,

  begin() {
    this.pointer(
      (e) => {
        this.drag = true;
        this.first = this.last = this.anchor = this.barAt(e.offsetY);
        this.kept.soon();
      },
      (e) => {
        if (!this.drag) return;
        const bar = this.barAt(e.offsetY);
        [this.first, this.last] = [Math.min(bar, this.anchor), Math.max(bar, this.anchor)];
        this.kept.soon();
      },
      () => (this.drag = false),
    );
  },
  most() {
    return Math.max(...this.chart.hits.map((h) => h[1]), 0);
  },
  barAt(y) {
    return clamp(Math.floor((y - this.sheet.top) / ROW), 0, this.most());
  },
  tempo(key) {
    return this.chart ? this.chart.tempo[key] : 0;
  },
  setTempo(key, event) {
    this.$store.page.move({ [`tempo.${key}`]: Number(event.target.value) }, `${key === "bpm" ? "Tempo" : "First bar at"} ${event.target.value}`);
  },
  estimate() {
    return this.$store.page.act("tempo");
  },
  grid() {
    return this.chart ? this.chart.grid : 16;
  },
  grids() {
    return this.chart ? this.chart.grids : [];
  },
  setGrid(event) {
    this.$store.page.choose(event.target.value);
  },
  cuts() {
    return this.chart ? this.chart.cuts : 0;
  },
  byPiece() {
    return this.chart ? this.chart.by_piece : [];
  },
  ms(v) {
    return `${figure(v, 1, true)} ms`;
  },
  chosenWords() {
    if (this.first === null) return "Drag over rows to choose bars.";
    return this.first === this.last ? `bar ${this.first + 1}` : `bars ${this.first + 1} to ${this.last + 1}`;
  },
  quantise() {
    const settings = { first_bar: this.first, last_bar: this.last, grid: this.grid(), strength: Number(this.strength), tolerance_ms: Number(this.tolerance) };
    return this.$store.page.act("quantise", { settings });
  },
  clearCuts() {
    return this.$store.page.move({ cuts: [] }, "All edits in time taken back");
  },
  loopBars() {
    const { first_s, bar_s } = this.chart.bars;
    window.dispatchEvent(new CustomEvent("loop", { detail: { start: first_s + this.first * bar_s, stop: first_s + (this.last + 1) * bar_s } }));
  },
  draw() {
    if (!this.chart) return;
    const { sheet, chart } = this;
    const bars = this.most() + 1;
    if (!sheet.begin(sheet.margin.top + bars * ROW + sheet.margin.bottom)) return;
    const beats = chart.bars.beats;
    const x = sheet.x(-0.12, beats - 0.02);
    const step = chart.tempo.beat_unit / chart.grid;
    for (let at = 0; at < beats - 1e-6; at += step) {
      const whole = Math.abs(at - Math.round(at)) < 1e-6;
      sheet.line(x.to(at), sheet.top, x.to(at), sheet.bottom, whole ? "line" : "fine");
      if (whole) sheet.text(`${Math.round(at) + 1}`, x.to(at), sheet.top - 10, "soft", "center");
    }
    sheet.text("beat", sheet.left - 8, sheet.top - 10, "soft", "right");
    if (this.first !== null) sheet.hatch(sheet.left, sheet.top + this.first * ROW, sheet.right - sheet.left, (this.last - this.first + 1) * ROW, "line");
    for (let bar = 0; bar < bars; bar += 1) {
      const y = sheet.top + bar * ROW;
      sheet.line(sheet.left, y, sheet.right, y, "fine");
      sheet.text(`${bar + 1}`, sheet.left - 8, y + ROW / 2, "soft", "right");
    }
    const sums = new Map();
    for (const [piece, bar, place, , off, ghost] of chart.hits) {
      if (bar < 0) continue;
      const y = sheet.top + (bar + 0.5) * ROW;
      const far = Math.abs(off) >= 18 && !ghost && piece !== "crash";
      sheet.glyph(piece, x.to(place), y, ghost ? 3 : 5, far ? "ask" : "ink", ghost);
      if (far || Math.abs(off) > 8) {
        const meant = x.to(place - off / chart.beat_ms);
        sheet.line(meant, y + 6, x.to(place), y + 6, far ? "ask" : "soft", 1.5);
      }
      if ((piece === "kick" || piece === "snare") && !ghost) sums.set(bar, [...(sums.get(bar) || []), off]);
    }
    for (const [bar, offs] of sums) {
      const mean = offs.reduce((a, b) => a + b, 0) / offs.length;
      sheet.text(`${figure(mean, 0, true)} ms`, sheet.right + 60, sheet.top + (bar + 0.5) * ROW, Math.abs(mean) > 10 ? "ask" : "soft", "right");
    }
    for (const note of this.$store.page.notes) sheet.pin(note.number, sheet.left - 44, sheet.top + (Number(note.place) + 0.5) * ROW, note.state);
    (chart.bars.sections || []).forEach((s) => sheet.text(s.name, sheet.left + 4, sheet.top + s.bar * ROW + 5, "yours", "left", '10px "Sheet", sans-serif'));
    sheet.frame();
  },
}));

registerPage();
registerListen();
start();
