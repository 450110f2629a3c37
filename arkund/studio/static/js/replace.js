// Replace: every hit of a piece by strength; capture, place, layer.
import { clamp } from "./lib/geometry.js";
import { charted } from "./lib/charted.js";
import { registerListen } from "./lib/listen.js";
import { Alpine, registerPage, start } from "./lib/page.js";

Alpine.data("replace", () => ({
  ...charted({ left: 56, right: 16, top: 26, bottom: 34 }),
  time: null,

  begin() {
    this.$refs.canvas.addEventListener("click", (e) => this.pick(e));
  },
  take(chart) {
    if (this.chart?.piece !== chart.piece) this.time = null;
  },
  pieces() {
    return this.chart ? this.chart.pieces : [];
  },
  layers() {
    return this.chart ? this.chart.layers : [];
  },
  captured() {
    return Boolean(this.chart?.captures.length);
  },
  words() {
    if (!this.chart) return "";
    const capture = this.chart.captures[0];
    const has = capture ? `Captured: the hit at ${capture.time_s.toFixed(2)} s. ` : "";
    return has + (this.time === null ? "Click a hit, or a place where one is missing." : `Chosen: ${this.time.toFixed(3)} s.`);
  },
  send(action) {
    return this.$store.page.act("replace-hit", { piece: this.chart.piece, action, time_s: this.time ?? 0 });
  },
  put(layer, key, value) {
    return this.$store.page.move({ [`layers.${layer.index}.${key}`]: value }, `Layer ${layer.capture}: ${key} ${value}`);
  },
  putNumber(layer, key, event) {
    return this.put(layer, key, Number(event.target.value));
  },
  axes() {
    const levels = this.chart.hits.map((h) => h[1]);
    return [this.sheet.x(0, this.chart.length_s), this.sheet.y(Math.min(...levels, -40) - 2, Math.max(...levels, -6) + 3)];
  },
  pick(event) {
    if (!this.chart) return;
    const [x] = this.axes();
    const time = x.back(event.offsetX);
    const reach = x.back(x.to(0) + 7) - x.back(x.to(0));
    const near = this.chart.hits.map((h) => h[0]).reduce((a, b) => (Math.abs(b - time) < Math.abs(a - time) ? b : a), -99);
    this.time = Math.abs(near - time) < reach ? near : clamp(time, 0, this.chart.length_s);
    window.dispatchEvent(new CustomEvent("loop", { detail: { start: Math.max(this.time - 1.5, 0), stop: this.time + 2.5 } }));
    this.kept.soon();
  },
  draw() {
    if (!this.chart || !this.sheet.begin(330)) return;
    const { sheet, chart } = this;
    const [x, y] = this.axes();
    sheet.down(y, { unit: "peak, dBFS of the recording" });
    sheet.across(x, { count: 12, unit: "s" });
    for (const s of chart.bars.sections) {
      const at = x.to(chart.bars.lines_s[s.bar]);
      sheet.line(at, sheet.top, at, sheet.bottom, "line");
      sheet.text(s.name, at + 4, sheet.top + 9, "soft", "left", '12px "Sheet", sans-serif');
    }
    for (const [t, level, , ghost] of chart.hits) {
      const placed = chart.placements.some((p) => Math.abs(p - t) < 0.01);
      sheet.glyph(chart.piece, x.to(t), y.to(level), ghost ? 3.5 : 4.5, placed ? "yours" : "ink", ghost);
    }
    for (const c of chart.captures) {
      sheet.c.strokeStyle = sheet.colour.yours;
      sheet.c.lineWidth = 2;
      sheet.c.strokeRect(x.to(c.time_s) - 8, y.to(c.level_db) - 8, 16, 16);
    }
    if (this.time !== null) sheet.line(x.to(this.time), sheet.top, x.to(this.time), sheet.bottom, "ask", 1.5);
    for (const note of this.$store.page.notes) {
      const at = chart.bars.lines_s[Number(note.place)];
      if (chart.piece === "snare") sheet.pin(note.number, x.to(at), sheet.bottom - 12, note.state);
    }
    sheet.text(`${chart.hits.length} hits, ghosts open`, sheet.right, sheet.top - 11, "soft", "right");
    sheet.frame();
  },
}));

registerPage();
registerListen();
start();
