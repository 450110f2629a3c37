// Tone: spectra of one mic with the equaliser's curve; filters are dragged in the chart.
import { clamp, figure, nearest, scale } from "./lib/geometry.js";
import { bandList, registerBands } from "./lib/bands.js";
import { registerShaped } from "./lib/shaped.js";
import { charted } from "./lib/charted.js";
import { registerListen } from "./lib/listen.js";
import { Alpine, registerPage, start, within } from "./lib/page.js";
import { registerScenes } from "./lib/scenes.js";
import { registerRow } from "./lib/row.js";

const SPAN_DB = 18;

Alpine.data("tone", () => ({
  ...charted({ left: 56, right: 46, top: 26, bottom: 32 }),
  ...bandList(),
  drag: null,

  begin() {
    this.hear("picked", () => this.kept.soon());
    this.pointer((e) => this.down(e), (e) => this.moveTo(e), () => this.up());
    this.$refs.canvas.addEventListener("dblclick", (e) => this.add("bell", this.axis().back(e.offsetX), this.gains().back(e.offsetY)));
  },
  axis() {
    return this.sheet.x(20, 20000, true);
  },
  gains() {
    return scale(-SPAN_DB, SPAN_DB, this.sheet.bottom, this.sheet.top);
  },
  curve() {
    return this.chart.curves_db[this.toneTool()?.id] || this.chart.axis_hz.map(() => 0);
  },
  marks() {
    const x = this.axis();
    const y = this.gains();
    return this.bands().map((b) => ({ x: x.to(b.frequency_hz), y: y.to(this.sloped(b) ? -3 : b.gain_db) }));
  },
  down(event) {
    const i = this.chart ? nearest(this.marks(), event.offsetX, event.offsetY) : -1;
    if (i < 0) return;
    this.drag = { i, before: JSON.stringify(this.bands()) };
  },
  moveTo(event) {
    if (!this.drag) return;
    const band = this.bands()[this.drag.i];
    band.frequency_hz = within("band", "frequency_hz", this.axis().back(event.offsetX), 0);
    if (!this.sloped(band)) band.gain_db = within("band", "gain_db", this.gains().back(event.offsetY));
    this.$store.page.try({ [this.bandsPath()]: this.bands() });
    this.kept.soon();
  },
  up() {
    const drag = this.drag;
    this.drag = null;
    if (!drag || JSON.stringify(this.bands()) === drag.before) return;
    const b = this.bands()[drag.i];
    this.save(this.bands(), `filter ${drag.i + 1} to ${b.frequency_hz} Hz${this.sloped(b) ? "" : `, ${figure(b.gain_db, 1, true)} dB`}`);
  },
  draw() {
    if (!this.chart || !this.sheet.begin(400)) return;
    const { sheet, chart } = this;
    const x = this.axis();
    const tilt = chart.axis_hz.map((f) => 3 * Math.log2(f / 1000));
    const own = chart.own_db.map((v, i) => v + tilt[i]);
    const top = Math.ceil((Math.max(...own) + 3) / 6) * 6;
    const y = sheet.y(top - 66, top);
    const g = this.gains();
    const curve = this.curve();
    sheet.across(x, { log: true, unit: "Hz" });
    sheet.down(y, { unit: "spectrum, dB (raised 3 dB per octave)", count: 8 });
    for (const db of [-12, -6, 0, 6, 12]) sheet.text(figure(db, 0, true), sheet.right + 8, g.to(db), "soft");
    sheet.text("curve, dB", sheet.right + 40, sheet.top - 11, "soft", "right");
    sheet.line(sheet.left, g.to(0), sheet.right, g.to(0), "line");
    const line = (values) => chart.axis_hz.map((f, i) => [x.to(f), clamp(y.to(values[i] + tilt[i]), sheet.top, sheet.bottom)]);
    sheet.path(line(chart.others_db), "soft", 1.2, [2, 3]);
    sheet.path(line(chart.between_db), "soft", 1.2, [7, 4]);
    sheet.path(line(chart.own_db), "ink", 1.8);
    this.marksOf(x, y, own);
    sheet.path(chart.axis_hz.map((f, i) => [x.to(f), clamp(g.to(curve[i]), sheet.top, sheet.bottom)]), this.toneTool()?.on ? "yours" : "soft", 2.4);
    this.marks().forEach((m, i) => {
      sheet.c.fillStyle = sheet.colour.sheet;
      sheet.c.strokeStyle = sheet.colour[this.bands()[i].on ? "yours" : "soft"];
      sheet.c.lineWidth = 1.6;
      sheet.c.beginPath();
      sheet.c.rect(m.x - 8, clamp(m.y, sheet.top + 8, sheet.bottom - 8) - 8, 16, 16);
      sheet.c.fill();
      sheet.c.stroke();
      sheet.text(`${i + 1}`, m.x, clamp(m.y, sheet.top + 8, sheet.bottom - 8) + 0.5, "ink", "center");
    });
    sheet.frame();
  },
  marksOf(x, y, own) {
    const { sheet, chart } = this;
    const at = (f) => own[chart.axis_hz.reduce((best, v, i) => (Math.abs(v - f) < Math.abs(chart.axis_hz[best] - f) ? i : best), 0)];
    const mark = (f, words) => {
      const py = clamp(y.to(at(f)), sheet.top + 30, sheet.bottom);
      sheet.line(x.to(f), py - 4, x.to(f), sheet.top + 16, "ask", 1, [2, 2]);
      sheet.text(words, x.to(f) + 4, sheet.top + 12, "ask", "left", '12px "Sheet", sans-serif');
    };
    if (chart.fundamental_hz) mark(chart.fundamental_hz, `fundamental ${figure(chart.fundamental_hz, 0)} Hz`);
    if (chart.ring) mark(chart.ring.frequency_hz, `ring ${figure(chart.ring.frequency_hz, 0)} Hz, ${figure(chart.ring.above_db, 0, true)} dB, ${figure(chart.ring.decay_s, 1)} s`);
  },
}));

registerPage();
registerListen();
registerRow();
registerScenes();
registerBands();
registerShaped();
start();
