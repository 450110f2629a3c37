// Load: every mic over the song, the hits above, names and roles beside.
import { clamp, figure } from "./lib/geometry.js";
import { charted } from "./lib/charted.js";
import { registerListen } from "./lib/listen.js";
import { Alpine, registerPage, start } from "./lib/page.js";
import { school } from "./lib/school.js";
import { drawBars, song } from "./lib/song.js";
import { drawWaves, recorded } from "./lib/waves.js";

const ROW = [18, 40]; // a mic's height: what the window leaves, between these
const BELOW = 64; // the listening bar
const LANE = 15;
const NEAR_S = 0.05;

Alpine.data("load", () => ({
  ...charted({ left: 92, right: 12, top: 40, bottom: 26 }),
  ...song,
  ...school,
  marked: null,
  templateName: "",
  line: null, // the bar line under the pointer
  addPiece: "snare",

  begin() {
    this.hear("keydown", (e) => this.key(e));
    this.songBegin((time, y) => this.mark(time, y));
  },
  hitPieces() {
    return this.chart ? Object.keys(this.chart.hits) : [];
  },
  mics() {
    return this.chart ? this.chart.mics : [];
  },
  pieces() {
    return this.chart ? this.chart.pieces : [];
  },
  roles() {
    return this.chart ? this.chart.roles : [];
  },
  sections() {
    return this.chart ? this.chart.bars.sections : [];
  },
  nameSection(i, event) {
    const name = event.target.value.trim();
    const kept = this.sections().map((s, k) => (k === i ? { ...s, name } : s)).filter((s) => s.name);
    return this.$store.page.move({ sections: kept }, name ? `Section “${name}”` : "Section taken away");
  },
  /** A section begins at the bar line nearest to the mark. */
  addSection() {
    const { lines_s } = this.chart.bars;
    const far = lines_s.map((at) => Math.abs(at - this.marked.time));
    const bar = far.indexOf(Math.min(...far));
    const kept = this.sections().filter((s) => s.bar !== bar);
    const all = [...kept, { name: `bar ${bar + 1}`, bar }].sort((a, b) => a.bar - b.bar);
    return this.$store.page.move({ sections: all }, `Section at bar ${bar + 1}`);
  },
  keepTemplate() {
    return this.$store.page.act("template", { name: this.templateName });
  },
  backing(key) {
    return this.chart ? this.chart.backing[key] : null;
  },
  hasBacking() {
    return Boolean(this.backing("name"));
  },
  backingName() {
    return this.backing("name") || "none";
  },
  setBacking(key, value) {
    const words = { on: value ? "Backing track heard" : "Backing track silent", level_db: `Backing track ${value} dB`, offset_ms: `Backing track later by ${value} ms` };
    this.$store.page.move({ [`backing.${key}`]: value }, words[key]);
  },
  typeBacking(key, event) {
    this.setBacking(key, Number(event.target.value));
  },
  async loadBacking(event) {
    const [file] = event.target.files;
    event.target.value = "";
    if (file) await this.$store.page.send("take-in", file, { what: "backing" });
  },
  heardPieces() {
    return this.chart ? this.chart.heard.pieces : [];
  },
  heardRows() {
    return this.chart ? this.chart.heard.rows : [];
  },
  cellWords(cell) {
    if (!cell) return "–";
    return cell[1] === null ? figure(cell[0], 0) : `${figure(cell[0], 0)} · ${figure(cell[1], 1)} ms`;
  },
  /** A close mic should be the one in which its own piece stands out. */
  fits(row) {
    const mic = this.mics().find((m) => m.id === row.id);
    return !mic || mic.piece === "kit" || mic.piece === row.loudest;
  },
  warnings() {
    return this.chart ? this.chart.warnings : [];
  },
  sure(mic) {
    return `${Math.round(mic.confidence * 100)} %`;
  },
  rename(mic, key, event) {
    this.$store.page.move({ [`mics.${mic.id}.${key}`]: event.target.value }, `${mic.name}: ${key} is ${event.target.value}`);
  },
  mark(time, y) {
    const lane = Math.floor((y - this.sheet.top) / LANE);
    const piece = this.hitPieces()[lane];
    let best = null;
    for (const p of piece ? [piece] : this.hitPieces()) {
      for (const [t] of this.chart.hits[p]) if (Math.abs(t - time) < Math.abs((best ? best.time : -9) - time)) best = { time: t, piece: p };
    }
    const reach = Math.max((this.until - this.from) / 120, NEAR_S / 10);
    this.marked = best && Math.abs(best.time - time) < reach ? best : { time, piece: "" };
    if (piece) this.addPiece = piece;
  },
  /** A bar line is dragged above the chart; its neighbours stay. */
  down(event) {
    if (!this.chart || event.offsetY >= this.sheet.top) return song.down.call(this, event);
    const x = this.axis();
    const { lines_s } = this.chart.bars;
    const near = lines_s.map((at, bar) => ({ bar, far: Math.abs(x.to(at) - event.offsetX) })).sort((a, b) => a.far - b.far)[0];
    if (near && near.far < 7) this.line = { bar: near.bar, at: lines_s[near.bar], from: event.offsetX };
  },
  moveTo(event) {
    if (!this.line) return song.moveTo.call(this, event);
    this.line.at = this.axis().back(event.offsetX);
    this.kept.soon();
  },
  up(event) {
    const { line } = this;
    if (!line) return song.up.call(this, event);
    this.line = null;
    this.kept.soon();
    if (Math.abs(event.offsetX - line.from) > 2) this.$store.page.act("line", { bar: line.bar, time_s: Number(line.at.toFixed(4)) });
  },
  markedWords() {
    if (!this.marked) return "";
    return `${this.marked.piece ? `${this.marked.piece} hit` : "mark"} at ${this.marked.time.toFixed(4)} s`;
  },
  addHit() {
    return this.$store.page.act("hit", { change: { kind: "add", piece: this.addPiece, time_s: this.marked.time } });
  },
  removeHit() {
    const { piece, time } = this.marked;
    this.marked = null;
    return this.$store.page.act("hit", { change: { kind: "remove", piece, time_s: time } });
  },
  next(step) {
    const all = this.hitPieces().flatMap((p) => this.chart.hits[p].map(([t]) => ({ time: t, piece: p })));
    all.sort((a, b) => a.time - b.time);
    const now = this.marked ? this.marked.time : this.from;
    const found = step > 0 ? all.find((h) => h.time > now + 1e-5) : all.findLast((h) => h.time < now - 1e-5);
    if (!found) return;
    this.marked = found;
    if (found.time < this.from || found.time > this.until) {
      const span = this.until - this.from;
      this.from = clamp(found.time - span / 2, 0, this.chart.length_s - span);
      this.until = this.from + span;
    }
    this.kept.soon();
  },
  key(event) {
    if (!this.chart || event.target.closest("input, select, textarea") || event.ctrlKey || event.metaKey) return;
    const actions = {
      n: () => this.next(1),
      p: () => this.next(-1),
      "+": () => this.zoom(0.5, this.marked ? this.marked.time : undefined),
      "-": () => this.zoom(2),
      ArrowLeft: () => this.shift(-0.2),
      ArrowRight: () => this.shift(0.2),
      a: () => this.marked && this.addHit(),
      Delete: () => this.marked?.piece && this.removeHit(),
    };
    if (actions[event.key]) {
      event.preventDefault();
      actions[event.key]();
    }
  },
  draw() {
    if (!this.chart) return;
    const { sheet, chart } = this;
    const lanes = Object.keys(chart.hits).filter((p) => chart.hits[p].length);
    const rest = sheet.margin.top + lanes.length * LANE + 8 + sheet.margin.bottom;
    const free = window.innerHeight - BELOW - (sheet.canvas.getBoundingClientRect().top + window.scrollY) - rest;
    this.row = Math.min(Math.max(Math.floor(free / chart.mics.length), ROW[0]), ROW[1]);
    const height = rest + chart.mics.length * this.row;
    if (!sheet.begin(height)) return;
    const x = this.axis();
    drawBars(sheet, x, chart.bars);
    lanes.forEach((piece, i) => this.lane(piece, sheet.top + 3 + (i + 0.5) * LANE, x));
    const base = sheet.top + lanes.length * LANE + 8;
    chart.mics.forEach((mic, i) => this.named(mic, base + (i + 0.5) * this.row));
    drawWaves(sheet, x, chart.mics.map((mic, i) => this.wave(mic, base + (i + 0.5) * this.row)).filter(Boolean), () => this.kept.soon());
    this.drawSong(x);
    if (this.line) {
      sheet.line(x.to(this.line.at), 0, x.to(this.line.at), sheet.bottom, "yours", 1, [3, 3]);
      sheet.text(`bar ${this.line.bar + 1} at ${this.line.at.toFixed(3)} s`, x.to(this.line.at) + 6, sheet.top + 8, "yours");
    }
    if (this.marked) sheet.line(x.to(this.marked.time), sheet.top, x.to(this.marked.time), sheet.bottom, "ask", 1);
  },
  lane(piece, y, x) {
    const { sheet, chart } = this;
    sheet.glyph(piece, 16, y, 5, "soft");
    sheet.text(piece, 28, y, "soft", "left", '12px "Sheet", sans-serif');
    const shown = chart.hits[piece].filter(([t]) => t >= this.from && t <= this.until);
    if (shown.length > (sheet.right - sheet.left) / 9) {
      for (const colour of ["soft", "ink", "yours"]) {
        const mine = shown.filter(([, , ghost, hand]) => (hand ? "yours" : ghost ? "soft" : "ink") === colour);
        const tall = (i) => (mine[i][2] ? 2 : 2 + (mine[i][1] / 127) * 4);
        sheet.strokes(mine.map(([t]) => x.to(t)), y, tall, colour);
      }
      return;
    }
    for (const [t, velocity, ghost, hand] of shown) {
      sheet.glyph(piece, x.to(t), y, ghost ? 3 : 2.5 + (velocity / 127) * 3, hand ? "yours" : "ink", ghost);
    }
  },
  named(mic, middle) {
    const { sheet } = this;
    sheet.text(mic.name, 12, middle, mic.missing ? "bad" : "ink", "left", '12px "Sheet", sans-serif');
    if ((mic.peak_db ?? -99) > -0.05) sheet.text("full", sheet.left - 6, middle, "bad", "right", '11px "Sheet", sans-serif');
  },
  wave(mic, middle) {
    if (mic.missing) return null;
    return { address: recorded(mic), middle, half: this.row / 2 - 1, full: 10 ** ((mic.peak_db ?? 0) / 20) };
  },
}));

registerPage();
registerListen();
start();
