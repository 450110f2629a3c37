// A strip's row of tools: a sentence of words in order, and the settings of the chosen one.
import { fit, figure } from "./geometry.js";
import { Alpine, boot } from "./page.js";
import { picture } from "./picture.js";

/** The tool that a page shows: the one that was picked, else the first of the kinds that its step sets: on Blend none is open until it is picked. */
export function chosenTool(page) {
  const tools = page.chart?.row?.tools || [];
  return tools.find((t) => t.id === page.picked) || tools.find((t) => boot.tools.includes(t.kind)) || null;
}

/** The chosen tool if it is of one of some kinds, else the first of the row that is. */
export function toolOf(page, ...kinds) {
  const chosen = chosenTool(page);
  return chosen && kinds.includes(chosen.kind) ? chosen : page.chart?.row?.tools.find((t) => kinds.includes(t.kind)) || null;
}

export function registerRow() {
  Alpine.data("picture", picture);
  Alpine.data("row", () => ({
    dragged: "",

    row() {
      return this.$store.page.chart?.row || null;
    },
    tools() {
      return this.row()?.tools || [];
    },
    tool() {
      return chosenTool(this.$store.page);
    },
    isChosen(tool) {
      return this.tool()?.id === tool.id;
    },
    isOn() {
      return Boolean(this.tool()?.on);
    },
    /** A word may be dropped here. */
    pass() {},
    pick(tool) {
      this.$store.page.picked = tool.id;
      window.dispatchEvent(new CustomEvent("picked"));
    },
    effect(tool) {
      const { hits_db, between_db } = tool;
      if (!tool.on) return "off";
      if (tool.settings.duck) return `dips by up to ${figure(tool.settings.range_db, 1)} dB at ${this.keyWords(tool)}`;
      if (hits_db === null) return "";
      if (Math.abs(hits_db) < 0.05 && Math.abs(between_db || 0) < 0.05) return "changes nothing";
      return `hits ${figure(hits_db, 1, true)} dB${between_db === null ? "" : `, between ${figure(between_db, 1, true)} dB`}`;
    },
    /** What a tool's detector listens to, in words. */
    keyWords(tool) {
      const of = tool.settings.key?.of || "";
      return (this.row().keys || []).find((each) => each.of === of)?.words || of || "itself";
    },
    ends() {
      const strip = this.row()?.strip || "";
      return strip === "kit" ? "the print" : strip.startsWith("mic:") ? "its level and place, its group" : "its level, the kit";
    },
    others() {
      return (this.$store.page.chart?.strips || this.$store.page.mics.map((m) => ({ name: `mic:${m.id}`, words: m.name }))).filter((s) => s.name !== this.row()?.strip);
    },
    do(name, more = {}) {
      return this.$store.page.act("rig", { do: name, step: this.$store.page.step, strip: this.row().strip, ...more });
    },
    async add(event) {
      const kind = event.target.value;
      event.target.value = "";
      if (!kind) return;
      const known = this.tools().map((t) => t.id);
      await this.do("add-tool", { kind });
      const made = this.tools().find((t) => !known.includes(t.id));
      if (made) this.pick(made);
    },
    copy(event) {
      const to = event.target.value;
      event.target.value = "";
      if (to) this.do("copy-tool", { tool: this.tool().id, others: [to] });
    },
    shift(tool, by) {
      return this.do("move-tool", { tool: tool.id, by });
    },
    remove(tool) {
      return this.do("remove-tool", { tool: tool.id });
    },
    place(of) {
      return this.tools().findIndex((t) => t.id === of.id);
    },
    drop(onto) {
      const from = this.tools().findIndex((t) => t.id === this.dragged);
      const to = this.place(onto);
      if (from >= 0 && to !== from) this.shift(this.tools()[from], to - from);
      this.dragged = "";
    },
    keyed(event, tool) {
      const by = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
      if (by && event.altKey) this.shift(tool, by);
      else if (by) event.target.closest("[role=toolbar]").querySelectorAll(".word")[this.place(tool) + by]?.focus();
      else if (event.key === "o") this.toggle(tool);
      else if (event.key === "Delete") this.remove(tool);
      else return;
      event.preventDefault();
      event.stopPropagation();
    },
    path(key) {
      return `${this.row().place}.tools.${this.tool().id}.${key}`;
    },
    move(key, value, words) {
      return this.$store.page.move({ [this.path(key)]: value }, `${this.row().name}: ${this.tool().id} ${words}`);
    },
    toggle(tool) {
      const path = `${this.row().place}.tools.${tool.id}.on`;
      return this.$store.page.move({ [path]: !tool.on }, `${this.row().name}: ${tool.id} ${tool.on ? "off" : "on"}`);
    },

    /** The fields of the chosen tool, with those of its key. */
    fieldsOf() {
      const tool = this.tool();
      if (!tool) return [];
      const own = boot.fields[tool.kind] || [];
      if (!tool.settings.key) return own;
      const struck = tool.settings.key.of.startsWith("hits:");
      const shown = boot.fields.key.filter((f) => (struck ? f.key.endsWith("_ms") : !f.key.endsWith("_ms")));
      return [...own, ...shown.map((f) => ({ ...f, key: `key.${f.key}` }))];
    },
    /** Its fields of several options. */
    choices() {
      return this.tool() ? boot.choices[this.tool().kind] || [] : [];
    },
    pickOption(event, choice) {
      this.move(choice.key, event.target.value, `${choice.label} ${event.target.value}`);
    },
    read(key) {
      return key.split(".").reduce((value, part) => value?.[part], this.tool()?.settings) ?? 0;
    },
    slide(event, field) {
      this.$store.page.try({ [this.path(field.key)]: fit(Number(event.target.value), field) });
    },
    commit(event, field) {
      const value = fit(Number(event.target.value), field);
      event.target.value = value;
      this.move(field.key, value, `${field.label} ${value}${field.unit ? ` ${field.unit}` : ""}`);
    },

    hasKey() {
      return Boolean(this.tool()?.settings.key);
    },
    keyOf() {
      return this.tool()?.settings.key?.of || "";
    },
    setKey(event) {
      this.do("set-key", { tool: this.tool().id, of: event.target.value });
    },
    hearKey() {
      const bar = Alpine.$data(document.querySelector('[x-data="listen"]'));
      bar.setWhat(`key:${this.row().strip}/${this.tool().id}`);
      if (!bar.playing) bar.toggle();
    },
  }));
}
