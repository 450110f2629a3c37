// Line up: the arrival ladder of one drum.
import { figure } from "./lib/geometry.js";
import { charted } from "./lib/charted.js";
import { registerListen } from "./lib/listen.js";
import { Alpine, boot, registerPage, start, within } from "./lib/page.js";
import { get } from "./lib/server.js";

const ROW = 40;

const lateWords = (ms) => Math.abs(ms) < 0.005 ? "arrives with the reference" : `arrives ${figure(Math.abs(ms), 2)} ms ${ms < 0 ? "earlier" : "later"}`;
const polarityWords = (polarity) => (polarity < 0 ? "opposite polarity" : "same polarity");

Alpine.data("lineup", () => ({
  ...charted({ left: 92, right: 130, top: 34, bottom: 32 }),
  chosen: "",
  nullA: "",
  nullB: "",
  nullWords: "",
  drag: null,

  begin() {
    [this.nullA, this.nullB] = [this.paths()[0]?.id || "", this.paths()[1]?.id || ""];
    this.hear("keydown", (e) => this.key(e));
    this.pointer((e) => this.down(e), (e) => this.moveTo(e), () => this.up());
  },
  take(chart) {
    if (!chart.rows.some((r) => r.id === this.chosen)) this.chosen = (chart.rows.find((r) => !r.reference) || {}).id || "";
  },
  pieces() {
    return this.chart ? this.chart.pieces : [];
  },
  schools() {
    return this.chart?.schools || [];
  },
  schoolName(name) {
    return { drum: "within one drum", overheads: "to the overheads", polarity: "polarity only" }[name];
  },
  alignment(key) {
    return this.chart?.alignment ? this.chart.alignment[key] : "";
  },
  setSchool(name) {
    this.$store.page.move({ "alignment.school": name }, `Lined up ${this.schoolName(name)}`);
  },
  setAlignment(key, event) {
    const words = { rooms_nearer: "Rooms nearer by", temperature_c: "Room at" }[key];
    this.$store.page.move({ [`alignment.${key}`]: Number(event.target.value) }, `${words} ${event.target.value}`);
  },
  paths() {
    return boot.mics.map((m) => ({ id: `strip:${m.id}`, name: m.name }));
  },
  async nullTest() {
    this.nullWords = "…";
    try {
      const query = `a=${encodeURIComponent(this.nullA)}&b=${encodeURIComponent(this.nullB)}`;
      const { left_db, gain_db } = await get(`/s/${boot.session}/null?${query}`);
      this.nullWords = `${figure(left_db, 1, true)} dB left, at ${figure(gain_db, 1, true)} dB`;
    } catch (error) {
      this.nullWords = "";
      this.$store.page.say(error.message, true);
    }
  },
  rowSamples() {
    const r = this.row();
    return r ? `${figure(r.delay_ms / this.chart.sample_ms, 1, true)} samples, ${figure(r.delay_ms * this.chart.cm_per_ms, 1, true)} cm` : "";
  },
  row() {
    return this.chart ? this.chart.rows.find((r) => r.id === this.chosen) : null;
  },
  rowName() {
    return this.row() ? this.row().name : "";
  },
  rowDelay() {
    return this.row() ? this.row().delay_ms : 0;
  },
  rowInverted() {
    return Boolean(this.row()?.inverted);
  },
  rowWords() {
    const r = this.row();
    if (!r) return "";
    if (r.reference) return "the reference";
    if (r.arrival_ms === null) return "";
    const sure = r.sure ? "" : " – the hits disagree";
    const recorded = `as recorded ${lateWords(r.arrival_ms)} (${figure(r.distance_cm, 0, true)} cm), ${polarityWords(r.polarity)}, spread ${figure(r.spread_ms, 2)} ms${sure}`;
    const now = this.now(r);
    return this.isMoved(r) ? `now ${lateWords(now.late)}, ${polarityWords(now.polarity)}; ${recorded}` : recorded;
  },
  /** How much later than the reference a mic is as the plan has both, and in which polarity. */
  now(row) {
    const reference = this.chart.rows.find((r) => r.reference);
    const sign = (r) => (r?.inverted ? -1 : 1);
    return { late: row.arrival_ms + row.delay_ms - (reference?.delay_ms || 0), polarity: row.polarity * sign(row) * sign(reference) };
  },
  /** Whether that differs from how they were recorded. */
  isMoved(row) {
    const now = this.now(row);
    return Math.abs(now.late - row.arrival_ms) > 5e-4 || now.polarity !== row.polarity;
  },
  edges() {
    const short = (hz) => (hz >= 1000 ? `${hz / 1000}k` : hz);
    return this.chart?.sums ? this.chart.sums.edges.map(([a, b]) => `${short(a)}–${short(b)}`) : [];
  },
  /** Each mic with the reference, then all of them together. */
  sums() {
    const { pairs = [], together } = this.chart?.sums || {};
    if (pairs.length < 2) return pairs;
    const name = `all ${together.mics} at their levels (in step: ${this.num(together.most_db)})`;
    return [...pairs, { id: "together", name, ...together }];
  },
  num(v) {
    return figure(v, 1, true);
  },
  delayTo(value) {
    const delay = within("line_up", "delay_ms", value, 4);
    return this.$store.page.move({ [`mics.${this.chosen}.line_up.delay_ms`]: delay }, `${this.rowName()}: delay ${figure(delay, 2, true)} ms`);
  },
  typeDelay(event) {
    this.delayTo(Number(event.target.value));
  },
  flip() {
    const to = !this.rowInverted();
    this.$store.page.move({ [`mics.${this.chosen}.line_up.inverted`]: to }, `${this.rowName()}: polarity ${to ? "flipped" : "as recorded"}`);
  },
  key(event) {
    if (event.target.closest("input, select, textarea") || !this.row() || event.ctrlKey || event.metaKey) return;
    if (event.key === "i") this.flip();
    else if (event.key === "ArrowLeft" || event.key === "ArrowRight") {
      event.preventDefault();
      const step = event.altKey ? 1 : event.shiftKey ? 0.1 : this.chart.sample_ms;
      this.delayTo(this.rowDelay() + (event.key === "ArrowRight" ? step : -step));
    }
  },
  down(event) {
    const row = this.chart?.rows[Math.floor((event.offsetY - this.sheet.top) / ROW)];
    if (!row) return;
    this.chosen = row.id;
    this.drag = { row, x: event.offsetX, delay: row.delay_ms };
    this.kept.soon();
  },
  moveTo(event) {
    if (!this.drag) return;
    const x = this.axis();
    this.drag.row.delay_ms = within("line_up", "delay_ms", this.drag.delay + x.back(event.offsetX) - x.back(this.drag.x), 3);
    this.kept.soon();
  },
  up() {
    const drag = this.drag;
    this.drag = null;
    if (drag && Math.abs(drag.row.delay_ms - drag.delay) > 1e-3) this.delayTo(drag.row.delay_ms);
  },
  axis() {
    return this.sheet.x(-2.5, 14);
  },
  draw() {
    if (!this.chart) return;
    const { sheet, chart } = this;
    if (!sheet.begin(sheet.margin.top + chart.rows.length * ROW + sheet.margin.bottom)) return;
    const x = this.axis();
    sheet.across(x, { count: 16, unit: `ms after ${chart.piece}'s first sample, average of ${chart.hits} hits` });
    for (let cm = 0; cm <= 450; cm += 50) {
      const at = x.to(cm / chart.cm_per_ms);
      if (at > sheet.right) break;
      sheet.text(`${cm}`, at, sheet.top - 10, "soft", "center");
    }
    sheet.text("cm", sheet.right + 6, sheet.top - 10, "soft");
    sheet.line(x.to(0), sheet.top, x.to(0), sheet.bottom, "ink", 1, [2, 3]);
    chart.rows.forEach((row, i) => this.rung(row, sheet.top + (i + 0.5) * ROW, x));
    sheet.frame();
    for (const note of this.$store.page.notes) {
      const i = chart.rows.findIndex((r) => r.id === note.place);
      if (i >= 0) sheet.pin(note.number, sheet.left + 14, sheet.top + (i + 0.5) * ROW - 10, note.state);
    }
  },
  rung(row, y, x) {
    const { sheet, chart } = this;
    const mine = row.id === this.chosen;
    if (mine) {
      sheet.c.fillStyle = sheet.colour.raised;
      sheet.c.fillRect(sheet.left, y - ROW / 2, sheet.right - sheet.left, ROW);
    }
    sheet.line(sheet.left, y, sheet.right, y, "fine");
    sheet.text(row.name, 12, y, "ink", "left", '13px "Sheet", sans-serif');
    const sign = row.inverted ? -1 : 1;
    const points = [];
    row.wave.forEach((v, i) => {
      const px = x.to(i * chart.sample_ms - chart.before_ms + row.delay_ms);
      if (px >= sheet.left && px <= sheet.right) points.push([px, y - sign * v * (ROW / 2 - 3)]);
    });
    const changed = row.inverted || Math.abs(row.delay_ms) > 1e-6;
    sheet.path(points, changed ? "yours" : "ink", 1.3);
    if (row.arrival_ms !== null) {
      const at = x.to(row.arrival_ms + row.delay_ms);
      sheet.line(at, y - ROW / 2 + 4, at, y + ROW / 2 - 4, row.sure ? "ask" : "soft", 1.5, row.sure ? [] : [3, 3]);
      const now = this.now(row);
      sheet.text(`${figure(now.late, 2, true)} ms`, sheet.right + 8, y - 7, this.isMoved(row) ? "yours" : "soft");
      sheet.text(now.polarity < 0 ? "opposite" : "same polarity", sheet.right + 8, y + 8, now.polarity < 0 ? "bad" : "soft", "left", '12px "Sheet", sans-serif');
    } else if (row.reference) sheet.text("reference", sheet.right + 8, y, "soft", "left", '12px "Sheet", sans-serif');
  },
}));

registerPage();
registerListen();
start();
