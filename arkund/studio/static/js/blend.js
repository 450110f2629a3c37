// Blend: levels, places and sends of all strips; what the kit's compressor takes; the row of the chosen strip.
import { clamp, figure, fit } from "./lib/geometry.js";
import { registerBands } from "./lib/bands.js";
import { registerShaped } from "./lib/shaped.js";
import { charted } from "./lib/charted.js";
import { registerListen } from "./lib/listen.js";
import { Alpine, boot, registerPage, start } from "./lib/page.js";
import { registerScenes } from "./lib/scenes.js";
import { registerRow } from "./lib/row.js";

const field = (name, key) => boot.fields[name].find((f) => f.key === key);
const sorted = (sort, rows) => rows.map((row, i) => ({ ...row, sort, first: sort !== "mic" && i === 0 }));

Alpine.data("blend", () => ({
  ...charted({ left: 56, right: 16, top: 26, bottom: 32 }),

  rows() {
    if (!this.chart) return [];
    return [...sorted("mic", this.chart.rows), ...sorted("group", this.chart.groups), ...sorted("path", this.chart.paths)];
  },
  paths() {
    return this.chart ? this.chart.paths : [];
  },
  recipes() {
    return this.chart ? this.chart.recipes : [];
  },
  kitRow() {
    return { sort: "kit", id: "kit" };
  },
  nameOf(row) {
    return row.sort === "kit" ? "kit" : `${row.sort}:${row.id}`;
  },
  choose(row) {
    this.$store.page.choose(this.nameOf(row));
  },
  isChosen(row) {
    return this.chart !== null && this.chart.row.strip === this.nameOf(row);
  },
  /** Level, place, and a send to each path that comes after this strip. */
  cells(row) {
    const at = this.paths().findIndex((p) => p.id === row.id && row.sort === "path");
    const cell = (key, f, label, value, digits, can = true) => ({ ...f, key, label, value, can, digits, shown: figure(value, digits, true) });
    const sends = this.paths().map((p, i) => {
      const value = row.sends[p.id] ?? this.chart.off_db;
      const can = row.sort !== "path" || i > at;
      return { ...cell(p.id, field("send", "level_db"), `send to ${p.name}`, value, 1, can), send: true, shown: value <= this.chart.off_db ? "–" : figure(value, 1, true) };
    });
    return [cell("level_db", field("strip", "level_db"), "level", row.level_db, 1), cell("pan", field("strip", "pan"), "place", row.pan, 2), ...sends];
  },
  /** Whether the scene that is worked in holds this cell. */
  isHeld(row, cell) {
    const place = cell.send ? `${row.place}.sends.${cell.key}.level_db` : `${row.place}.${cell.key}`;
    const { scene, scenes } = this.$store.page;
    return Boolean(scenes.find((s) => s.id === scene)?.held.some((each) => each.place === place));
  },
  change(row, cell, value) {
    if (!cell.send) return { [`${row.place}.${cell.key}`]: value };
    const others = Object.entries(row.sends).filter(([id]) => id !== cell.key).map(([id, level_db]) => ({ id, level_db }));
    const mine = value > this.chart.off_db ? [{ id: cell.key, level_db: value }] : [];
    return { [`${row.place}.sends`]: [...others, ...mine] };
  },
  tryCell(row, cell, event) {
    this.$store.page.try(this.change(row, cell, fit(Number(event.target.value), cell)));
  },
  cell(row, cell, event) {
    const value = fit(Number(event.target.value), cell);
    this.$store.page.move(this.change(row, cell, value), `${row.name}: ${cell.label} ${figure(value, cell.digits, true)}`);
  },
  flag(row, key) {
    const whole = key === "solo" ? "" : this.$store.page.scene; // solo is for listening, and belongs to no scene
    this.$store.page.move({ [`${row.place}.${key}`]: !row[key] }, `${row.name}: ${key} ${row[key] ? "off" : "on"}`, whole);
  },
  intos(row) {
    const none = { id: "", name: "the kit" };
    return row.into ? this.chart.groups : [none, ...this.chart.groups];
  },
  into(row, event) {
    this.$store.page.move({ [`${row.place}.group`]: event.target.value }, `${row.name} into ${event.target.selectedOptions[0].textContent}`, "");
  },
  intoWords(row) {
    const group = this.chart.groups.find((g) => g.id === row.into);
    return group ? group.name : "the kit";
  },
  async addPath(event) {
    const recipe = event.target.value;
    event.target.value = "";
    if (recipe) await this.$store.page.act("rig", { do: "add-path", recipe: recipe === "empty" ? "" : recipe });
  },
  async addGroup() {
    const input = document.getElementById("new-group");
    await this.$store.page.act("rig", { do: "add-group", name: input.value });
    input.value = "";
  },
  async removeStrip(row) {
    await this.$store.page.act("rig", { do: `remove-${row.sort}`, [row.sort]: row.id });
  },
  kitLevel() {
    return this.chart ? this.chart.kit_level_db : 0;
  },
  setKit(event) {
    const value = fit(Number(event.target.value), field("kit", "level_db"));
    event.target.value = value;
    this.$store.page.move({ "kit.level_db": value }, `Kit: level ${figure(value, 1, true)} dB`);
  },
  meterWords() {
    if (!this.chart) return "Measuring …";
    const { kit, reduction } = this.chart.kit;
    const takes = this.chart.compresses ? `   its compressor takes up to ${figure(reduction.deepest_db, 1)} dB` : "   its compressor is off";
    const song = this.chart.whole ? `   whole song: peak ${figure(this.chart.whole.peak_db, 1)} dBFS, ${figure(this.chart.whole.loudness_lufs, 1)} LUFS` : "";
    return `busiest 16 s: peak ${figure(kit.peak_db, 1)} dBFS   true peak ${figure(kit.true_peak_db, 1)} dBTP   ${figure(kit.loudness_lufs, 1)} LUFS${song}${takes}`;
  },
  draw() {
    if (!this.chart || !this.sheet.begin(170)) return;
    const { sheet, chart } = this;
    const { reduction } = chart.kit;
    const x = sheet.x(0, reduction.time_s.at(-1) || 1);
    const most = Math.max(6, Math.ceil(reduction.deepest_db / 3) * 3);
    const y = sheet.y(-most, 0);
    sheet.across(x, { count: 16, unit: "s of the busiest part" });
    sheet.down(y, { unit: "reduction over the kit, dB; ticks: next strong kick or snare", count: 4 });
    const on = chart.compresses;
    sheet.path(reduction.time_s.map((t, i) => [x.to(t), clamp(y.to(-reduction.reduction_db[i]), sheet.top, sheet.bottom)]), on ? "yours" : "soft", 1.4, on ? [] : [4, 4]);
    for (const t of chart.next_hits) if (t >= 0 && t <= x.high) sheet.line(x.to(t), sheet.top, x.to(t), sheet.top + 6, "ink");
    sheet.frame();
  },
}));

registerPage();
registerListen();
registerRow();
registerScenes();
registerBands();
registerShaped();
start();
