// A compressor dialled in by ear: exaggerate, set the times, back off.
import { comparing } from "./compare.js";
import { Alpine, boot } from "./page.js";
import { toolOf } from "./row.js";
import { post } from "./server.js";

const TIMES = "times";
const NOTES = "notes";

export function registerDial() {
  Alpine.data("dial", () => ({
    ...comparing("d"),
    school: "times",
    notes: TIMES,
    may() {
      return true;
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
    begin(school) {
      this.school = school;
      return this.start();
    },
    fetchStage(number, given) {
      const tool = toolOf(this.$store.page, "compressor");
      if (!tool) return this.$store.page.say("There is no compressor in this row; add one.", true);
      return post(`/s/${boot.session}/dial`, { strip: this.$store.page.chart.row.strip, tool: tool.id, school: this.school, stage: number, given, notes: this.notes });
    },
    kept({ settings }) {
      const { ratio, threshold_db, attack_ms, release_ms } = settings;
      return `${this.$store.page.chart.row.name}: dialled in, ${ratio}:1 at ${threshold_db} dB, ${attack_ms} ms, ${release_ms} ms`.replace(/ -(?=\d)/g, " −");
    },
    swap() {
      this.notes = this.notes === NOTES ? TIMES : NOTES;
      return this.ask(this.stage.number, this.stage.number ? this.given : null);
    },
  }));
}
