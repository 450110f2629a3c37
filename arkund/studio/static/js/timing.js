// Timing: the song folded by bars, and one moment in all mics.
import { clamp, figure } from "./lib/geometry.js";
import { charted } from "./lib/charted.js";
import { registerListen } from "./lib/listen.js";
import { Alpine, boot, registerPage, start } from "./lib/page.js";
import { folded, ROW } from "./folded.js";
import { grid } from "./grid.js";
import { moment } from "./moment.js";

const SAME_PX = 9;
const STEPS = { plain: 1, shift: 0.1 }; // ms by arrow key; with alt one sample
const REST_MS = 450; // after the last step by keys

Alpine.data("moment", moment);

Alpine.data("timing", () => ({
  ...grid,
  ...folded,
  ...charted({ left: 64, right: 122, top: 26, bottom: 8 }),
  first: null,
  last: null,
  chosen: null,
  byBar: new Map(),
  drift: new Map(), // ms by bar: the whole kit over some bars
  span: [-0.12, null],
  count: 0, // bars
  dragged: null, // the chosen glyph under the pointer
  anchor: null,
  stepped: null, // a stroke that keys are moving, and how far

  begin() {
    this.hear("keydown", (e) => this.key(e));
    this.hear("acting", () => this.rest());
    this.$refs.scroll.addEventListener("scroll", () => this.kept.soon(), { passive: true });
    this.hear("playhead", (e) => (this.now = e.detail));
    this.pointer((e) => this.down(e), (e) => this.moveTo(e), (e) => this.up(e));
    this.$refs.canvas.addEventListener("wheel", (e) => this.wheel(e), { passive: false });
  },
  take(chart) {
    if (this.chart === null) this.settings = { ...chart.settings };
    this.byBar = new Map();
    for (const hit of chart.hits) {
      if (hit[1] < 0) continue;
      if (!this.byBar.has(hit[1])) this.byBar.set(hit[1], []);
      this.byBar.get(hit[1]).push(hit);
    }
    this.drift = new Map(chart.drift);
    const bars = Math.max(...this.byBar.keys(), 0) + 1;
    this.$refs.all.style.height = `${this.sheet.margin.top + bars * ROW + this.sheet.margin.bottom}px`;
    this.count = bars;
    if (this.chosen) this.choose(chart.hits.find((h) => h[0] === this.chosen[0] && h[6] === this.chosen[6]) || null);
  },
  beats() {
    return Math.max(...this.chart.bars.beats, 1);
  },
  axis() {
    return this.sheet.x(this.span[0], this.span[1] ?? this.beats() - 0.02);
  },
  wheel(event) {
    if (!event.ctrlKey) return; // plain wheels scroll through the bars
    event.preventDefault();
    const x = this.axis();
    const at = x.back(event.offsetX);
    const by = event.deltaY > 0 ? 1.25 : 0.8;
    const low = Math.max(at - (at - x.low) * by, -0.12);
    const high = Math.min(at + (x.high - at) * by, this.beats() - 0.02);
    if (high - low > 0.02) this.span = [low, high];
    this.kept.soon();
  },
  whole() {
    this.span = [-0.12, null];
    this.kept.soon();
  },
  barAt(y) {
    return clamp(Math.floor((y + this.$refs.scroll.scrollTop - this.sheet.top) / ROW), 0, this.count - 1);
  },
  down(event) {
    if (!this.chart) return;
    const bar = this.barAt(event.offsetY);
    const x = this.axis();
    const near = (this.byBar.get(bar) || []).map((h) => [Math.abs(x.to(h[2]) - event.offsetX), h]).sort((a, b) => a[0] - b[0])[0];
    if (near && near[0] < SAME_PX) {
      this.choose(near[1]);
      this.dragged = { from: event.offsetX, to: event.offsetX };
    }
    else [this.anchor, this.first, this.last] = [bar, bar, bar];
    this.kept.soon();
  },
  moveTo(event) {
    if (this.dragged) {
      this.dragged.to = event.offsetX;
      this.kept.soon();
      return;
    }
    if (this.anchor === null || this.anchor === undefined) return;
    const bar = this.barAt(event.offsetY);
    [this.first, this.last] = [Math.min(bar, this.anchor), Math.max(bar, this.anchor)];
    this.kept.soon();
  },
  up(event) {
    const { dragged } = this;
    this.anchor = null;
    this.dragged = null;
    if (!dragged || Math.abs(event.offsetX - dragged.from) < 3 || !this.chosen) return;
    const x = this.axis();
    this.nudge((x.back(event.offsetX) - x.back(dragged.from)) * this.chart.beat_ms[this.chosen[1]]);
  },
  choose(hit) {
    if (hit?.[6] !== this.stepped?.hit[6]) this.rest();
    this.chosen = hit;
    window.dispatchEvent(new CustomEvent("moment", { detail: hit ? { at: hit[5], piece: hit[0] } : null }));
    this.kept.soon();
  },
  next(step) {
    const all = this.chart.hits.filter((h) => h[1] >= 0);
    const now = this.chosen ? all.indexOf(this.chosen) : -1;
    const hit = all[clamp(now + step, 0, all.length - 1)];
    if (!hit) return;
    const y = hit[1] * ROW;
    const { scroll } = this.$refs;
    if (y < scroll.scrollTop || y > scroll.scrollTop + scroll.clientHeight - 3 * ROW) scroll.scrollTop = y - scroll.clientHeight / 2;
    this.choose(hit);
  },
  key(event) {
    if (!this.chart || event.target.closest("input, select, textarea") || event.ctrlKey || event.metaKey) return;
    const by = event.altKey ? 1000 / boot.rate : event.shiftKey ? STEPS.shift : STEPS.plain;
    const actions = {
      n: () => this.next(1),
      p: () => this.next(-1),
      ArrowLeft: () => this.chosen && this.step(-by),
      ArrowRight: () => this.chosen && this.step(by),
      t: () => this.tap(),
      q: () => this.first !== null && this.quantise(),
      Escape: () => this.choose(null),
    };
    if (!actions[event.key]) return;
    event.preventDefault();
    actions[event.key]();
  },
  /** Step the chosen stroke: seen at once, written once, when the keys rest or go elsewhere. */
  step(ms) {
    clearTimeout(this.stepped?.timer);
    const by_ms = (this.stepped?.by_ms || 0) + ms;
    this.stepped = { hit: this.chosen, by_ms, timer: setTimeout(() => this.rest(), REST_MS) };
    this.kept.soon();
  },
  rest() {
    const { stepped } = this;
    if (!stepped) return;
    clearTimeout(stepped.timer);
    this.stepped = null;
    this.moveStroke(stepped.hit, stepped.by_ms);
  },
  nudge(ms) {
    return this.moveStroke(this.chosen, ms);
  },
  moveStroke(hit, by_ms) {
    return this.$store.page.act("stroke", { time_s: hit[6], by_ms });
  },
  steppedWords() {
    return this.stepped ? `, ${this.ms(this.stepped.by_ms)}` : "";
  },
  typeOff(event) {
    const to = Number(event.target.value);
    if (this.chosen && Number.isFinite(to)) this.nudge(to - this.chosen[3]);
  },
  chosenOff() {
    return this.chosen ? this.chosen[3] : 0;
  },
  hitWords() {
    if (!this.chosen) return "Click a glyph to choose its stroke; n and p go on.";
    const [piece, bar, place, , ghost, , , grace] = this.chosen;
    return `${ghost ? "ghost on the " : ""}${grace ? "flam on the " : ""}${piece}, bar ${bar + 1} beat ${figure(place + 1, 2)}${this.steppedWords()}`;
  },
  tempo(key) {
    return this.chart ? this.chart.tempo[key] : 0;
  },
  tempoWords() {
    const changes = this.chart ? this.chart.tempo.changes.length : 0;
    return changes ? `${changes} change${changes > 1 ? "s" : ""} later` : "";
  },
  setTempo(key, event) {
    this.$store.page.move({ [`tempo.${key}`]: Number(event.target.value) }, `${key === "bpm" ? "Tempo" : "First bar at"} ${event.target.value}`);
  },
  setLine(event) {
    return this.$store.page.act("line", { bar: this.first, time_s: Number(event.target.value) });
  },
  lineTime() {
    return this.chart && this.first !== null ? this.chart.bars.lines_s[this.first] : 0;
  },
  cuts() {
    return this.chart ? this.chart.cuts : 0;
  },
  loneCuts() {
    return this.chart ? this.chart.lone_cuts : 0;
  },
  byPiece() {
    return this.chart ? this.chart.by_piece : [];
  },
  bySection() {
    return this.chart ? this.chart.by_section : [];
  },
  sectionWords(s, piece) {
    const p = s.pieces.find((each) => each.piece === piece);
    return p ? `${figure(p.mean_ms, 1, true)} ± ${figure(p.spread_ms, 1)} ms` : "–";
  },
  flams() {
    return this.chart ? this.chart.flams : [];
  },
  toFlam(f) {
    const hit = this.chart.hits.find((h) => Math.abs(h[5] - f.time_s) < 1e-4);
    if (hit) {
      this.$refs.scroll.scrollTop = hit[1] * ROW - this.$refs.scroll.clientHeight / 2;
      this.choose(hit);
    }
  },
  ms(v) {
    return `${figure(v, 1, true)} ms`;
  },
  chosenWords() {
    if (this.first === null) return "Drag over rows to choose bars.";
    return this.first === this.last ? `bar ${this.first + 1}` : `bars ${this.first + 1} to ${this.last + 1}`;
  },
  loopBars() {
    const { lines_s } = this.chart.bars;
    window.dispatchEvent(new CustomEvent("loop", { detail: { start: lines_s[this.first], stop: lines_s[Math.min(this.last + 1, lines_s.length - 1)] } }));
  },
}));

registerPage();
registerListen();
start();
