// Load: every mic over the song, the hits above, names and roles beside.
import { clamp } from "./lib/geometry.js";
import { charted } from "./lib/charted.js";
import { registerListen } from "./lib/listen.js";
import { Alpine, boot, registerPage, start } from "./lib/page.js";
import { columns, levelFor } from "./lib/waves.js";

const ROW = [18, 40]; // a mic's height: what the window leaves, between these
const BELOW = 64; // the listening bar
const LANE = 15;
const NEAR_S = 0.05;

Alpine.data("load", () => ({
  ...charted({ left: 92, right: 12, top: 40, bottom: 26 }),
  from: 0,
  until: 10,
  marked: null,
  addPiece: "snare",
  drag: null,

  begin() {
    this.hear("keydown", (e) => this.key(e));
    this.hear("playhead", (e) => this.head(e.detail));
    this.$refs.canvas.addEventListener("wheel", (e) => this.wheel(e), { passive: false });
    this.pointer((e) => this.down(e), (e) => this.moveTo(e), (e) => this.up(e));
  },
  take(chart) {
    if (this.chart === null) [this.from, this.until] = [0, chart.length_s];
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
  warnings() {
    return this.chart ? this.chart.warnings : [];
  },
  sure(mic) {
    return `${Math.round(mic.confidence * 100)} %`;
  },
  rename(mic, key, event) {
    this.$store.page.move({ [`mics.${mic.id}.${key}`]: event.target.value }, `${mic.name}: ${key} is ${event.target.value}`);
  },
  whole() {
    this.from = 0;
    this.until = this.chart ? this.chart.length_s : 10;
    this.kept.soon();
  },
  zoom(factor, at = (this.from + this.until) / 2) {
    const most = this.chart.length_s;
    const span = clamp((this.until - this.from) * factor, 0.05, most);
    const share = (at - this.from) / (this.until - this.from);
    this.from = clamp(at - span * share, 0, most - span);
    this.until = this.from + span;
    this.kept.soon();
  },
  shift(share) {
    const span = this.until - this.from;
    this.from = clamp(this.from + span * share, 0, Math.max(this.chart.length_s - span, 0));
    this.until = this.from + span;
    this.kept.soon();
  },
  wheel(event) {
    event.preventDefault();
    if (Math.abs(event.deltaX) > Math.abs(event.deltaY)) this.shift(event.deltaX / 800);
    else this.zoom(event.deltaY > 0 ? 1.25 : 0.8, this.axis().back(event.offsetX));
  },
  axis() {
    return this.sheet.x(this.from, this.until);
  },

  down(event) {
    if (!this.chart) return;
    this.drag = { from: this.axis().back(event.offsetX), moved: false };
  },
  moveTo(event) {
    if (!this.drag) return;
    const to = this.axis().back(event.offsetX);
    if (Math.abs(this.axis().to(to) - this.axis().to(this.drag.from)) > 4) this.drag.moved = true;
    this.drag.to = to;
    this.kept.soon();
  },
  up(event) {
    const drag = this.drag;
    this.drag = null;
    if (!drag) return;
    if (drag.moved) {
      window.dispatchEvent(new CustomEvent("loop", { detail: { start: Math.min(drag.from, drag.to), stop: Math.max(drag.from, drag.to) } }));
      this.loop = [Math.min(drag.from, drag.to), Math.max(drag.from, drag.to)];
    } else this.mark(drag.from, event.offsetY);
    this.kept.soon();
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
  head(time) {
    const { cursor } = this.$refs;
    const inside = time >= this.from && time <= this.until;
    cursor.classList.toggle("hidden", !inside);
    if (inside) cursor.style.transform = `translateX(${this.axis().to(time)}px)`;
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
    const times = { low: x.low, high: x.high, to: x.to };
    this.bars(x);
    lanes.forEach((piece, i) => this.lane(piece, sheet.top + 3 + (i + 0.5) * LANE, x));
    const base = sheet.top + lanes.length * LANE + 8;
    chart.mics.forEach((mic, i) => this.wave(mic, base + i * this.row, x));
    sheet.across(times, { count: 12, digits: (this.until - this.from) < 3 ? 2 : 0, unit: "s" });
    sheet.frame();
    if (this.drag?.moved) sheet.hatch(x.to(Math.min(this.drag.from, this.drag.to)), sheet.top, Math.abs(x.to(this.drag.to) - x.to(this.drag.from)), sheet.bottom - sheet.top, "soft");
    else if (this.loop) sheet.line(x.to(this.loop[0]), sheet.top - 4, x.to(this.loop[1]), sheet.top - 4, "yours", 3);
    if (this.marked) sheet.line(x.to(this.marked.time), sheet.top, x.to(this.marked.time), sheet.bottom, "ask", 1);
  },
  bars(x) {
    const { sheet, chart } = this;
    const { first_s, bar_s, sections } = chart.bars;
    const every = [1, 2, 4, 8, 16, 32].find((n) => x.to(bar_s * n) - x.to(0) > 26) || 64;
    for (let bar = 0; first_s + bar * bar_s < this.until; bar += every) {
      const at = first_s + bar * bar_s;
      if (at < this.from) continue;
      sheet.line(x.to(at), sheet.top - 8, x.to(at), sheet.top, "line");
      sheet.text(`${bar + 1}`, x.to(at) + 2, sheet.top - 8, "soft");
    }
    sections.forEach((s) => {
      const at = first_s + s.bar * bar_s;
      if (at < this.from - 20 || at > this.until) return;
      sheet.line(x.to(at), 6, x.to(at), sheet.top, "soft");
      sheet.text(s.name, Math.max(x.to(at), sheet.left) + 4, 12, "ink", "left", '12px "Sheet", sans-serif');
    });
    sheet.text("bar", sheet.left - 8, sheet.top - 8, "soft", "right");
  },
  lane(piece, y, x) {
    const { sheet, chart } = this;
    sheet.glyph(piece, 16, y, 5, "soft");
    sheet.text(piece, 28, y, "soft", "left", '12px "Sheet", sans-serif');
    const shown = chart.hits[piece].filter(([t]) => t >= this.from && t <= this.until);
    const dense = shown.length > (sheet.right - sheet.left) / 9;
    for (const [t, velocity, ghost, hand] of shown) {
      if (dense) {
        const tall = ghost ? 2 : 2 + (velocity / 127) * 4;
        sheet.line(x.to(t), y - tall, x.to(t), y + tall, hand ? "yours" : ghost ? "soft" : "ink");
        continue;
      }
      sheet.glyph(piece, x.to(t), y, ghost ? 3 : 2.5 + (velocity / 127) * 3, hand ? "yours" : "ink", ghost);
    }
  },
  wave(mic, top, x) {
    const { sheet } = this;
    sheet.text(mic.name, 12, top + this.row / 2, mic.missing ? "bad" : "ink", "left", '12px "Sheet", sans-serif');
    if (mic.missing) return;
    const perPixel = ((this.until - this.from) * boot.rate) / (sheet.right - sheet.left);
    const level = levelFor(perPixel);
    const data = columns(mic.id, level, this.$store.page.version, () => this.kept.soon());
    const { c } = sheet;
    const middle = top + this.row / 2;
    sheet.line(sheet.left, middle, sheet.right, middle, "fine");
    if (!data) return;
    c.fillStyle = sheet.colour.soft;
    const loud = 10 ** ((mic.peak_db ?? 0) / 20) * 127 || 127;
    const half = (this.row / 2 - 1) / Math.max(loud, 1);
    for (let px = sheet.left; px < sheet.right; px += 1) {
      const a = Math.floor((x.back(px) * boot.rate) / level);
      const b = Math.max(Math.floor((x.back(px + 1) * boot.rate) / level), a + 1);
      let low = 0;
      let high = 0;
      for (let i = Math.max(a, 0); i < b && 2 * i + 1 < data.length; i += 1) {
        low = Math.min(low, data[2 * i]);
        high = Math.max(high, data[2 * i + 1]);
      }
      c.fillRect(px, middle - high * half, 1, Math.max((high - low) * half, 0.6));
    }
    if ((mic.peak_db ?? -99) > -0.05) sheet.text("full", sheet.left - 6, middle, "bad", "right", '11px "Sheet", sans-serif');
  },
}));

registerPage();
registerListen();
start();
