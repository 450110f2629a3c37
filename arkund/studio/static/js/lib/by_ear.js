// Styles by ear: raw, and what each style would make of the kit, heard at one loudness by the keys 1 to 4 before anything is changed.
const RAW = "raw";
const send = (name, detail) => window.dispatchEvent(new CustomEvent(name, { detail }));

/** Part of a component whose chart has `styles`: [{ style, chosen, deeds, changes }]. */
export const byEar = {
  ownName: "",

  asked: "", // for the ear, last: raw, or a style
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
    return this.asked === name || (this.asked === `${name}, offered` && name !== this.chosenStyle());
  },
  hearsOffered() {
    return this.asked === `${this.shown}, offered`;
  },
  hearRaw() {
    this.asked = RAW;
    send("try", {});
    send("hear", "before");
  },
  async hearStyle(row) {
    if (this.isUnknown(row)) {
      await this.workOut(row.style);
      return;
    }
    this.shown = row.chosen && this.shown !== row.style ? "" : row.style;
    if (!row.chosen) {
      this.hearOffered();
      return;
    }
    this.asked = row.style;
    send("try", {});
    send("hear", "after");
  },
  /** Let a style be worked out, then show what it would do, and play it. */
  async workOut(style) {
    const done = await this.$store.page.act("work-out", { style });
    if (!done || !this.styles().find((each) => each.style === style)?.deeds) return;
    this.shown = style;
    this.hearOffered();
  },
  /** Play what is offered; of the chosen style that is not the kit as it stands. */
  hearOffered() {
    this.asked = `${this.shown}, offered`;
    send("try", this.offered().changes);
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
    const key = this.styles().indexOf(row) + 2;
    const again = row.chosen ? `${key} plays the kit as it stands` : `${key} plays this again`;
    return `${row.style} would do this; what you set by hand stays as it is. 1 plays raw, ${again}.`;
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
  async keepMix(event) {
    const [file] = event.target.files;
    event.target.value = "";
    if (file) await this.$store.page.send("take-in", file, { what: "reference" });
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
    this.asked = "";
    send("try", {});
  },
  /** 1 plays the raw kit, 2 and on the styles in their order. */
  byKey(event) {
    if (event.target.closest("input, select, textarea") || event.ctrlKey || event.metaKey || event.altKey) return;
    const number = Number(event.key);
    const row = this.styles()[number - 2];
    if (number === 1) this.hearRaw();
    else if (row && !(this.isUnknown(row) && this.$store.page.job)) this.hearStyle(row);
  },
};
