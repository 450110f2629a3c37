// Clean: the song in one mic with what is open, own hits against others' hits by level, and the gate over one hit.
import { clamp, figure } from "./lib/geometry.js";
import { registerBands } from "./lib/bands.js";
import { registerShaped } from "./lib/shaped.js";
import { charted } from "./lib/charted.js";
import { registerListen } from "./lib/listen.js";
import { Alpine, boot, registerPage, start, within } from "./lib/page.js";
import { registerScenes } from "./lib/scenes.js";
import { registerRow, toolOf } from "./lib/row.js";
import { Sheet } from "./lib/sheet.js";
import { drawBars, song } from "./lib/song.js";
import { drawWaves, inSong as wave } from "./lib/waves.js";

const LOW = -70;
const ROW = 24;
const NEAR = 6; // pixels to a region's edge
const NEW_S = 0.3; // a region that is added by hand
const AROUND_S = [0.7, 1.3]; // a hit, to be heard

const inSong = (time) => window.dispatchEvent(new CustomEvent("loop", { detail: { start: Math.max(time - AROUND_S[0], 0), stop: time + AROUND_S[1] } }));

Alpine.data("clean", () => ({
  ...charted({ left: 92, right: 16, top: 26, bottom: 32 }),
  drag: false,
  pressed: null,
  dotted: [], // hits as they are drawn: { x, y, time }

  ways() {
    return this.chart?.ways || [];
  },
  looks() {
    return this.chart?.looks || [];
  },
  setWay(way) {
    return this.$store.page.act("rig", { do: "clean", step: "clean", mic: this.chart.mic, way });
  },
  hasTool(id) {
    return Boolean(this.chart?.row.tools.some((t) => t.id === id));
  },
  setByBand(what, other = "") {
    return this.$store.page.act("rig", { do: "by-band", step: "clean", mic: this.chart.mic, what, other });
  },
  othersHeard() {
    return Object.keys(this.chart?.others_db || {});
  },
  setBleed(event) {
    const other = event.target.value;
    event.target.value = "";
    if (other) this.setByBand("bleed", other);
  },
  setLook(look) {
    return this.$store.page.act("rig", { do: "look", step: "clean", look });
  },
  doneWords() {
    return this.chart?.done || "";
  },
  isGated() {
    return this.chart?.way !== "cut";
  },
  /** Hear the hit whose dot was clicked. */
  show(at) {
    const near = at && this.dotted.find((d) => Math.abs(d.x - at.x) < 8 && Math.abs(d.y - at.y) < 8);
    if (near) inSong(near.time);
  },
  begin() {
    this.hear("picked", () => this.kept.soon());
    this.wave = new Sheet(this.$refs.wave, { left: 92, right: 52, top: 16, bottom: 30 });
    this.pointer(
      (e) => {
        this.pressed = { x: e.offsetX, y: e.offsetY, moved: false };
        this.drag = Boolean(this.tool());
      },
      (e) => {
        if (!this.pressed) return;
        this.pressed.moved ||= Math.abs(e.offsetX - this.pressed.x) > 3;
        if (this.drag && this.pressed.moved) this.to(e.offsetX);
      },
      () => {
        const { pressed, drag } = this;
        this.pressed = null;
        this.drag = false;
        if (!pressed?.moved) this.show(pressed);
        if (!drag || !pressed?.moved) return;
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
    if (!this.chart) return "Measuring …";
    if (!this.chart.own_db.length) return "No own hits found in this mic.";
    if (this.chart.key) return "The gate listens elsewhere, so levels in this mic do not tell what it keeps; what it did is measured above.";
    const t = this.gate().threshold_db;
    const lost = this.chart.own_db.filter((v) => v < t).length;
    const opens = Object.values(this.chart.others_db).flat().filter((v) => v > t).length;
    const counted = `At ${figure(t, 1)} dB a gate would lose ${lost} of ${this.chart.own_db.length} own hits and open for ${opens} of others’. `;
    const over = (db) => `${figure(Math.abs(db), 1)} dB ${db < 0 ? "under" : "over"}`;
    return `${counted}Margin ${figure(this.chart.margin_db, 1)} dB · threshold ${over(t - this.chart.softest_own_db)} the softest own hit, ${over(t - this.chart.loudest_other_db)} the loudest bleed`;
  },
  draw() {
    if (!this.chart) return;
    this.levels();
    this.hit();
  },
  levels() {
    const { sheet, chart } = this;
    const gate = this.gate();
    this.dotted = [];
    const judged = gate.on || this.pressed?.moved; // a gate that is off loses nothing
    const others = Object.entries(chart.others_db);
    if (!sheet.begin(sheet.margin.top + (others.length + 2) * ROW + sheet.margin.bottom)) return;
    const x = sheet.x(LOW, 0);
    sheet.across(x, { count: 14, unit: "dBFS in the gate's key" });
    const mic = this.$store.page.mics.find((m) => m.id === chart.mic);
    this.dots(mic.piece, `own ${mic.piece}`, chart.own_db, sheet.top + ROW, x, "ink", 1.6, chart.own_s, (v) => judged && v < gate.threshold_db);
    others.forEach(([piece, values], i) => this.dots(piece, piece, values, sheet.top + (i + 2.3) * ROW, x, "soft", 1, chart.others_s[piece], (v) => judged && v > gate.threshold_db));
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
  /** A row of hits by level; those on the wrong side of the threshold stand out. */
  dots(piece, name, values, y, x, colour, size, times, wrong) {
    const { sheet } = this;
    sheet.glyph(piece, 14, y, 5, colour);
    sheet.text(name, 26, y, colour, "left", '12px "Sheet", sans-serif');
    values.forEach((v, i) => {
      const at = { x: x.to(clamp(v, LOW, 0)), y: y + ((i * 7919) % 11) - 5, time: times[i] };
      this.dotted.push(at);
      sheet.glyph(piece, at.x, at.y, 2 * size, wrong(v) ? "ask" : colour, true);
    });
  },
  hit() {
    const { wave, chart } = this;
    const gate = this.gate();
    const { view } = chart;
    if (!view.low || !this.isGated() || !wave.begin(190)) return;
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

Alpine.data("strip", () => ({
  ...charted({ left: 56, right: 12, top: 40, bottom: 30 }),
  ...song,
  marked: null, // a place in the song, and the number of the region there (-1: none)
  held: null, // an edge that is dragged: { region, side }
  mine: [], // regions in seconds of the song, as they are drawn

  begin() {
    this.songBegin((time) => this.mark(time));
  },
  take(chart) {
    if (this.chart?.mic !== chart.mic) this.marked = null;
    if (this.chart === null) [this.from, this.until] = [0, chart.length_s];
    this.mine = chart.way === "cut" && this.tool(chart) ? chart.regions.map((span) => [...span]) : [];
    if (this.marked) this.mark(this.marked.time, false);
  },
  tool(chart = this.chart) {
    return chart?.row.tools.find((t) => t.kind === "regions" && t.on) || null;
  },
  /** What is open: the regions with their lead, or where the gate is; nothing is closed where neither is on. */
  open() {
    if (this.chart.way === "cut") {
      const lead = this.tool().settings.lead_ms / 1000;
      return this.mine.map(([a, b]) => [a - lead, b]);
    }
    return this.chart.way === "gate" ? this.chart.opened.map((span) => span.map((at) => at / boot.rate)) : [[0, this.chart.length_s]];
  },
  mark(time, heard = true) {
    this.marked = { time, region: this.mine.findIndex(([a, b]) => time >= a - 0.01 && time <= b) };
    if (heard) inSong(time);
    this.kept.soon();
  },
  isRegion() {
    return this.marked !== null && this.marked.region >= 0;
  },
  mayAdd() {
    return this.chart?.way === "cut" && this.marked !== null && this.marked.region < 0;
  },
  markedWords() {
    if (!this.chart) return "";
    if (this.isRegion()) return `region ${this.marked.region + 1} of ${this.mine.length}`;
    if (this.marked) return `${this.marked.time.toFixed(3)} s`;
    return this.chart.way === "cut" ? "Drag an edge, or click a region." : "Drag a span to hear it, or click.";
  },
  edge(side) {
    return this.isRegion() ? this.mine[this.marked.region][side].toFixed(3) : "";
  },
  floor() {
    return this.isRegion() ? figure(this.chart.floors_db[this.marked.region], 0) : "";
  },
  /** How far the mic is down from this region to the next; nothing typed: as everywhere. */
  typeFloor(event) {
    const down_db = event.target.value === "" ? null : Number(event.target.value);
    return this.$store.page.act("rig", { do: "region-floor", step: "clean", mic: this.chart.mic, number: this.marked.region, down_db });
  },
  typeEdge(side, event) {
    this.put(this.marked.region, side, Number(event.target.value));
  },
  /** Move one edge, no further than its neighbours and its own other end, and write it. */
  put(region, side, time) {
    this.setEdge(region, side, time);
    this.send(region, this.mine[region]);
  },
  setEdge(region, side, time) {
    const [a, b] = this.mine[region];
    const before = this.mine[region - 1]?.[1] ?? 0;
    const after = this.mine[region + 1]?.[0] ?? this.chart.length_s;
    this.mine[region] = side ? [a, clamp(time, a + 0.005, after)] : [clamp(time, before, b - 0.005), b];
  },
  /** One region, in seconds of the song: the server knows where that is in the recording. */
  send(number, span) {
    return this.$store.page.act("rig", { do: "region", step: "clean", mic: this.chart.mic, number, span_s: span });
  },
  addRegion() {
    const { time } = this.marked;
    const after = this.mine.find(([a]) => a > time)?.[0] ?? this.chart.length_s;
    const span = [time, Math.min(time + NEW_S, after)];
    this.mine = [...this.mine, span].sort((p, q) => p[0] - q[0]);
    this.send(null, span);
  },
  removeRegion() {
    this.mine.splice(this.marked.region, 1);
    this.send(this.marked.region, null);
  },
  /** Go to the next own hit, or to the one before. */
  step(by) {
    const now = this.marked?.time ?? 0;
    const times = this.chart.own_s;
    const next = by > 0 ? times.find((t) => t > now + 0.002) : [...times].reverse().find((t) => t < now - 0.002);
    if (next === undefined) return;
    const half = Math.min((this.until - this.from) / 2, 1);
    [this.from, this.until] = [Math.max(next - half, 0), Math.max(next - half, 0) + 2 * half];
    this.mark(next);
  },
  edgeAt(px) {
    const x = this.axis();
    const all = this.mine.flatMap((span, region) => span.map((at, side) => ({ region, side, far: Math.abs(x.to(at) - px) })));
    const near = all.sort((p, q) => p.far - q.far)[0];
    return near && near.far < NEAR ? near : null;
  },
  down(event) {
    if (!this.chart) return;
    this.held = this.edgeAt(event.offsetX);
    if (!this.held) song.down.call(this, event);
  },
  moveTo(event) {
    if (!this.chart) return;
    if (!this.held) {
      this.$refs.canvas.style.cursor = this.edgeAt(event.offsetX) ? "ew-resize" : "";
      song.moveTo.call(this, event);
      return;
    }
    this.setEdge(this.held.region, this.held.side, this.axis().back(event.offsetX));
    this.kept.soon();
  },
  up(event) {
    if (!this.held) {
      song.up.call(this, event);
      return;
    }
    const { region, side } = this.held;
    this.held = null;
    this.put(region, side, this.axis().back(event.offsetX));
  },
  draw() {
    const { sheet, chart } = this;
    if (!sheet.begin(220)) return;
    const x = this.axis();
    drawBars(sheet, x, chart.bars);
    const middle = (sheet.top + sheet.bottom) / 2;
    const half = (sheet.bottom - sheet.top) / 2 - 4;
    drawWaves(sheet, x, [{ middle, half, full: chart.full, address: wave({ id: chart.mic, content: chart.content }), fine: true, colour: "ink" }], () => this.kept.soon());
    this.closed(x);
    const mic = this.$store.page.mics.find((m) => m.id === chart.mic);
    for (const t of chart.own_s) if (t >= this.from && t <= this.until) sheet.glyph(mic.piece, x.to(t), sheet.top + 7, 4, "ink");
    const others = Object.entries(chart.others_s).flatMap(([piece, times]) => times.map((t) => [t, piece]));
    for (const [t, piece] of others) if (t >= this.from && t <= this.until) sheet.glyph(piece, x.to(t), sheet.bottom - 7, 2.5, "soft", true);
    if (this.marked) sheet.line(x.to(this.marked.time), sheet.top, x.to(this.marked.time), sheet.bottom, "ask", 1.5);
    this.drawSong(x);
  },
  /** Veil and hatch what is turned down, and draw the edges of what is not. */
  closed(x) {
    const { sheet } = this;
    let last = sheet.left;
    const veil = (a, b) => {
      if (b - a < 0.5) return;
      sheet.c.globalAlpha = 0.72;
      sheet.c.fillStyle = sheet.colour.sheet;
      sheet.c.fillRect(a, sheet.top, b - a, sheet.bottom - sheet.top);
      sheet.c.globalAlpha = 1;
      sheet.hatch(a, sheet.top, b - a, sheet.bottom - sheet.top, "line", 7);
    };
    for (const [a, b] of this.open()) {
      if (b < this.from) continue;
      if (a > this.until) break;
      const [from, to] = [a, b].map((t) => clamp(x.to(t), sheet.left, sheet.right));
      veil(last, from);
      last = to;
      if (this.chart.way !== "leave" && to - from > 3) {
        sheet.line(from, sheet.top, from, sheet.bottom, "yours", 1);
        sheet.line(to, sheet.top, to, sheet.bottom, "yours", 1);
      }
    }
    veil(last, sheet.right);
  },
}));

registerPage();
registerListen();
registerRow();
registerScenes();
registerBands();
registerShaped();
start();
