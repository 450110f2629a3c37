// Blend: levels, places and sends; the paths; what the bus takes.
import { clamp, figure, fit } from "./lib/geometry.js";
import { charted } from "./lib/charted.js";
import { registerListen } from "./lib/listen.js";
import { Alpine, boot, hand, registerPage, start } from "./lib/page.js";

const PATH_FIELDS = ["threshold_db", "ratio", "attack_ms", "release_ms", "detector_low_hz", "makeup_db"];

Alpine.data("blend", () => ({
  ...charted({ left: 56, right: 16, top: 26, bottom: 32 }),
  ...hand(
    function path(key, name) {
      const own = name === "bus" ? boot.fields.bus : boot.fields.path;
      return own.some((f) => f.key === key) ? `${name}.${key}` : `${name}.compressor.${key}`;
    },
    function values(name) {
      return this.chart && { ...this.chart[name].compressor, ...this.chart[name] };
    },
  ),
  cells: ["level_db", "pan", "punch_send_db", "sustain_send_db"],
  paths: ["punch", "sustain", "bus"],

  rows() {
    return this.chart ? this.chart.rows : [];
  },
  rangeOf(key) {
    return boot.fields.mix.find((f) => f.key === key);
  },
  show(row, key) {
    if (key.endsWith("send_db") && row[key] <= this.chart.off_db) return "–";
    return figure(row[key], key === "pan" ? 2 : 1, true);
  },
  tryCell(row, key, event) {
    row[key] = fit(Number(event.target.value), this.rangeOf(key));
    this.$store.page.try({ [`mics.${row.id}.mix.${key}`]: row[key] });
  },
  cell(row, key, event) {
    const value = fit(Number(event.target.value), this.rangeOf(key));
    this.$store.page.move({ [`mics.${row.id}.mix.${key}`]: value }, `${row.name}: ${this.rangeOf(key).label} ${figure(value, key === "pan" ? 2 : 1, true)}`);
  },
  flag(row, key) {
    this.$store.page.move({ [`mics.${row.id}.mix.${key}`]: !row[key] }, `${row.name}: ${key} ${row[key] ? "off" : "on"}`);
  },
  fieldsFor(path) {
    const own = path === "bus" ? boot.fields.bus : boot.fields.path;
    return [...own, ...boot.fields.compressor.filter((f) => PATH_FIELDS.includes(f.key))];
  },
  isOn(path) {
    if (!this.chart) return false;
    return path === "bus" ? this.chart.bus.compressor.on : this.chart[path].on;
  },
  switchPath(path) {
    const key = path === "bus" ? "bus.compressor.on" : `${path}.on`;
    this.$store.page.move({ [key]: !this.isOn(path) }, `${path === "bus" ? "Bus compressor" : `Path ${path.toUpperCase()}`} ${this.isOn(path) ? "off" : "on"}`);
  },
  limiterOn() {
    return Boolean(this.chart?.bus.limiter_on);
  },
  switchLimiter() {
    this.$store.page.move({ "bus.limiter_on": !this.limiterOn() }, `Limiter ${this.limiterOn() ? "off" : "on"}`);
  },
  meterWords() {
    if (!this.chart) return "Measuring …";
    const { kit, bus } = this.chart.kit;
    const takes = this.chart.bus.compressor.on ? `   bus takes up to ${figure(bus.deepest_db, 1)} dB` : "   bus compressor off";
    const song = this.chart.whole ? `   whole song: peak ${figure(this.chart.whole.peak_db, 1)} dBFS, ${figure(this.chart.whole.loudness_lufs, 1)} LUFS` : "";
    return `busiest 16 s: peak ${figure(kit.peak_db, 1)} dBFS   true peak ${figure(kit.true_peak_db, 1)} dBTP   ${figure(kit.loudness_lufs, 1)} LUFS${song}${takes}`;
  },
  draw() {
    if (!this.chart || !this.sheet.begin(170)) return;
    const { sheet, chart } = this;
    const { bus } = chart.kit;
    const x = sheet.x(0, bus.time_s.at(-1) || 1);
    const most = Math.max(6, Math.ceil(bus.deepest_db / 3) * 3);
    const y = sheet.y(-most, 0);
    sheet.across(x, { count: 16, unit: "s of the busiest part" });
    sheet.down(y, { unit: "bus reduction, dB; ticks: next strong kick or snare", count: 4 });
    const on = chart.bus.compressor.on;
    sheet.path(bus.time_s.map((t, i) => [x.to(t), clamp(y.to(-bus.reduction_db[i]), sheet.top, sheet.bottom)]), on ? "yours" : "soft", 1.4, on ? [] : [4, 4]);
    for (const t of chart.next_hits) if (t >= 0 && t <= x.high) sheet.line(x.to(t), sheet.top, x.to(t), sheet.top + 6, "ink");
    sheet.frame();
  },
}));

registerPage();
registerListen();
start();
