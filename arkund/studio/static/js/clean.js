// Clean: own hits against others' hits by level, and the gate over one hit.
import { clamp, figure } from "./lib/geometry.js";
import { registerBands } from "./lib/bands.js";
import { charted } from "./lib/charted.js";
import { registerListen } from "./lib/listen.js";
import { Alpine, registerPage, start, within } from "./lib/page.js";
import { registerScenes } from "./lib/scenes.js";
import { registerRow, toolOf } from "./lib/row.js";
import { Sheet } from "./lib/sheet.js";

const LOW = -70;
const ROW = 24;

Alpine.data("clean", () => ({
  ...charted({ left: 92, right: 16, top: 26, bottom: 32 }),
  drag: false,

  begin() {
    this.hear("picked", () => this.kept.soon());
    this.wave = new Sheet(this.$refs.wave, { left: 92, right: 52, top: 16, bottom: 30 });
    this.pointer(
      (e) => {
        this.drag = Boolean(this.tool());
        this.to(e.offsetX);
      },
      (e) => this.drag && this.to(e.offsetX),
      () => {
        if (!this.drag) return;
        this.drag = false;
        this.$store.page.move(this.change(), `${this.chart.row.name}: ${this.tool().id} threshold ${figure(this.gate().threshold_db, 1)} dB`);
      },
    );
  },
  /** The gate that is shown: the chosen one, or the first of the row. */
  tool() {
    return toolOf(this.$store.page, "gate");
  },
  gate() {
    const tool = this.tool();
    return tool ? { ...tool.settings, on: tool.on } : { on: false, threshold_db: -35, hysteresis_db: 4, range_db: 18 };
  },
  change() {
    const path = `${this.chart.row.place}.tools.${this.tool().id}`;
    return { [`${path}.threshold_db`]: this.gate().threshold_db, [`${path}.on`]: true };
  },
  to(px) {
    if (!this.drag) return;
    this.tool().settings.threshold_db = within("gate", "threshold_db", this.sheet.x(LOW, 0).back(px));
    this.$store.page.try(this.change());
    this.kept.soon();
  },
  marginWords() {
    if (!this.chart || !this.chart.own_db.length) return "No own hits found in this mic.";
    const t = this.gate().threshold_db;
    return `margin ${figure(this.chart.margin_db, 1)} dB · threshold ${figure(this.chart.softest_own_db - t, 1)} dB under the softest own hit, ${figure(t - this.chart.loudest_other_db, 1)} dB over the loudest bleed`;
  },
  draw() {
    if (!this.chart) return;
    this.levels();
    this.hit();
  },
  levels() {
    const { sheet, chart } = this;
    const gate = this.gate();
    const others = Object.entries(chart.others_db);
    if (!sheet.begin(sheet.margin.top + (others.length + 2) * ROW + sheet.margin.bottom)) return;
    const x = sheet.x(LOW, 0);
    sheet.across(x, { count: 14, unit: "dBFS in the gate's key" });
    const mic = this.$store.page.mics.find((m) => m.id === chart.mic);
    this.dots(mic.piece, `own ${mic.piece}`, chart.own_db, sheet.top + ROW, x, "ink", 1.6);
    others.forEach(([piece, values], i) => this.dots(piece, piece, values, sheet.top + (i + 2.3) * ROW, x, "soft", 1));
    sheet.line(sheet.left, sheet.top + 1.75 * ROW, sheet.right, sheet.top + 1.75 * ROW, "line");
    const at = x.to(clamp(gate.threshold_db, LOW, 0));
    const closes = x.to(clamp(gate.threshold_db - gate.hysteresis_db, LOW, 0));
    const colour = gate.on ? "yours" : "soft";
    sheet.hatch(closes, sheet.top, at - closes, sheet.bottom - sheet.top, colour, 9);
    sheet.line(at, sheet.top - 6, at, sheet.bottom, colour, 2, gate.on ? [] : [5, 4]);
    sheet.text(`${gate.on ? "opens at" : "off;"} ${figure(gate.threshold_db, 1)} dB`, at + 6, sheet.top - 12, colour);
    if (chart.own_db.length && others.length) {
      const y = sheet.top + 1.75 * ROW;
      const [a, b] = [x.to(chart.loudest_other_db), x.to(chart.softest_own_db)];
      sheet.line(a, y - 5, a, y + 5, "ask", 2);
      sheet.line(b, y - 5, b, y + 5, "ask", 2);
      sheet.line(a, y, b, y, "ask", 1);
      sheet.text(`margin ${figure(chart.margin_db, 1)} dB`, Math.max(a, b) + 6, y, "ask");
    }
    sheet.frame();
  },
  dots(piece, name, values, y, x, colour, size) {
    const { sheet } = this;
    sheet.glyph(piece, 14, y, 5, colour);
    sheet.text(name, 26, y, colour, "left", '12px "Sheet", sans-serif');
    values.forEach((v, i) => sheet.glyph(piece, x.to(clamp(v, LOW, 0)), y + ((i * 7919) % 11) - 5, 2 * size, colour, true));
  },
  hit() {
    const { wave, chart } = this;
    const gate = this.gate();
    const { view } = chart;
    if (!view.low || !wave.begin(190)) return;
    const end = view.start_s + view.low.length * view.step_s;
    const x = wave.x(view.start_s * 1000, end * 1000);
    const top = Math.max(...view.high, ...view.low.map((v) => -v)) || 1;
    const y = wave.y(-top, top);
    wave.across(x, { count: 12, unit: "ms from the hit" });
    wave.c.fillStyle = wave.colour.soft;
    view.low.forEach((low, i) => {
      const px = x.to((view.start_s + i * view.step_s) * 1000);
      wave.c.fillRect(px, y.to(view.high[i]), 1, Math.max(y.to(low) - y.to(view.high[i]), 0.6));
    });
    const g = wave.y(-Math.max(gate.range_db + 4, 24), 2);
    wave.path(view.gain_db.map((v, i) => [x.to((view.start_s + i * view.step_s) * 1000), g.to(v)]), gate.on ? "yours" : "ask", 2, gate.on ? [] : [5, 4]);
    for (const db of [0, -10, -20, -40]) if (db >= g.low) wave.text(`${figure(db, 0)} dB`, wave.right + 6, g.to(db), "soft");
    wave.text("one hit of middle strength, with the gate's gain", wave.left + 6, wave.bottom - 10, "soft", "left", '12px "Sheet", sans-serif');
    wave.frame();
  },
}));

registerPage();
registerListen();
registerRow();
registerScenes();
registerBands();
start();
