// Print: every output over the whole song as it will leave, then the files that were made.
import { charted } from "./lib/charted.js";
import { clock, figure, level } from "./lib/geometry.js";
import { registerListen } from "./lib/listen.js";
import { Alpine, boot, registerPage, start } from "./lib/page.js";
import { drawBars, song } from "./lib/song.js";
import { drawWaves, rendered } from "./lib/waves.js";

const KIT_ROW = 74;
const ROW = 19;
const QUIETEST_DB = -24; // rows are drawn to their own peak; what is quieter is drawn small, as the pictures have steps of 1/127
const FIGURES = [
  ["peak_db", "peak dBFS", 172],
  ["true_peak_db", "true dBTP", 98],
  ["loudness_lufs", "LUFS", 18],
]; // distance from the right edge

Alpine.data("printing", () => ({
  ...charted({ left: 104, right: 266, top: 40, bottom: 26 }),
  ...song,
  format: "wav24",

  begin() {
    this.songBegin();
  },
  prints() {
    return this.chart ? this.chart.prints : [];
  },
  about() {
    return this.chart ? `${this.chart.mics} mics, stems and the kit mix, ${clock(this.chart.length_s)} each` : "";
  },
  /** Which output passes full scale, and what becomes of a print then; nothing where none does. */
  over() {
    if (!this.chart?.lowered) return "";
    const loudest = this.chart.outputs.reduce((a, b) => (this.figures(b).peak_db > this.figures(a).peak_db ? b : a));
    const by = `${loudest.name} reaches ${figure(this.figures(loudest).peak_db, 1, true)} dBFS`;
    if (this.format === "wav32f") return `${by}: float files hold it as it is.`;
    return `${by}. In 24 bits lower than what is heard, so that none clips and the balance stays: ${this.chart.lowered}. Float keeps the level.`;
  },
  figures(output) {
    return this.chart.whole && this.chart.whole[output.id];
  },
  draw() {
    if (!this.chart) return;
    const { sheet, chart } = this;
    const rows = chart.outputs;
    const { top: above, bottom: below } = sheet.margin;
    if (!sheet.begin(above + KIT_ROW + (rows.length - 1) * ROW + 4 + below)) return;
    const x = this.axis();
    drawBars(sheet, x, chart.bars);
    for (const [, words, from] of FIGURES) sheet.text(words, sheet.width - from, sheet.top - 8, "soft", "right");
    let top = sheet.top;
    const places = rows.map((output) => {
      const row = output.id === "kit" ? KIT_ROW : ROW;
      top += row;
      return { output, middle: top - row / 2, half: row / 2 - 1 };
    });
    drawWaves(sheet, x, places.map((place) => this.wave(place)).filter(Boolean), () => this.kept.soon());
    for (const { output, middle, half } of places) this.row(output, middle, half);
    this.drawSong(x);
    if (!chart.whole) sheet.text("the whole song is being rendered …", (sheet.left + sheet.right) / 2, sheet.top + KIT_ROW / 2, "ask", "center");
  },
  wave({ output, middle, half }) {
    const found = this.figures(output);
    if (!found || found.peak_db <= -90) return null;
    const kit = output.id === "kit";
    const full = kit ? 1 : 10 ** (Math.max(found.peak_db, QUIETEST_DB) / 20);
    return { address: rendered(this.chart.key, output.id), middle, half, full, colour: kit ? "ink" : "soft" };
  },
  row(output, middle, half) {
    const { sheet, chart } = this;
    sheet.text(output.name.replace(/^(group|path|stem) /, ""), 12, middle, output.piece === "stem" ? "soft" : "ink", "left", '12px "Sheet", sans-serif');
    const found = this.figures(output);
    if (!found) return;
    const kit = output.id === "kit";
    if (kit) this.aim(middle, half);
    const loud = found.overs > 0 || (kit && found.peak_db > chart.wanted_peak_db + 0.05);
    for (const [key, , from] of FIGURES) {
      const words = found[key] > -90 ? figure(found[key], 1) : "–";
      sheet.text(words, sheet.width - from, middle, loud && key === "peak_db" ? "ask" : kit ? "ink" : "soft", "right");
    }
  },
  /** The kit's wanted peak as dashed lines on both sides. */
  aim(middle, half) {
    const { sheet, chart } = this;
    const away = half * 10 ** (chart.wanted_peak_db / 20);
    for (const y of [middle - away, middle + away]) sheet.line(sheet.left, y, sheet.right, y, "ask", 1, [3, 4]);
    sheet.text(figure(chart.wanted_peak_db, 0), sheet.right + 4, middle - away, "ask");
  },
  print() {
    return this.$store.page.act("print-now", { format: this.format });
  },
  title(p) {
    const lower = p.lowered ? `, lower: ${p.lowered}` : "";
    return `${p.at.slice(0, 16).replace("T", " ")}, ${p.format}, plan version ${p.version}${lower}`;
  },
  level,
  zip(p) {
    return `/s/${boot.session}/prints/${p.id}.zip`;
  },
  accountOf(p) {
    return `/s/${boot.session}/prints/${p.id}/account.html`;
  },
  link(p, f) {
    return `/s/${boot.session}/prints/${p.id}/${encodeURIComponent(f.file)}`;
  },
}));

registerPage();
registerListen();
start();
