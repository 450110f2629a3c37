// Scenes: what is set for the whole song or for some sections alone, and where each scene holds, sections across.
import { figure } from "./geometry.js";
import { Alpine } from "./page.js";

const LOOPED_BARS = 4;

export function registerScenes() {
  Alpine.data("scenes", () => ({
    page() {
      return this.$store.page;
    },
    scenes() {
      return this.page().scenes || [];
    },
    scene() {
      return this.scenes().find((s) => s.id === this.page().scene) || null;
    },
    isChosen(id) {
      return this.page().scene === id;
    },
    /** Work in a scene, or in the whole song; the loop goes to where the scene holds. */
    choose(id) {
      this.page().inScene(id);
      const span = this.scenes().find((s) => s.id === id)?.holds_in[0];
      const lines = this.page().bars?.lines_s || [];
      if (!span || lines.length <= span[0]) return;
      const stop = Math.min(span[0] + LOOPED_BARS, span[1] ?? lines.length - 1, lines.length - 1);
      if (stop > span[0]) window.dispatchEvent(new CustomEvent("loop", { detail: { start: lines[span[0]], stop: lines[stop] } }));
    },
    /** The sections in order, each as wide as its share of the song. */
    columns() {
      const sections = this.page().sections || [];
      const last = Math.max((this.page().bars?.lines_s.length || 1) - 1, 1);
      return sections.map((s, i) => ({ name: s.name, bar: s.bar, width: { width: `${(100 * ((sections[i + 1]?.bar ?? last) - s.bar)) / (last - sections[0].bar)}%` } }));
    },
    holds(scene, column) {
      return scene.sections.includes(column.name);
    },
    /** How many of its settings a scene holds; shown in the cells. */
    cellWords(scene, column) {
      return this.holds(scene, column) ? `${scene.held.length || "no"} setting${scene.held.length === 1 ? "" : "s"}` : "";
    },
    flip(scene, column) {
      const sections = this.holds(scene, column) ? scene.sections.filter((s) => s !== column.name) : [...scene.sections, column.name];
      return this.page().act("rig", { do: "set-scene", scene: scene.id, sections });
    },
    barWords(scene) {
      return scene.bars.map(([first, after]) => `bars ${first + 1} to ${after}`).join(", ");
    },
    setFade(event) {
      return this.page().act("rig", { do: "set-scene", scene: this.scene().id, fade_ms: Number(event.target.value) });
    },
    fade() {
      return this.scene()?.fade_ms;
    },
    async add() {
      const input = document.getElementById("new-scene");
      const known = this.scenes().map((s) => s.id);
      await this.page().act("rig", { do: "add-scene", name: input.value });
      const made = this.scenes().find((s) => !known.includes(s.id));
      if (!made) return;
      input.value = "";
      this.choose(made.id);
    },
    remove() {
      const { id } = this.scene();
      this.page().scene = "";
      return this.page().act("rig", { do: "remove-scene", scene: id });
    },
    held() {
      return this.scene()?.held || [];
    },
    heldWords(each) {
      const shown = (v) => (typeof v === "number" ? figure(v, 1, true) : v === true ? "on" : v === false ? "off" : v);
      return `${each.words} ${shown(each.value)} (song ${shown(each.usual)})`;
    },
    letGo(each) {
      return this.page().move({ [each.place]: each.usual }, `${each.words} as in the song`);
    },
    where() {
      const scene = this.scene();
      if (!scene) return "What you set holds for the whole song, but where a scene holds something else.";
      if (!scene.holds_in.length) return `${scene.name} holds nowhere yet: choose its sections below.`;
      const { only } = this.$root.dataset;
      if (only) return `${only} where ${scene.name} holds; all else for the whole song.`;
      return `What you set now holds where ${scene.name} holds, and nowhere else.`;
    },
  }));
}
