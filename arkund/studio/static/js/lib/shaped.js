// The bands of a shaper: changed as a whole, so that each change is one Move.
import { Alpine } from "./page.js";
import { chosenTool } from "./row.js";

const MOST_ABOVE = 3;
const FIRST_HZ = [150, 1000, 4000];

export function registerShaped() {
  Alpine.data("shaped", () => ({
    tool() {
      return chosenTool(this.$store.page);
    },
    shown() {
      return this.tool()?.kind === "shaper";
    },
    above() {
      return (this.shown() && this.tool().settings.above) || [];
    },
    words() {
      const [first] = this.above();
      return first ? `What is set above holds below ${first.from_hz} Hz.` : "One band: all of it is shaped alike.";
    },
    mayPart() {
      return this.above().length < MOST_ABOVE;
    },
    save(above, title) {
      const row = this.$store.page.chart.row;
      const sorted = [...above].sort((a, b) => a.from_hz - b.from_hz);
      return this.$store.page.move({ [`${row.place}.tools.${this.tool().id}.above`]: sorted }, `${row.name}: ${this.tool().id} ${title}`);
    },
    part() {
      const known = this.above().map((b) => b.from_hz);
      const from_hz = FIRST_HZ.find((hz) => !known.includes(hz)) || Math.max(...known) * 1.5;
      const top = this.above().at(-1) || this.tool().settings;
      return this.save([...this.above(), { from_hz, attack_db: top.attack_db, sustain_db: top.sustain_db, gain_db: top.gain_db }], `parted at ${from_hz} Hz`);
    },
    join(i) {
      return this.save(this.above().filter((_, k) => k !== i), `joined at ${this.above()[i].from_hz} Hz`);
    },
    typed(i, key, event) {
      const value = Number(event.target.value);
      return this.save(this.above().map((b, k) => (k === i ? { ...b, [key]: value } : b)), `band ${i + 2}, ${key.replace(/_.*/, "")} ${value}`);
    },
  }));
}
