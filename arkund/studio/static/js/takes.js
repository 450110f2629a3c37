// Takes: every bar of every take with its score, which of them are heard, and the joins between.
import { clamp, clock, figure } from "./lib/geometry.js";
import { charted } from "./lib/charted.js";
import { registerListen } from "./lib/listen.js";
import { Alpine, registerPage, start } from "./lib/page.js";

const ROW = 74;
const PART = 26;
const POOR = 60;
const WORST = 30; // the score at the foot of a column

Alpine.data("takes", () => ({
  ...charted({ left: 92, right: 14, top: 24, bottom: 32 }),
  cell: null, // [take, first bar, last bar]
  copied: null,
  anchor: null,
  join: -1, // the one that was heard last
  most: 0, // first values come with the chart
  fade: 0,

  begin() {
    this.hear("keydown", (e) => this.key(e));
    this.pointer((e) => this.down(e), (e) => this.moveTo(e), () => (this.anchor = null));
  },
  take(chart) {
    if (this.chart === null) [this.most, this.fade] = [chart.settings.most_joins, chart.settings.fade_ms];
  },
  takes() {
    return this.chart ? this.chart.takes : [];
  },
  joins() {
    return this.chart ? this.chart.joins : [];
  },
  comped() {
    return Boolean(this.chart?.comped);
  },
  known() {
    return Boolean(this.chart?.known);
  },
  len(t) {
    return clock(t.length_s);
  },
  mean(t) {
    const scores = t.bars.map((b) => b.score).filter((s) => s > 0);
    return scores.length ? figure(scores.reduce((a, b) => a + b, 0) / scores.length, 1) : "–";
  },
  offset(t) {
    return t.found ? `${figure(t.offset_ms, 1, true)} ms` : "–";
  },
  look(t) {
    return this.$store.page.act("take", { take: t.key, look: true });
  },
  choose(t) {
    return this.$store.page.act("take", { take: t.key });
  },
  axis() {
    return this.sheet.x(0, Math.max(this.chart.count, 8));
  },
  place(event) {
    const bar = clamp(Math.floor(this.axis().back(event.offsetX)), 0, this.chart.count - 1);
    return [Math.floor((event.offsetY - this.sheet.top) / ROW), bar];
  },
  down(event) {
    if (!this.known()) return;
    const [row, bar] = this.place(event);
    if (row < 0 || row >= this.takes().length) return;
    this.anchor = bar;
    this.cell = [row, bar, bar];
    this.kept.soon();
  },
  moveTo(event) {
    if (this.anchor === null || this.anchor === undefined || !this.cell) return;
    const [, bar] = this.place(event);
    this.cell = [this.cell[0], Math.min(bar, this.anchor), Math.max(bar, this.anchor)];
    this.kept.soon();
  },
  key(event) {
    if (!this.known() || event.target.closest("input, select, textarea") || event.ctrlKey || event.metaKey) return;
    const [row, first, last] = this.cell || [0, 0, 0];
    const to = (r, a, b) => {
      this.cell = [clamp(r, 0, this.takes().length - 1), clamp(a, 0, this.chart.count - 1), clamp(b, 0, this.chart.count - 1)];
      this.kept.soon();
    };
    const actions = {
      ArrowUp: () => to(row - 1, first, last),
      ArrowDown: () => to(row + 1, first, last),
      ArrowLeft: () => to(row, first - 1, event.shiftKey ? last : first - 1),
      ArrowRight: () => (event.shiftKey ? to(row, first, last + 1) : to(row, first + 1, first + 1)),
      Enter: () => this.cell && this.use(),
      j: () => this.hearJoin(1),
      m: () => this.moveJoin(),
      c: () => this.copy(),
    };
    if (!actions[event.key]) return;
    event.preventDefault();
    actions[event.key]();
  },
  act(action, more) {
    return this.$store.page.act("comp", { action, fade_ms: Number(this.fade), ...more });
  },
  use() {
    const [row, first_bar, last_bar] = this.cell;
    return this.act("use", { take: this.takes()[row].key, first_bar, last_bar });
  },
  copy() {
    this.copied = this.cell ? [...this.cell] : null;
  },
  /** Put the copied bars in the place of those chosen now, as often as they fit. */
  loopHere() {
    const [row, from] = this.copied;
    const length = this.copied[2] - from + 1;
    const first_bar = this.cell[1];
    return this.act("use", { take: this.takes()[row].key, first_bar, last_bar: first_bar + length - 1, from_bar: from });
  },
  propose() {
    return this.act("propose", { most_joins: Number(this.most) });
  },
  clear() {
    return this.act("clear", {});
  },
  /** Loop two bars around the next join. */
  hearJoin(step) {
    if (!this.joins().length) return;
    this.join = (this.join + step + this.joins().length) % this.joins().length;
    const at = this.joins()[this.join].at_s;
    const { lines_s } = this.chart.bars;
    const bar = lines_s[1] - lines_s[0];
    window.dispatchEvent(new CustomEvent("loop", { detail: { start: Math.max(at - bar, 0), stop: at + bar } }));
    this.kept.soon();
  },
  moveJoin() {
    return this.joins().length && this.act("join", { number: this.joins()[Math.max(this.join, 0)].number });
  },
  joinWords(j) {
    const name = this.takes().find((t) => t.key === j.take)?.name;
    return `${clock(j.at_s)} to ${name}: cymbals ${j.steps_db.map((v) => figure(v, 1, true)).join(" and ")} dB`;
  },
  cellWords() {
    if (!this.cell) return "Drag over the bars of a take to choose them.";
    const [row, first, last] = this.cell;
    const t = this.takes()[row];
    const range = first === last ? `bar ${first + 1}` : `bars ${first + 1} to ${last + 1}`;
    const b = t?.bars[first];
    if (!b || first !== last) return `${range} of ${t?.name}`;
    return `${range} of ${t.name}: ${figure(b.score, 0)} points; ${figure(b.offset_ms, 1, true)} ms ± ${figure(b.spread_ms, 1)}, uneven ${figure(b.uneven_db, 1)} dB, missing ${b.missing}, doubled ${b.doubled}, level ${figure(b.level_db, 1, true)} dB`;
  },
  partOf(bar) {
    return this.chart.parts.find((p) => bar >= p.first_bar && bar <= p.last_bar)?.take;
  },
  draw() {
    if (!this.chart) return;
    const { sheet, chart } = this;
    const rows = this.takes();
    if (!sheet.begin(sheet.margin.top + rows.length * ROW + PART + sheet.margin.bottom)) return;
    const x = this.axis();
    const step = x.to(1) - x.to(0);
    for (let bar = 0; bar < chart.count; bar += 4) {
      sheet.line(x.to(bar), sheet.top, x.to(bar), sheet.bottom, "fine");
      sheet.text(`${bar + 1}`, x.to(bar) + step / 2, sheet.bottom + 12, "soft", "center");
    }
    sheet.text("bar; height = score, 30 to 100 points", sheet.right, sheet.bottom + 24, "soft", "right");
    for (const s of chart.bars.sections) sheet.text(s.name, Math.max(x.to(s.bar), sheet.left) + 2, sheet.top - 10, "soft", "left", '11px "Sheet", sans-serif');
    rows.forEach((t, i) => this.row(t, i, x, step));
    this.performance(x, step, sheet.top + rows.length * ROW);
    sheet.frame();
  },
  row(t, i, x, step) {
    const { sheet } = this;
    const base = sheet.top + (i + 1) * ROW - 6;
    sheet.text(t.name, 12, base - ROW / 2 + 4, t.working ? "yours" : "ink", "left", '13px "Sheet", sans-serif');
    sheet.line(sheet.left, base, sheet.right, base, "line");
    if (!t.found) {
      sheet.text("its hits have not been looked for yet", sheet.left + 14, base - ROW / 2, "soft", "left", '13px "Sheet", sans-serif');
      return;
    }
    if (this.cell && this.cell[0] === i) sheet.hatch(x.to(this.cell[1]), base - ROW + 8, step * (this.cell[2] - this.cell[1] + 1), ROW - 8, "soft");
    for (const b of t.bars) {
      const tall = (Math.max(b.score - WORST, 1) / (100 - WORST)) * (ROW - 18);
      sheet.c.fillStyle = sheet.colour[this.partOf(b.bar) === t.key ? "yours" : b.score < POOR ? "ask" : "soft"];
      sheet.c.fillRect(x.to(b.bar) + 1.5, base - tall, Math.max(step - 3, 1), tall);
    }
  },
  /** What is heard: a line that changes its row at each join. */
  performance(x, step, top) {
    const { sheet, chart } = this;
    const y = top + PART / 2;
    sheet.text("heard", 12, y, "ink", "left", '13px "Sheet", sans-serif');
    for (const p of chart.parts) {
      const name = this.takes().find((t) => t.key === p.take)?.name || "";
      sheet.line(x.to(p.first_bar) + 2, y + 8, x.to(p.last_bar + 1) - 2, y + 8, "yours", 3);
      if ((p.last_bar - p.first_bar + 1) * step > 44) sheet.text(name, x.to(p.first_bar) + 4, y - 2, "ink", "left", '11px "Sheet", sans-serif');
    }
    chart.joins.forEach((j, k) => {
      const { lines_s } = chart.bars;
      const bar = lines_s.findLastIndex((at) => at <= j.at_s + 1e-6);
      const at = x.to(bar + (j.at_s - lines_s[bar]) / (lines_s[bar + 1] - lines_s[bar] || 1));
      sheet.line(at, sheet.top, at, top + PART, j.heard ? "ask" : "ink", k === this.join ? 2.5 : 1, j.heard ? [] : [3, 3]);
      sheet.pin(k + 1, at, top + 2, j.heard ? "open" : "left");
    });
  },
}));

registerPage();
registerListen();
start();
