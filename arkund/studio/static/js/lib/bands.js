// The filters of a tone tool: a list of exact values, changed as a whole so that each change is one Move.
import { within, Alpine, boot } from "./page.js";
import { chosenTool, toolOf } from "./row.js";

export const SHAPES = ["high_pass", "bump", "low_shelf", "bell", "high_shelf", "low_pass"];
const FIRST = { high_pass: [80, 0], low_pass: [12000, 0], low_shelf: [120, 2], high_shelf: [8000, 2], bell: [1000, 2], bump: [60, 4] };
const FIRST_MOVE_DB = -6;

/** What is done to the filters of the chosen tone tool, or of the first one in the row. */
export const bandList = () => ({
  kinds: SHAPES,
  toneTool() {
    return toolOf(this.$store.page, "tone");
  },
  bands() {
    return this.toneTool()?.settings.bands || [];
  },
  sloped(band) {
    return band.kind === "high_pass" || band.kind === "low_pass";
  },
  mostQ(band, most) {
    return band.kind.endsWith("_shelf") ? boot.most_shelf_q : most;
  },
  bandsPath() {
    return `${this.$store.page.chart.row.place}.tools.${this.toneTool().id}.bands`;
  },
  save(bands, title) {
    return this.$store.page.move({ [this.bandsPath()]: bands }, `${this.$store.page.chart.row.name}: ${title}`);
  },
  add(kind, frequency = FIRST[kind][0], gain = FIRST[kind][1]) {
    if (!this.toneTool()) return this.$store.page.say("There is no tone tool in this row; add one.", true);
    const band = { kind, on: true, frequency_hz: within("band", "frequency_hz", frequency, 0), gain_db: within("band", "gain_db", gain), q: 0.9, slope_db: 12 };
    return this.save([...this.bands(), band], `${kind.replace("_", "-")} added at ${band.frequency_hz} Hz`);
  },
  drop(i) {
    return this.save(this.bands().filter((_, k) => k !== i), `filter ${i + 1} removed`);
  },
  typed(i, key, event) {
    return this.put(i, key, Number(event.target.value));
  },
  put(i, key, value) {
    const bands = this.bands().map((b, k) => (k === i ? { ...b, [key]: value } : b));
    return this.save(bands, `filter ${i + 1}, ${key.replace("_", " ")} ${value}`);
  },
  mayMove(band) {
    return band.kind === "bell" || band.kind.endsWith("_shelf");
  },
  /** Let a filter move with the level in it, from a threshold that the strip's own hits pass; or let it stand still. */
  letMove(i) {
    if (this.bands()[i].range_db) return this.put(i, "range_db", 0);
    const { row } = this.$store.page.chart;
    return this.$store.page.act("rig", { do: "move-band", step: this.$store.page.step, strip: row.strip, tool: this.toneTool().id, band: i, range_db: FIRST_MOVE_DB });
  },
  switchBand(i) {
    const bands = this.bands().map((b, k) => (k === i ? { ...b, on: !b.on } : b));
    return this.save(bands, `filter ${i + 1} ${bands[i].on ? "on" : "off"}`);
  },
});

export function registerBands() {
  Alpine.data("bands", () => ({
    ...bandList(),
    shown() {
      return chosenTool(this.$store.page)?.kind === "tone";
    },
  }));
}
