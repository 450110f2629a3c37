// Blend: sections across, strips down; in each cell how loud the strip is there and what was set. One works in the cells.
import { clamp, figure, fit, level } from "./lib/geometry.js";
import { registerBands } from "./lib/bands.js";
import { celled } from "./lib/cells.js";
import { registerShaped } from "./lib/shaped.js";
import { charted } from "./lib/charted.js";
import { registerRaise } from "./lib/raise.js";
import { registerMusic } from "./lib/music.js";
import { registerListen } from "./lib/listen.js";
import { Alpine, boot, registerPage, start } from "./lib/page.js";
import { registerScenes } from "./lib/scenes.js";
import { registerRow } from "./lib/row.js";

const field = (name, key) => boot.fields[name].find((f) => f.key === key);

Alpine.data("blend", () => ({
  ...charted({ left: 56, right: 16, top: 26, bottom: 32 }),
  ...celled(),
  opened: [],

  begin() {
    this.hear("acting", () => this.rest());
  },
  /** Groups first, their mics below them on demand; then mics of no group, paths, and the kit. */
  rows() {
    if (!this.chart) return [];
    const { rows, groups, paths, kit } = this.chart;
    const of = (sort, row, more = {}) => ({ ...row, sort, ...more });
    const members = (id) => rows.filter((r) => r.into === id).map((r) => of("mic", r, { inner: Boolean(id) }));
    const grouped = groups.flatMap((g) => [of("group", g), ...(this.opened.includes(g.id) ? members(g.id) : [])]);
    const known = groups.map((g) => g.id);
    const lone = rows.filter((r) => !known.includes(r.into)).map((r) => of("mic", r));
    return [...grouped, ...lone, ...paths.map((p, i) => of("path", p, { first: i === 0 })), of("kit", kit, { first: true })];
  },
  isGroup(row) {
    return row.sort === "group";
  },
  isOpened(row) {
    return this.opened.includes(row.id);
  },
  open(row) {
    this.opened = this.isOpened(row) ? this.opened.filter((id) => id !== row.id) : [...this.opened, row.id];
  },
  openWords(row) {
    return this.isOpened(row) ? "▾" : "▸";
  },
  nameOf(row) {
    return row.sort === "kit" ? "kit" : `${row.sort}:${row.id}`;
  },
  choose(row) {
    this.$store.page.choose(this.nameOf(row));
  },
  isChosen(row) {
    return this.chart !== null && (this.$store.page.of || this.chart.row.strip) === this.nameOf(row); // at once, before its row has come
  },
  /** Leave a strip out of the mix, in prints as well: a setting, and so a Move. */
  leaveOut() {
    const row = this.chosen();
    this.$store.page.move({ [`${row.place}.mute`]: !row.mute }, `${row.name}: ${row.mute ? "in the mix again" : "off in the mix"}`);
  },
  /** Solo or mute a strip for listening alone. */
  listenTo(kind) {
    this.$store.page.listenTo(kind, this.nameOf(this.chosen()));
  },
  isListened(kind, row) {
    return Boolean(row && this.$store.page.isListened(kind, this.nameOf(row)));
  },

  /** The chosen strip: its place, its sends, where it goes. */
  chosen() {
    return this.rows().find((r) => this.isChosen(r)) || this.hidden();
  },
  hidden() {
    const mine = this.chart?.rows.find((r) => this.isChosen({ ...r, sort: "mic" }));
    return mine ? { ...mine, sort: "mic" } : null;
  },
  isStrip() {
    return Boolean(this.chosen() && this.chosen().sort !== "kit");
  },
  paths() {
    return this.chart ? this.chart.paths : [];
  },
  /** Its place, and a send to each path that comes after it. */
  fields() {
    const row = this.chosen();
    if (!row || row.sort === "kit") return [];
    const at = this.paths().findIndex((p) => p.id === row.id && row.sort === "path");
    const cell = (key, f, label, value, digits) => ({ ...f, key, label, value, digits, shown: figure(value, digits, true) });
    const sends = this.paths()
      .filter((_, i) => row.sort !== "path" || i > at)
      .map((p) => {
        const value = row.sends[p.id] ?? this.chart.off_db;
        return { ...cell(p.id, field("send", "level_db"), `send to ${p.name}`, value, 1), send: true, shown: value <= this.chart.off_db ? "–" : figure(value, 1, true) };
      });
    return [cell("pan", field("strip", "pan"), "place", row.pan, 2), ...sends];
  },
  change(row, cell, value) {
    if (!cell.send) return { [`${row.place}.${cell.key}`]: value };
    const others = Object.entries(row.sends).filter(([id]) => id !== cell.key).map(([id, level_db]) => ({ id, level_db }));
    const mine = value > this.chart.off_db ? [{ id: cell.key, level_db: value }] : [];
    return { [`${row.place}.sends`]: [...others, ...mine] };
  },
  tryField(cell, event) {
    this.$store.page.try(this.change(this.chosen(), cell, fit(Number(event.target.value), cell)));
  },
  setField(cell, event) {
    const value = fit(Number(event.target.value), cell);
    this.$store.page.move(this.change(this.chosen(), cell, value), `${this.chosen().name}: ${cell.label} ${figure(value, cell.digits, true)}`);
  },
  intos() {
    const none = { id: "", name: "the kit" };
    return this.chosen()?.into ? this.chart.groups : [none, ...(this.chart?.groups || [])];
  },
  into(event) {
    const row = this.chosen();
    this.$store.page.move({ [`${row.place}.group`]: event.target.value }, `${row.name} into ${event.target.selectedOptions[0].textContent}`, "");
  },
  isMic() {
    return this.chosen()?.sort === "mic";
  },
  recipes() {
    return this.chart ? this.chart.recipes : [];
  },
  async addPath(event) {
    const recipe = event.target.value;
    event.target.value = "";
    if (recipe) await this.$store.page.act("rig", { do: "add-path", recipe: recipe === "empty" ? "" : recipe, feed: this.$refs.feed.value });
  },
  kitFirst() {
    return this.$store.page.act("rig", { do: "kit-first" });
  },
  async addGroup() {
    const input = document.getElementById("new-group");
    await this.$store.page.act("rig", { do: "add-group", name: input.value });
    input.value = "";
  },
  async removeStrip() {
    const { sort, id } = this.chosen();
    await this.$store.page.act("rig", { do: `remove-${sort}`, [sort]: id });
  },

  /** Peak, true peak and loudness of the busiest part and of the song, one under the other. */
  figures() {
    if (!this.chart) return [];
    const { kit } = this.chart.figures;
    const song = this.chart.whole;
    const told = (of, key, unit) => (typeof of[key] === "number" ? level(of[key], unit) : "–");
    const row = (words, key, unit) => ({ words, busy: told(kit, key, unit), song: song ? told(song, key, unit) : "…" });
    return [
      row("peak", "peak_db", "dBFS"),
      row("true peak", "true_peak_db", "dBTP"),
      row("loudness", "loudness_lufs", "LUFS"),
      row("loudest 3 s", "short_term_lufs", "LUFS"),
      row("loudness range", "range_lu", "LU"),
    ];
  },
  takenWords() {
    if (!this.chart) return "";
    return this.chart.compresses ? `the kit's compressor takes up to ${figure(this.chart.figures.reduction.deepest_db, 1)} dB` : "the kit's compressor is off";
  },
  draw() {
    if (!this.chart || !this.sheet.begin(150)) return;
    const { sheet, chart } = this;
    const { reduction } = chart.figures;
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
registerRaise();
registerMusic();
start();
