// Styles by ear: raw, and what each style would make of the kit, heard at one loudness by the keys 1 to 4 before anything is changed.
const RAW = "raw";
const send = (name, detail) => window.dispatchEvent(new CustomEvent(name, { detail }));

/** Part of a component whose chart has `styles`: [{ style, chosen, deeds, changes }]. */
export const byEar = {
  ownName: "",

  heard: "", // what was asked for last: raw, or a style
  shown: "", // the style whose deeds are shown

  /** A style's figures may not be known for the kit as it stands; the chosen style is always there: it is the kit itself. */
  isUnknown(row) {
    return !row.chosen && row.deeds === null;
  },
  styleWords(row) {
    if (row.chosen) return "as it stands";
    return row.deeds === null ? "not worked out" : `${row.deeds.length} deeds`;
  },
  hears(name) {
    return this.heard === name;
  },
  hearRaw() {
    this.heard = RAW;
    this.shown = "";
    send("try", {});
    send("hear", "before");
  },
  async hearStyle(row) {
    if (this.isUnknown(row)) {
      await this.workOut(row.style);
      return;
    }
    this.heard = row.style;
    this.shown = row.chosen ? "" : row.style;
    send("try", row.chosen ? {} : row.changes);
    send("hear", "after");
  },
  /** Let a style be worked out, then show what it would do, and play it. */
  async workOut(style) {
    const done = await this.$store.page.act("work-out", { style });
    const row = this.styles().find((each) => each.style === style);
    if (!done || !row?.deeds) return;
    this.heard = style;
    this.shown = style;
    send("try", row.changes);
    send("hear", "after");
  },
  offered() {
    return this.styles().find((row) => row.style === this.shown && row.deeds) || null;
  },
  offeredDeeds() {
    return this.offered()?.deeds || [];
  },
  offeredWords() {
    const row = this.offered();
    if (!row) return "";
    if (!row.deeds.length) return `${row.style}: nothing that stays within its bounds brings this kit nearer to its targets.`;
    return `${row.style} would do this; what you set by hand stays as it is. Press 1 for raw, ${this.styles().indexOf(row) + 2} for this again.`;
  },
  async use() {
    const { style } = this.offered();
    this.drop();
    await this.$store.page.act("use-style", { style });
  },
  /** Keep what this kit measures as a style of one's own; forget one. */
  async keepStyle() {
    const answer = await this.$store.page.act("keep-style", { name: this.ownName });
    if (answer) this.ownName = "";
  },
  ownStyles() {
    return this.styles().filter((row) => row.own);
  },
  removeStyle(row) {
    return this.$store.page.act("keep-style", { name: row.style, remove: true });
  },
  chosenStyle() {
    return this.styles().find((row) => row.chosen)?.style || "";
  },
  drop() {
    this.shown = "";
    this.heard = "";
    send("try", {});
  },
  /** 1 plays the raw kit, 2 and on the styles in their order. */
  listenToKeys() {
    window.addEventListener("keydown", (event) => {
      if (event.target.closest("input, select, textarea") || event.ctrlKey || event.metaKey || event.altKey) return;
      const number = Number(event.key);
      const row = this.styles()[number - 2];
      if (number === 1) this.hearRaw();
      else if (row && !(this.isUnknown(row) && this.$store.page.job)) this.hearStyle(row);
    });
  },
};
