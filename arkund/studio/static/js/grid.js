// The hand of the Timing page: which grid, which school, which bars, and a tempo that is tapped, estimated or read from a file.
import { figure } from "./lib/geometry.js";

export const grid = {
  settings: {}, // first values come with the chart
  groove: null,
  now: null, // where the ear is, in seconds
  taps: [],

  /** Tap along with what is played: the beats as the ear has them. */
  tap() {
    if (this.now === null) return;
    if (this.taps.length && (this.now <= this.taps.at(-1) || this.now - this.taps.at(-1) > 2)) this.taps = [];
    this.taps = [...this.taps, this.now];
  },
  tapped() {
    const gaps = this.taps.slice(1).map((at, k) => at - this.taps[k]).sort((a, b) => a - b);
    return gaps.length >= 3 ? 60 / gaps[Math.floor(gaps.length / 2)] : 0;
  },
  tapWords() {
    return this.tapped() ? `take the tapped ${figure(this.tapped(), 1)} BPM` : `tap the beat: key t${this.taps.length ? ` (${this.taps.length})` : ""}`;
  },
  /** The first tap is the first beat of a bar; the estimate from the hits makes it exact. */
  takeTaps() {
    const { beats_per_bar, beat_unit } = this.chart.tempo;
    const bpm = Number(this.tapped().toFixed(2));
    const bar = (60 / bpm / (beat_unit === 8 && beats_per_bar % 3 === 0 ? 3 : 1)) * beats_per_bar;
    const first = this.taps[0] % bar;
    this.taps = [];
    return this.$store.page.move({ "tempo.bpm": bpm, "tempo.first_bar_s": Number(first.toFixed(4)), "tempo.changes": [] }, `Tempo ${bpm} BPM, tapped`);
  },
  estimate(how = {}) {
    return this.$store.page.act("tempo", how);
  },
  meter() {
    return this.chart ? `${this.chart.tempo.beats_per_bar}/${this.chart.tempo.beat_unit}` : "";
  },
  meters() {
    return this.chart ? [...new Set([...this.chart.meters, this.meter()])] : [];
  },
  setMeter(event) {
    return this.estimate({ meter: event.target.value });
  },
  async upload(event, what) {
    const [file] = event.target.files;
    event.target.value = "";
    if (file) await this.$store.page.send("take-in", file, { what });
  },
  grid() {
    return this.chart ? this.chart.grid : 16;
  },
  grids() {
    return this.chart ? this.chart.grids : [];
  },
  gridName(g) {
    if (g === 0) return "as meant";
    return g % 3 === 0 ? `1/${(g * 2) / 3} triplets` : `1/${g}`;
  },
  setGrid(event) {
    this.$store.page.choose(event.target.value);
  },
  schools() {
    return this.chart ? Object.entries(this.chart.schools).map(([name, s]) => ({ name, ...s })) : [];
  },
  setSchool(school) {
    Object.assign(this.settings, school.settings);
  },
  schoolName(name) {
    return name === "grid" ? "all on the grid" : "keep the feel";
  },
  grooveWords() {
    return this.groove ? `feel of bars ${this.groove[0] + 1} to ${this.groove[1] + 1}` : "the even grid";
  },
  takeGroove() {
    this.groove = this.groove || this.first === null ? null : [this.first, this.last];
  },
  quantise() {
    const more = this.groove ? { groove_first: this.groove[0], groove_last: this.groove[1] } : {};
    return this.$store.page.act("quantise", { settings: { first_bar: this.first, last_bar: this.last, grid: this.grid(), ...this.settings, ...more } });
  },
  allBars() {
    [this.first, this.last] = [0, this.count - 1];
    this.kept.soon();
  },
  meantAs(grid) {
    const kept = this.chart.set_meant.filter((m) => m.bar < this.first || m.bar > this.last);
    const mine = Array.from({ length: this.last - this.first + 1 }, (_, k) => ({ bar: this.first + k, grid }));
    return this.$store.page.move({ meant: [...kept, ...mine] }, `${this.chosenWords()} meant ${this.gridName(grid)}`);
  },
  clearCuts() {
    return this.$store.page.move({ cuts: [], lone_cuts: [] }, "All edits in time taken back");
  },
};
