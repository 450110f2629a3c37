// What I did: each deed with how much it is heard, heard with and without, undone by itself.
import { registerListen } from "./lib/listen.js";
import { Alpine, boot, registerPage, start } from "./lib/page.js";

const MOST_DB = 4; // a bar of full length

Alpine.data("account", () => ({
  chosen: 0, // the number of a deed
  opened: [], // drums whose further deeds are shown
  placed: false, // whether the loop was put where deeds are heard

  get chart() {
    return this.$store.page.chart;
  },
  rows() {
    return this.chart?.deeds || [];
  },
  isEmpty() {
    return Boolean(this.chart) && !this.rows().length;
  },
  words() {
    if (!this.rows().length) return "";
    const done = this.rows().filter((deed) => !deed.undone).length;
    const [from, to] = this.chart.span_s;
    return `${done} deeds, largest audible effect first: how far apart the kit sounds with and without each, at one loudness, ${from} to ${to} s.`;
  },
  lines(name) {
    return this.chart?.[name] || [];
  },
  /** The first ones stand by themselves, the others by drum. */
  isShown(deed) {
    return this.rows().indexOf(deed) < this.chart.first || this.isOpen(deed.whose);
  },
  folds() {
    const out = new Map();
    for (const deed of this.rows().slice(this.chart?.first || 0)) out.set(deed.whose, (out.get(deed.whose) || 0) + 1);
    return [...out].map(([whose, count]) => ({ whose, count }));
  },
  foldWords({ whose, count }) {
    const name = whose[0].toUpperCase() + whose.slice(1);
    return `${name} (${count}${this.isOpen(whose) ? ", shown above" : ""})`;
  },
  unfold(whose) {
    this.opened = this.isOpen(whose) ? this.opened.filter((each) => each !== whose) : [...this.opened, whose];
  },
  isOpen(whose) {
    return this.opened.includes(whose);
  },
  sizeWords(deed) {
    return `mean change of third octaves, by how loud they are: ${deed.size}`;
  },
  width({ effect_db: db }) {
    return `scaleX(${Math.min((db || 0) / MOST_DB, 1).toFixed(3)})`;
  },
  isChosen(deed) {
    return this.chosen === deed.number;
  },
  pick(deed) {
    const other = !this.isChosen(deed);
    this.chosen = other ? deed.number : 0;
    window.dispatchEvent(new CustomEvent("compare", { detail: other ? `move:${deed.number}` : "kit" }));
  },
  hear(deed, version) {
    if (!this.placed) {
      const [start, stop] = this.chart.span_s; // where its effect was measured; from then on the loop is the engineer's
      window.dispatchEvent(new CustomEvent("loop", { detail: { start, stop } }));
      this.placed = true;
    }
    window.dispatchEvent(new CustomEvent("hear", { detail: version }));
  },
  hears(deed, version) {
    return this.isChosen(deed) && this.$store.page.hearing === version;
  },
  turn(deed) {
    return this.$store.page.act("revert", { move: deed.undone ? deed.reverted_by : deed.number });
  },
  linkOf(deed) {
    return `/s/${boot.session}/${deed.step}/`;
  },
  nameOf(deed) {
    return boot.pages[deed.step] || "Load";
  },
  /** Arrows go from deed to deed, u undoes the chosen one or does it again. */
  keyed(event) {
    if (event.target.closest("input, select, textarea") || event.ctrlKey || event.metaKey) return;
    const shown = this.rows().filter((deed) => this.isShown(deed));
    const at = shown.findIndex((deed) => this.isChosen(deed));
    const step = { ArrowDown: 1, ArrowUp: -1 }[event.key];
    if (step && shown.length) {
      event.preventDefault();
      const next = shown[Math.min(Math.max(at + step, 0), shown.length - 1)];
      if (!this.isChosen(next)) this.pick(next);
      document.getElementById(`deed-${next.number}`).focus();
    } else if (event.key === "u" && at >= 0 && !this.$store.page.pending) this.turn(shown[at]);
  },
}));

registerPage();
registerListen();
start();
