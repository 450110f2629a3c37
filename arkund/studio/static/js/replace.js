// Replace: every hit of a piece by strength; what stands in the place of some, what lies under all, and who carries its low end.
import { clamp, figure, hertz } from "./lib/geometry.js";
import { charted } from "./lib/charted.js";
import { registerListen } from "./lib/listen.js";
import { Alpine, hand, registerPage, start } from "./lib/page.js";
import { registerScenes } from "./lib/scenes.js";
import { Sheet } from "./lib/sheet.js";
import { shelfHand } from "./shelf.js";

const HITS_HEIGHT = 230;
const LOW_HEIGHT = 210;
const DEEP_DB = 42; // under the strongest band
const EVERY_DB = -60; // strikes from there on: all of them
const SONG = ""; // for the whole song, also while a scene is chosen
const GRIP = 8; // pixels about a line that is dragged

Alpine.data("replace", () => ({
  ...charted({ left: 56, right: 16, top: 26, bottom: 34 }),
  ...shelfHand,
  time: null,
  held: null, // the layer whose least strength is being dragged, and where it is

  begin() {
    this.low = new Sheet(this.$refs.low, { left: 56, right: 120, top: 24, bottom: 36 });
    this.pointer(
      (e) => this.grip(e),
      (e) => this.drag(e),
      (e) => this.drop(e),
    );
    this.$refs.canvas.addEventListener("keydown", (e) => this.step(e));
  },
  take(chart) {
    if (this.chart?.piece !== chart.piece) this.time = null;
  },
  pieces() {
    return this.chart ? this.chart.pieces : [];
  },
  words() {
    if (!this.chart) return "";
    return this.time === null ? "Click a hit, or a place where one is missing." : `Chosen: ${this.time.toFixed(3)} s.`;
  },
  sorts() {
    return this.chart?.sorts_fit ? this.chart.sorts : [];
  },
  keys() {
    return this.chart?.keys || [];
  },
  setKey(event) {
    return this.$store.page.move({ key: event.target.value }, `The song's key: ${event.target.value || "not told"}`, SONG);
  },
  owners() {
    const strips = Object.keys(this.chart?.low_end?.strips || {}).map((id) => [id, this.nameOf(id)]);
    return [...strips, ["backing", "the rest of the music"]];
  },
  ownerNow() {
    return this.chart?.low_end?.owner || "";
  },
  ownLow(event) {
    const words = event.target.selectedOptions[0].textContent;
    return this.$store.page.move({ low_owner: event.target.value }, `Low end owned by: ${words}`, SONG);
  },
  ways() {
    return this.chart?.ways || [];
  },
  takeWay(w) {
    return this.rig("take-way", { piece: this.chart.piece, way: w.way });
  },
  opened(m) {
    const all = this.chart.hits.length;
    const rest = m.least_db > EVERY_DB ? this.chart.hits.filter((h) => h[1] >= this.chart.usual_db + m.least_db).length : all;
    return rest < all ? `opened by ${rest} of ${all} hits, from ${figure(m.least_db, 1, true)} dB against the usual one` : `${m.strikes} strikes`;
  },
  made() {
    return this.chart?.made || [];
  },
  hasLowEnd() {
    return Boolean(this.chart?.low_end);
  },
  lay(sort) {
    return this.$store.page.act("rig", { do: "lay", step: "replace", piece: this.chart.piece, sort });
  },
  isSplit() {
    return Boolean(this.chart?.low_end?.split_hz);
  },
  splitAt() {
    return this.chart?.low_end?.split_hz || this.splitRange().usual_hz;
  },
  splitRange() {
    return this.chart?.split || {};
  },
  split() {
    return this.$store.page.act("rig", { do: "split", step: "replace", piece: this.chart.piece, hz: Number(this.$refs.split.value) });
  },
  unsplit() {
    return this.$store.page.act("rig", { do: "split", step: "replace", piece: this.chart.piece });
  },
  lowWords() {
    const low = this.chart?.low_end;
    if (!low) return "";
    const name = this.nameOf(low.strongest);
    const changed = this.made().length ? ` · ${figure(low.sum_main_db - low.without_layers_main_db, 1, true)} dB by its layers` : "";
    return `${low.main_hz[0]}–${low.main_hz[1]} Hz at its hits: ${name} carries it; all together ${figure(low.gain_db, 1, true)} dB against it${changed}`;
  },
  nameOf(id) {
    return this.$store.page.mics.find((m) => m.id === id)?.name || this.made().find((m) => m.id === id)?.name || id;
  },
  drawLow() {
    const low = this.chart.low_end;
    if (!low || !this.low.begin(LOW_HEIGHT)) return;
    const sheet = this.low;
    const hz = low.bands_hz;
    const top = Math.ceil(Math.max(...low.sum_db) / 6) * 6 + 3;
    const x = sheet.x(hz[0] * 0.92, hz.at(-1) * 1.08, true);
    const y = sheet.y(top - DEEP_DB, top);
    sheet.down(y, { unit: "dB at its hits, by third of an octave", count: 6 });
    for (const f of hz) sheet.text(hertz(f), x.to(f), sheet.bottom + 12, "soft", "center");
    sheet.text("Hz", sheet.left - 14, sheet.bottom + 12, "soft", "right");
    const points = (rows) => rows.map((db, i) => [x.to(hz[i]), y.to(Math.max(db, y.low))]);
    const layers = this.made().map((m) => m.id);
    const names = Object.entries(low.strips).map(([id, { bands_db }], i) => {
      const colour = layers.includes(id) ? "yours" : "soft";
      sheet.path(points(bands_db), colour, 1.2, layers.includes(id) ? [] : [2 + 3 * i, 3]);
      return { words: this.nameOf(id), colour, at: y.to(Math.max(bands_db.at(-1), y.low)) };
    });
    // Names beside the ends of their lines, none on top of another: from the lowest upwards.
    let free = sheet.bottom + 2;
    for (const { words, colour, at } of names.sort((a, b) => b.at - a.at)) {
      free = Math.min(at, free - 14);
      sheet.text(words, sheet.right + 8, free, colour);
    }
    if (layers.length) sheet.path(points(low.without_layers_db), "ask", 1.5, [6, 4]);
    sheet.path(points(low.sum_db), "ink", 2.2);
    sheet.text(layers.length ? "heavy: together; orange: without the layers" : "heavy: together", sheet.right, sheet.top - 11, "soft", "right");
    sheet.frame();
  },
  /** Layers whose least strength is a line over the hits, and where it stands in dB against the usual hit. */
  leasts() {
    return this.made().map((m) => ({ m, db: this.held?.id === m.id ? this.held.db : m.least_db }));
  },
  grip(event) {
    if (!this.chart) return;
    const [, y] = this.axes();
    const near = this.leasts().find(({ db }) => Math.abs(this.lineAt(y, db) - event.offsetY) < GRIP);
    if (near) this.held = { id: near.m.id, kind: near.m.kind, name: near.m.name, db: near.db };
    else this.pick(event);
  },
  drag(event) {
    if (!this.held) return;
    const [, y] = this.axes();
    const db = y.back(event.offsetY) - this.chart.usual_db;
    this.held.db = event.offsetY >= this.sheet.bottom - 2 ? EVERY_DB : clamp(Math.round(db * 2) / 2, EVERY_DB, 12);
    this.$store.page.try({ [`mics.${this.held.id}.${this.held.kind}.least_db`]: this.held.db }, SONG);
    this.kept.soon();
  },
  async drop() {
    if (!this.held) return;
    const { id, kind, name, db } = this.held;
    await this.$store.page.move({ [`mics.${id}.${kind}.least_db`]: db }, `${name}: strikes from ${db} dB`, SONG);
    this.held = null;
  },
  /** A line that leaves nothing out lies at the foot. */
  lineAt(y, db) {
    return db <= EVERY_DB ? this.sheet.bottom : clamp(y.to(this.chart.usual_db + db), this.sheet.top, this.sheet.bottom);
  },
  step(event) {
    const by = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
    if (!by || !this.chart?.hits.length) return;
    event.preventDefault();
    const times = this.chart.hits.map((h) => h[0]);
    const at = this.time ?? (by > 0 ? -1 : Infinity);
    const next = by > 0 ? times.find((t) => t > at + 0.001) : times.findLast((t) => t < at - 0.001);
    if (next !== undefined) this.choose(next);
  },
  choose(time) {
    this.time = time;
    window.dispatchEvent(new CustomEvent("loop", { detail: { start: Math.max(time - 1.5, 0), stop: time + 2.5 } }));
    this.kept.soon();
  },
  axes() {
    const levels = this.chart.hits.map((h) => h[1]);
    return [this.sheet.x(0, this.chart.length_s), this.sheet.y(Math.min(...levels, -40) - 2, Math.max(...levels, -6) + 3)];
  },
  pick(event) {
    if (!this.chart) return;
    const [x] = this.axes();
    const time = x.back(event.offsetX);
    const reach = x.back(x.to(0) + 7) - x.back(x.to(0));
    const near = this.chart.hits.map((h) => h[0]).reduce((a, b) => (Math.abs(b - time) < Math.abs(a - time) ? b : a), -99);
    this.choose(Math.abs(near - time) < reach ? near : clamp(time, 0, this.chart.length_s));
  },
  draw() {
    if (!this.chart) return;
    this.drawLow();
    if (!this.sheet.begin(HITS_HEIGHT)) return;
    const { sheet, chart } = this;
    const [x, y] = this.axes();
    sheet.down(y, { unit: "peak, dBFS of the recording" });
    sheet.across(x, { count: 12, unit: "s" });
    for (const s of chart.bars.sections) {
      const at = x.to(chart.bars.lines_s[s.bar]);
      sheet.line(at, sheet.top, at, sheet.bottom, "line");
      sheet.text(s.name, at + 4, sheet.top + 9, "soft", "left", '12px "Sheet", sans-serif');
    }
    for (const [t, level, , ghost] of chart.hits) {
      const placed = chart.placements.some((p) => Math.abs(p - t) < 0.01);
      sheet.glyph(chart.piece, x.to(t), y.to(level), ghost ? 3.5 : 4.5, placed ? "yours" : "ink", ghost);
    }
    for (const c of chart.shelf.filter((each) => each.time_s !== null)) {
      sheet.c.strokeStyle = sheet.colour.yours;
      sheet.c.lineWidth = 2;
      sheet.c.strokeRect(x.to(c.time_s) - 8, y.to(c.level_db) - 8, 16, 16);
    }
    for (const { m, db } of this.leasts()) {
      const at = this.lineAt(y, db);
      sheet.line(sheet.left, at, sheet.right, at, "yours", this.held?.id === m.id ? 2 : 1, [5, 4]);
      if (db > EVERY_DB) sheet.text(`${m.name} from here up`, sheet.left + 6, at - 8, "yours");
    }
    if (this.time !== null) sheet.line(x.to(this.time), sheet.top, x.to(this.time), sheet.bottom, "ask", 1.5);
    for (const note of this.$store.page.notes) {
      const at = chart.bars.lines_s[Number(note.place)];
      if (chart.piece === "snare") sheet.pin(note.number, x.to(at), sheet.bottom - 12, note.state);
    }
    sheet.text(`${chart.hits.length} hits, ghosts open`, sheet.right, sheet.top - 11, "soft", "right");
    sheet.frame();
  },
}));

/** The settings of one made layer. */
Alpine.data("layer", (id) => ({
  ...hand(
    function path(key) {
      return `mics.${id}.${this.mine().kind}.${key}`;
    },
    function values() {
      return this.mine();
    },
    SONG,
  ),
  ownMics() {
    return this.$store.page.chart?.mics || [];
  },
  goThrough(event) {
    return this.$store.page.act("rig", { do: "through", step: "replace", layer: id, mic: event.target.value });
  },
  mine() {
    return this.$store.page.chart?.made.find((m) => m.id === id) || null;
  },
  setStrip(key, value, words) {
    const title = `${this.mine().name}: ${words}`;
    return this.$store.page.move({ [`mics.${id}.${key}`]: value }, title, this.$store.page.chart.in_scenes.includes(key) ? undefined : SONG);
  },
  typeLevel(event) {
    const level_db = Number(event.target.value);
    return this.setStrip("level_db", level_db, `level ${figure(level_db, 1, true)} dB`);
  },
  flipMute({ mute }) {
    return this.setStrip("mute", !mute, mute ? "on" : "off");
  },
  flipPolarity({ inverted }) {
    return this.setStrip("line_up.inverted", !inverted, inverted ? "polarity as made" : "polarity flipped");
  },
  takeAway() {
    return this.$store.page.act("rig", { do: "take-layer", step: "replace", layer: id });
  },
  openAgain() {
    return this.$store.page.act("rig", { do: "open-again", step: "replace", layer: id });
  },
}));

registerPage();
registerListen();
registerScenes();
start();
