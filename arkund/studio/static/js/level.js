// Level: the spread of each mic's own hits against the window.
import { clamp, figure } from "./lib/geometry.js";
import { charted } from "./lib/charted.js";
import { registerListen } from "./lib/listen.js";
import { Alpine, registerPage, start, within } from "./lib/page.js";

const ROW = 27;
const LOW = -48;

Alpine.data("level", () => ({
  ...charted({ left: 92, right: 84, top: 26, bottom: 34 }),
  drag: null,

  begin() {
    this.pointer((e) => this.down(e), (e) => this.moveTo(e), () => this.up());
  },
  schools() {
    return this.chart ? this.chart.schools : [];
  },
  schoolName(name) {
    return { peaks: "strong peaks", headroom: "much headroom" }[name];
  },
  isSchool(s) {
    return JSON.stringify(s.window) === JSON.stringify(this.chart.window);
  },
  setSchool(s) {
    this.$store.page.move({ window: s.window }, `Window: ${this.schoolName(s.name)}`);
  },
  limit(key) {
    return this.chart ? this.chart.window[key] : 0;
  },
  setLimit(key, event) {
    this.$store.page.move({ [`window.${key}`]: Number(event.target.value) }, `Window ${key.replace("_db", "").replace("_", " ")} ${event.target.value} dB`);
  },
  kitWords() {
    return this.chart ? `${figure(this.chart.kit_peak_db, 1)} dBFS` : "";
  },
  kitOver() {
    return this.chart ? this.chart.kit_peak_db > this.chart.window.kit_db : false;
  },
  sectionPieces() {
    return this.chart ? Object.keys(this.chart.sections) : [];
  },
  sectionNames() {
    return this.$store.page.sections || [];
  },
  sectionLevel(piece, bar) {
    const found = this.chart.sections[piece].find((s) => s.bar === bar);
    return found ? figure(found.against_song_db, 1, true) : "–";
  },
  sectionFar(piece, bar) {
    const found = this.chart.sections[piece].find((s) => s.bar === bar);
    return Boolean(found) && Math.abs(found.against_song_db) >= 3;
  },
  /** Before each of this mic's own hits, however rare. */
  jump(row) {
    this.$store.page.choose(row.id);
  },
  rows() {
    return this.chart ? this.chart.rows : [];
  },
  type(row, event) {
    const value = within("mic", "trim_db", Number(event.target.value), 2);
    this.$store.page.move({ [`mics.${row.id}.trim_db`]: value }, `${row.name}: trim ${figure(value, 1, true)} dB`);
  },
  down(event) {
    const row = this.rows()[Math.floor((event.offsetY - this.sheet.top) / ROW)];
    if (!row) return;
    this.drag = { row, x: event.offsetX, trim: row.trim_db };
  },
  moveTo(event) {
    if (!this.drag) return;
    const perPixel = (0 - LOW) / (this.sheet.right - this.sheet.left);
    this.drag.row.trim_db = within("mic", "trim_db", this.drag.trim + (event.offsetX - this.drag.x) * perPixel);
    this.$store.page.try({ [`mics.${this.drag.row.id}.trim_db`]: this.drag.row.trim_db });
    this.kept.soon();
  },
  up() {
    const drag = this.drag;
    this.drag = null;
    if (drag && drag.row.trim_db !== drag.trim) {
      this.$store.page.move({ [`mics.${drag.row.id}.trim_db`]: drag.row.trim_db }, `${drag.row.name}: trim ${figure(drag.row.trim_db, 1, true)} dB`);
    }
  },
  draw() {
    if (!this.chart) return;
    const { sheet } = this;
    const rows = this.rows();
    if (!sheet.begin(sheet.margin.top + rows.length * ROW + sheet.margin.bottom)) return;
    const x = sheet.x(LOW, 0);
    sheet.across(x, { count: 8, unit: "dBFS after the trim" });
    sheet.text("noise", sheet.right + 34, 12, "soft", "right");
    sheet.text("clips", sheet.right + 76, 12, "soft", "right");
    rows.forEach((row, i) => this.row(row, sheet.top + (i + 0.5) * ROW, x));
    sheet.frame();
    for (const note of this.$store.page.notes) {
      const i = rows.findIndex((r) => r.id === note.place);
      if (i >= 0 && note.state === "open") sheet.pin(note.number, sheet.left + 12, sheet.top + (i + 0.5) * ROW, note.state);
    }
  },
  row(row, y, x) {
    const { sheet } = this;
    sheet.line(sheet.left, y + ROW / 2, sheet.right, y + ROW / 2, "fine");
    sheet.hatch(x.to(row.low_db), y - ROW / 2 + 2, x.to(row.high_db) - x.to(row.low_db), ROW - 4, "line");
    sheet.glyph(row.piece === "kit" ? "crash" : row.piece, 14, y, 5, "soft");
    sheet.text(row.name, 26, y, "ink", "left", '12px "Sheet", sans-serif');
    const { c } = sheet;
    c.fillStyle = sheet.colour.ink;
    c.globalAlpha = 0.55;
    row.peaks_db.forEach((peak, i) => {
      const at = clamp(peak + row.trim_db, LOW, 0);
      const jitter = ((i * 7919) % 17) - 8;
      c.fillRect(x.to(at) - 1, y + jitter - 1, 2, 2);
    });
    c.globalAlpha = 1;
    const typical = row.typical_db + row.trim_db;
    const inside = typical >= row.low_db - 0.5 && typical <= row.high_db + 0.5;
    const tx = x.to(clamp(typical, LOW, 0));
    c.beginPath();
    c.moveTo(tx, y - 3);
    c.lineTo(tx - 5, y - 12);
    c.lineTo(tx + 5, y - 12);
    c.closePath();
    c.fillStyle = sheet.colour[inside ? "yours" : "ask"];
    c.fill();
    sheet.text(figure(row.noise_db + row.trim_db, 0), sheet.right + 34, y, "soft", "right");
    sheet.text(row.clipped ? `${row.clipped}` : "–", sheet.right + 76, y, row.clipped ? "bad" : "soft", "right");
  },
}));

registerPage();
registerListen();
start();
