// Dialling in a compressor: one question at a time, a few versions each on a key of its own, heard at equal loudness while the loop goes on.
import { Alpine, boot } from "./page.js";
import { toolOf } from "./row.js";
import { post } from "./server.js";

const TIMES = "times";
const NOTES = "notes";

export function registerDial() {
  Alpine.data("dial", () => ({
    school: "times",
    notes: TIMES,
    stage: null,
    chosen: -1,
    taken: [], // what each stage before was left with
    busy: false,

    init() {
      this.keys = (event) => this.key(event);
      this.gone = () => this.leave();
      window.addEventListener("keydown", this.keys, true);
      window.addEventListener("chosen", this.gone);
    },
    destroy() {
      window.removeEventListener("keydown", this.keys, true);
      window.removeEventListener("chosen", this.gone);
    },
    tool() {
      return toolOf(this.$store.page, "compressor");
    },
    schools() {
      return this.$store.page.chart?.schools || [];
    },
    words() {
      return this.schools().find((s) => s.key === this.school)?.words || "";
    },
    isSchool(key) {
      return this.school === key;
    },
    open() {
      return this.stage !== null;
    },
    versions() {
      return this.stage?.versions || [];
    },
    title() {
      return this.stage ? `${this.stage.number + 1} of ${this.stage.of}: ${this.stage.title}` : "";
    },
    isChosen(i) {
      return this.chosen === i;
    },
    isTimed() {
      return Boolean(this.stage?.timed);
    },
    notesWords() {
      return this.notes === NOTES ? "in ms" : "as note values";
    },
    last() {
      return this.stage && this.stage.number === this.stage.of - 1;
    },
    nextWords() {
      return this.last() ? "keep it (Enter)" : "on with this (Enter)";
    },

    begin(school) {
      this.school = school;
      this.taken = [];
      const bar = Alpine.$data(document.querySelector('[x-data="listen"]'));
      if (!bar.playing) bar.toggle();
      return this.ask(0, null);
    },
    async ask(number, given) {
      if (!this.tool()) return this.$store.page.say("There is no compressor in this row; add one.", true);
      this.busy = true;
      try {
        const asked = { strip: this.$store.page.chart.row.strip, tool: this.tool().id, school: this.school, stage: number, given, notes: this.notes };
        this.stage = await post(`/s/${boot.session}/dial`, asked);
        this.pick(Math.min(1, this.versions().length - 1));
      } catch (error) {
        this.$store.page.say(error.message, true);
      } finally {
        this.busy = false;
      }
      return null;
    },
    pick(i) {
      if (!this.versions()[i]) return;
      this.chosen = i;
      this.$store.page.try({ [this.stage.place]: this.versions()[i].settings });
    },
    next() {
      const version = this.versions()[this.chosen];
      if (!version || this.busy) return null;
      if (!this.last()) {
        this.taken.push(this.stage.number ? this.given : null);
        this.given = version.settings;
        return this.ask(this.stage.number + 1, version.settings);
      }
      const { ratio, threshold_db, attack_ms, release_ms } = version.settings;
      const words = `${ratio}:1 at ${threshold_db} dB, ${attack_ms} ms, ${release_ms} ms`.replaceAll("-", "−");
      const { place } = this.stage;
      this.stage = null;
      return this.$store.page.move({ [place]: version.settings }, `${this.$store.page.chart.row.name}: dialled in, ${words}`);
    },
    back() {
      if (!this.stage || !this.stage.number) return this.leave();
      this.given = this.taken.pop();
      return this.ask(this.stage.number - 1, this.given);
    },
    leave() {
      if (!this.stage) return;
      this.stage = null;
      this.$store.page.try({});
    },
    swap() {
      this.notes = this.notes === NOTES ? TIMES : NOTES;
      return this.ask(this.stage.number, this.stage.number ? this.given : null);
    },
    /** Before the page's own keys: figures choose, Enter goes on, Backspace goes back, Escape leaves, n swaps ms and note values. */
    key(event) {
      const typing = event.target.closest?.("input, select, textarea");
      if (typing || event.ctrlKey || event.metaKey || event.altKey) return;
      const figure = Number(event.key);
      if (!this.stage) {
        if (event.key !== "d") return;
        this.begin(this.school);
      } else if (figure >= 1 && figure <= this.versions().length) this.pick(figure - 1);
      else if (event.key === "Enter") this.next();
      else if (event.key === "Backspace") this.back();
      else if (event.key === "Escape") this.leave();
      else if (event.key === "n" && this.isTimed()) this.swap();
      else return;
      event.preventDefault();
      event.stopPropagation();
    },
  }));
}
