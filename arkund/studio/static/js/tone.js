// Tone: spectra of one mic with what was measured in it and the equaliser's curve. One points at a peak and it is notched; a held place is swept.
import { clamp, figure, nearest, scale } from "./lib/geometry.js";
import { bandList, registerBands } from "./lib/bands.js";
import { registerShaped } from "./lib/shaped.js";
import { charted } from "./lib/charted.js";
import { registerMasking } from "./lib/masking.js";
import { registerListen } from "./lib/listen.js";
import { marksOf, drawMarks, drawZones, pointed } from "./lib/named.js";
import { Alpine, boot, registerPage, start, within } from "./lib/page.js";
import { registerScenes } from "./lib/scenes.js";
import { newest } from "./lib/server.js";
import { sweeping } from "./lib/sweep.js";
import { registerRow } from "./lib/row.js";

const SPAN_DB = 18;
const WORDS = { drum: "its drum", kit: "the kit", music: "the music" };

Alpine.data("tone", () => ({
  ...charted({ left: 56, right: 46, top: 74, bottom: 50 }),
  ...bandList(),
  ...sweeping(),
  drag: null,
  over: "", // what is laid over the mic's own spectrum
  laid: null,
  asked: newest(),

  begin() {
    this.hear("picked", () => this.kept.soon());
    this.pointer((e) => this.down(e), (e) => this.moveTo(e), () => this.up());
    const { canvas } = this.$refs;
    canvas.addEventListener("pointerleave", () => this.pointAt(null));
    canvas.addEventListener("keydown", (e) => this.keyed(e));
  },
  take() {
    if (this.over) this.lay(this.over, true);
  },
  axis() {
    return this.sheet.x(20, 20000, true);
  },
  gains() {
    return scale(-SPAN_DB, SPAN_DB, this.sheet.bottom, this.sheet.top);
  },
  curve() {
    return this.chart.curves_db[this.toneTool()?.id] || this.chart.axis_hz.map(() => 0);
  },
  marks() {
    const x = this.axis();
    const y = this.gains();
    return this.bands().map((b) => ({ x: x.to(b.frequency_hz), y: clamp(y.to(this.sloped(b) ? -3 : b.gain_db), this.sheet.top + 8, this.sheet.bottom - 8) }));
  },
  /** A handle is dragged; a name is notched; anywhere else a narrow lift is swept for as long as it is held. */
  down(event) {
    if (!this.chart || event.button) return;
    const i = nearest(this.marks(), event.offsetX, event.offsetY);
    const name = pointed(this.named, event.offsetX, event.offsetY);
    if (i >= 0) this.drag = { i, before: JSON.stringify(this.bands()) };
    else if (name) this.notch(name.hz);
    else if (event.offsetY < this.sheet.bottom && event.offsetX > this.sheet.left) this.sweepFrom(this.axis().back(event.offsetX));
  },
  moveTo(event) {
    if (!this.chart) return;
    if (this.drag) this.dragTo(event);
    else if (this.swept) this.sweepTo(this.axis().back(event.offsetX));
    else this.pointAt(event);
  },
  dragTo(event) {
    const band = this.bands()[this.drag.i];
    band.frequency_hz = within("band", "frequency_hz", this.axis().back(event.offsetX), 0);
    if (!this.sloped(band)) band.gain_db = within("band", "gain_db", this.gains().back(event.offsetY));
    this.$store.page.try({ [this.bandsPath()]: this.bands() });
    this.kept.soon();
  },
  up() {
    if (this.swept) return this.letGo();
    const drag = this.drag;
    this.drag = null;
    if (!drag || JSON.stringify(this.bands()) === drag.before) return;
    const b = this.bands()[drag.i];
    this.save(this.bands(), `filter ${drag.i + 1} to ${b.frequency_hz} Hz${this.sloped(b) ? "" : `, ${figure(b.gain_db, 1, true)} dB`}`);
  },
  notch(hz) {
    return this.$store.page.act("rig", { do: "notch", step: this.$store.page.step, mic: this.chart.mic, hz, tool: this.toneTool()?.id || "" });
  },

  overs() {
    return ["drum", "kit", ...(this.chart?.music ? ["music"] : [])];
  },
  overWords(what) {
    return WORDS[what];
  },
  isOver(what) {
    return this.over === what;
  },
  /** Lay another spectrum over the mic's own, or take it off again. */
  async lay(what, again = false) {
    this.over = !again && this.over === what ? "" : what;
    this.laid = null;
    this.kept.soon();
    if (!this.over) return;
    try {
      const laid = await this.asked(`/s/${boot.session}/sums/${this.chart.mic}/${what}`);
      if (laid && this.over === what) this.laid = laid;
    } catch (error) {
      this.over = "";
      this.$store.page.say(error.message, true);
    }
    this.kept.soon();
  },
  laidWords() {
    if (!this.laid) return this.over ? "measuring …" : "";
    const { thinned, words } = this.laid;
    if (thinned) return `${words}: thinner by ${figure(-thinned[1], 1)} dB at ${figure(thinned[0], 0)} Hz than any of its filters says; they turn phase against each other`;
    return words;
  },
  boostWords() {
    const rows = this.chart?.boosts || [];
    if (!rows.length) return "";
    return `Lifted between 1 and 5 kHz, where ears tire first: ${rows.map((r) => `${r.name} ${figure(r.db, 1, true)}`).join(", ")} dB`;
  },

  draw() {
    if (!this.chart || !this.sheet.begin(430)) return;
    const { sheet, chart } = this;
    const x = this.axis();
    const tilt = chart.axis_hz.map((f) => 3 * Math.log2(f / 1000));
    const own = chart.own_db.map((v, i) => v + tilt[i]);
    const top = Math.ceil((Math.max(...own) + 3) / 6) * 6;
    const y = sheet.y(top - 66, top);
    const g = this.gains();
    sheet.across(x, { log: true, unit: "Hz" });
    sheet.down(y, { unit: "spectrum, dB (raised 3 dB per octave)", count: 8 });
    for (const db of [-12, -6, 0, 6, 12]) sheet.text(figure(db, 0, true), sheet.right + 8, g.to(db), "soft");
    sheet.text("curve, dB", sheet.right + 40, sheet.top - 11, "soft", "right");
    sheet.line(sheet.left, g.to(0), sheet.right, g.to(0), "line");
    drawZones(sheet, x, chart.zones);
    const held = (values, to) => chart.axis_hz.map((f, i) => [x.to(f), clamp(to(values[i], i), sheet.top, sheet.bottom)]);
    const line = (values) => held(values, (v, i) => y.to(v + tilt[i]));
    sheet.path(line(chart.others_db), "soft", 1.2, [2, 3]);
    sheet.path(line(chart.between_db), "soft", 1.2, [7, 4]);
    sheet.path(line(chart.own_db), "ink", 1.8);
    if (this.laid) {
      if (this.laid.before_db) sheet.path(line(this.laid.before_db), "ask", 1.1, [3, 3]);
      sheet.path(line(this.laid.after_db), "ask", 1.8);
    }
    this.named = marksOf(sheet, x, chart);
    drawMarks(sheet, this.named, (f) => clamp(y.to(own[this.index(f)]), sheet.top, sheet.bottom), this.at?.name);
    sheet.path(held(this.curve(), (v) => g.to(v)), this.toneTool()?.on ? "yours" : "soft", 2.4);
    this.marks().forEach((m, i) => this.handle(m, i));
    if (this.swept) this.drawSwept(x, g);
    else if (this.at) this.drawAt(x, own, y);
    sheet.frame();
  },
  index(hz) {
    const { axis_hz } = this.chart;
    return clamp(Math.round(Math.log2(hz / axis_hz[0]) * 12), 0, axis_hz.length - 1);
  },
  handle(m, i) {
    const { sheet } = this;
    sheet.c.fillStyle = sheet.colour.sheet;
    sheet.c.strokeStyle = sheet.colour[this.bands()[i].on ? "yours" : "soft"];
    sheet.c.lineWidth = 1.6;
    sheet.c.beginPath();
    sheet.c.rect(m.x - 8, m.y - 8, 16, 16);
    sheet.c.fill();
    sheet.c.stroke();
    sheet.text(`${i + 1}`, m.x, m.y + 0.5, "ink", "center");
  },
}));

registerPage();
registerListen();
registerRow();
registerScenes();
registerBands();
registerShaped();
registerMasking();
start();
