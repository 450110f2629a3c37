// Kit: the card, each figure on its own scale between raw and now, and the whole kit's average kick and back-beat.
import { clamp, figure, scale } from "./lib/geometry.js";
import { byEar } from "./lib/by_ear.js";
import { charted } from "./lib/charted.js";
import { registerListen } from "./lib/listen.js";
import { Alpine, boot, registerPage, start } from "./lib/page.js";
import { school } from "./lib/school.js";
import { Sheet } from "./lib/sheet.js";

const ROW = 25; // pixels
const WORDS = 356;
const SAID = 216;
const HITS_HEIGHT = 190;
const LEAST_SPAN = 6; // dB of a scale
const DEEP_DB = 48;
const MET = 0.05;
const FONT = '13px "Sheet", sans-serif';
const NAMES = { kick: "average kick", snare: "average back-beat" };

Alpine.data("kit", () => ({
  ...charted({ left: WORDS, right: SAID, top: 10, bottom: 10 }),
  ...school,
  ...byEar,

  begin() {
    this.hear("keydown", (event) => this.byKey(event));
    this.hits = new Sheet(this.$refs.hits, { left: 44, right: 16, top: 24, bottom: 30 });
  },
  known() {
    return (this.chart?.card || []).filter((row) => row.value !== null);
  },
  words() {
    if (!this.chart) return "";
    const met = this.known().filter((row) => row.off <= MET).length;
    const kept = this.lost().filter((row) => row.value !== null);
    return `${met} of ${this.known().length} figures in range, ${kept.filter((row) => row.off <= MET).length} of ${kept.length} costs within limits`;
  },
  /** What misses its target, with what usually mends it. */
  held() {
    return [...(this.chart?.card || []), ...this.lost()].filter((row) => row.help);
  },
  lost() {
    return this.chart?.lost || [];
  },
  done() {
    return this.chart?.done || [];
  },
  countWords(step) {
    return `${step.count} Move${step.count === 1 ? "" : "s"}`;
  },
  openWords(step) {
    return `to the page of ${step.name}`;
  },
  linkOf(step) {
    return `/s/${boot.session}/${step}/`;
  },
  nameOf(step) {
    return { lineup: "Line up" }[step] || step[0].toUpperCase() + step.slice(1);
  },
  spanWords() {
    const [from, to] = this.chart?.span_s || [];
    if (!this.chart) return "";
    const own = this.chart.card.some((row) => row.reference !== null) ? "; diamonds: the kit that this style was taken from" : "";
    const calm = this.chart.calm_s ? `; upright marks: the calmest part, ${this.chart.calm_s.join(" to ")} s` : "";
    return `Measured over the busiest part, ${from} to ${to} s${calm}${own}. "without this step" in the bar below plays the raw kit at the same loudness.`;
  },
  /** A figure's own scale: from the target's ends, raw and now, so that the target lies in the middle of what is looked at. */
  scaleOf(row) {
    const raw = row.against === "change" ? 0 : row.raw;
    const ends = row.target.filter((edge) => edge !== null);
    const all = [...ends, row.value, raw, row.calm, row.reference].filter((v) => v !== null);
    const low = Math.min(...all);
    const high = Math.max(...all, low + LEAST_SPAN);
    const room = 0.08 * (high - low);
    return { raw, axis: scale(low - room, high + room, this.sheet.left, this.sheet.right) };
  },
  draw() {
    if (!this.chart) return;
    this.drawHits();
    const { card, lost } = this.chart;
    if (!this.sheet.begin((card.length + 1 + lost.length) * ROW + 20)) return;
    const { sheet } = this;
    const y = (row) => sheet.top + (row + 0.5) * ROW;
    card.forEach((row, i) => this.drawRow(row, y(i)));
    sheet.text("what must not be lost, against the raw sum", sheet.left, y(card.length), "soft", "left", FONT);
    lost.forEach((row, i) => this.drawRow(row, y(card.length + 1 + i)));
  },
  drawRow(row, y) {
    const { sheet } = this;
    sheet.text(row.words + (row.against === "change" ? ", change" : ""), sheet.left - 12, y, row.value === null ? "soft" : "ink", "right", FONT);
    sheet.line(sheet.left, y, sheet.right, y, "fine");
    if (row.value === null) {
      sheet.text("too few hits to measure", sheet.right + 12, y, "soft", "left", FONT);
      return;
    }
    const { raw, axis } = this.scaleOf(row);
    const [low, high] = row.target.map((edge, i) => (edge === null ? (i ? sheet.right : sheet.left) : axis.to(edge)));
    sheet.c.fillStyle = sheet.colour.raised;
    sheet.c.fillRect(low, y - 8, high - low, 16);
    sheet.hatch(low, y - 8, high - low, 16, "line", 5);
    if (row.target[0] !== null) sheet.line(low, y - 8, low, y + 8, "soft");
    if (row.target[1] !== null) sheet.line(high, y - 8, high, y + 8, "soft");
    const met = row.off <= MET;
    const colour = met ? "yours" : "ask";
    const at = axis.to(row.value);
    if (raw !== null) {
      sheet.line(axis.to(raw), y, at, y, colour, 2);
      this.dot(axis.to(raw), y, "soft", false);
    }
    this.dot(at, y, colour, true);
    if (row.reference !== null) this.diamond(axis.to(row.reference), y);
    if (row.calm !== null) this.tick(clamp(axis.to(row.calm), sheet.left, sheet.right), y);
    const digits = row.unit === "%" ? 0 : 1;
    const was = row.against === "change" || row.raw === null ? "" : `${figure(row.raw, digits)} → `;
    const state = met ? "" : `, off by ${figure(row.off, digits)}`;
    const told = row.said || `${was}${figure(row.value, digits, row.against === "change")} ${row.unit}${state}`;
    sheet.text(told, sheet.right + 12, y, met ? "ink" : "ask", "left");
  },
  /** The calmest part of the song, as a mark of its own shape. */
  tick(x, y) {
    const { sheet } = this;
    sheet.line(x, y - 10, x, y + 10, "ink", 1.5);
    sheet.line(x - 3, y - 10, x + 3, y - 10, "ink", 1.5);
    sheet.line(x - 3, y + 10, x + 3, y + 10, "ink", 1.5);
  },
  /** The kit that a style of one's own was taken from. */
  diamond(x, y) {
    const { sheet } = this;
    const corners = [[x, y - 6], [x + 6, y], [x, y + 6], [x - 6, y], [x, y - 6]];
    sheet.path(corners, "ink", 1.5);
  },
  dot(x, y, colour, full) {
    const { c } = this.sheet;
    c.beginPath();
    c.arc(x, y, full ? 5 : 4, 0, 7);
    c.fillStyle = this.sheet.colour[full ? colour : "sheet"];
    c.fill();
    c.strokeStyle = this.sheet.colour[colour];
    c.lineWidth = 1.5;
    c.stroke();
  },
  /** Both envelopes brought to one peak, so that their shape is compared. */
  drawHits() {
    if (!this.hits.begin(HITS_HEIGHT)) return;
    const sheet = this.hits;
    const pieces = Object.entries(this.chart.hits);
    const width = (sheet.right - sheet.left + 40) / Math.max(pieces.length, 1) - 40;
    pieces.forEach(([piece, { raw, now }], i) => {
      const left = sheet.left + i * (width + 40);
      const x = scale(-10, 250, left, left + width);
      const y = scale(-DEEP_DB, 2, sheet.bottom, sheet.top);
      for (const ms of [0, 50, 100, 150, 200, 250]) {
        sheet.line(x.to(ms), sheet.top, x.to(ms), sheet.bottom, "fine");
        sheet.text(`${ms}`, x.to(ms), sheet.bottom + 12, "soft", "center");
      }
      for (const db of [0, -12, -24, -36, -48]) {
        sheet.line(left, y.to(db), left + width, y.to(db), "fine");
        sheet.text(figure(db, 0), left - 7, y.to(db), "soft", "right");
      }
      const line = (e) => {
        const top = Math.max(...e.level_db);
        return e.time_ms.map((t, k) => [x.to(t), clamp(y.to(e.level_db[k] - top), sheet.top, sheet.bottom)]);
      };
      if (raw) sheet.path(line(raw), "soft", 1.3);
      if (now) sheet.path(line(now), "yours", 2.4);
      sheet.text(NAMES[piece], left, sheet.top - 11, "soft", "left");
    });
  },
}));

registerPage();
registerListen();
start();
