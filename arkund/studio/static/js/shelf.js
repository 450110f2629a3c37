// The hand of the Replace page: hits that are kept, put in the place of others, and laid under all of a drum.
import { figure } from "./lib/geometry.js";
import { get } from "./lib/server.js";
import { boot } from "./lib/page.js";

/** What the Replace page does with its shelf; part of its chart's component. */
export const shelfHand = {
  by: "",
  where: "all",
  strength: "usual",
  picked: [],
  others: [],

  shelf() {
    return this.chart?.shelf || [];
  },
  /** Of the drum that is shown, all kept hits where none is picked. */
  chosen() {
    const known = this.shelf().map((c) => c.id);
    return this.picked.filter((id) => known.includes(id));
  },
  chosenWords() {
    const count = this.chosen().length;
    return count ? `the ${count} picked` : "all of them";
  },
  keptWords(c) {
    const strength = c.strength_db === null ? `${figure(c.level_db, 1)} dBFS` : `strength ${figure(c.strength_db, 1)} dB`;
    return `${strength} · ${c.length_ms} ms`;
  },
  usedWords(c) {
    return c.used.length ? `used by ${c.used.join(", ")}` : "";
  },
  hasMic() {
    return Boolean(this.chart?.mics.length);
  },
  firstMic() {
    return this.chart?.mics[0]?.[1] || "";
  },
  rig(doing, more = {}) {
    return this.$store.page.act("rig", { do: doing, step: "replace", ...more });
  },
  keep() {
    return this.rig("keep-hit", { piece: this.chart.piece, time_s: this.time });
  },
  keepClean(take) {
    return this.rig("keep-hit", { piece: this.chart.piece, take });
  },
  otherTakes() {
    return this.chart ? this.chart.takes : [];
  },
  async keepFrom(event) {
    const take = event.target.value;
    event.target.value = "";
    if (take) await this.keepClean(take);
  },
  hearKept(c) {
    window.dispatchEvent(new CustomEvent("kept", { detail: c.id }));
  },
  offShelf(c) {
    return this.rig("off-shelf", { capture: c.id });
  },
  layHits(into) {
    return this.rig("lay-hits", { piece: this.chart.piece, captures: this.chosen(), into });
  },
  replaceIt() {
    const how = { capture: this.by, everywhere: this.where === "all", as_played: this.strength === "played" };
    return this.rig("replace-hit", { piece: this.chart.piece, time_s: this.time, ...how });
  },
  isPlaced() {
    return this.chart?.placements.some((p) => Math.abs(p - this.time) < 0.05) || false;
  },
  putBack() {
    return this.rig("put-back", { time_s: this.time });
  },
  async load(event) {
    const files = [...event.target.files];
    event.target.value = "";
    if (files.length) await this.$store.page.send("take-in", files, { what: "shelf", piece: this.chart.piece });
  },
  async findShelves() {
    this.others = (await get(`/s/${boot.session}/shelves`)).shelves;
  },
  async takeOver(event) {
    const other = Number(event.target.value);
    event.target.value = "";
    if (other) await this.$store.page.act("take-over", { other });
  },
};
