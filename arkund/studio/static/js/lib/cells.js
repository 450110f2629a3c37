// The cells of Blend: a level over the whole song or in a section, dragged up and down, typed, or stepped by keys. A section's head moves all groups there.
import { clamp, figure, fit } from "./geometry.js";
import { boot } from "./page.js";

const DB_PER_PIXEL = 0.1;
const STILL = 3; // pixels: less is a click
const QUIETEST_LUFS = -60;
const LOUDEST_LUFS = -12;
const STEP_DB = 0.5;
const FINE_DB = 0.1;
const REST_MS = 450; // after the last step by keys

export const celled = () => ({
  drag: null, // {row, at, from, value, y, moved}
  typing: "", // the key of the cell that is typed in
  stepped: null, // a level that is being stepped by keys: {key, cell, value, timer}; one Move when the keys rest

  /** The whole song, then its sections; of sections with the same name the first stands for all. */
  across() {
    return this.chart ? [{ name: "song", whole: true }, ...this.chart.across.map((s) => ({ ...s, whole: false }))] : [];
  },
  limits(row) {
    return boot.fields[row.sort === "kit" ? "kit" : "strip"].find((f) => f.key === "level_db");
  },
  /** A strip's cells: what is set and heard in each column. */
  cellsOf(row) {
    return this.across().map((column, at) => {
      const mute = row.sort === "kit" ? false : column.whole ? row.mute : row.mutes[at - 1];
      const key = `${row.place}/${at}`;
      const stepped = this.stepped?.key === key ? this.stepped.value : null;
      const value = stepped !== null ? stepped : this.drag && this.drag.row.place === row.place && this.drag.at === at ? this.drag.value : column.whole ? row.level_db : row.levels_db[at - 1];
      return { key, row, at, column, value, mute, held: !column.whole && row.held[at - 1], lufs: row.lufs[at] ?? null };
    });
  },
  cellLabel(cell) {
    return `level of ${cell.row.name}${cell.column.whole ? "" : ` in ${cell.column.name}`}`;
  },
  loudWords(cell) {
    return cell.mute ? "muted" : cell.lufs === null ? "–" : figure(cell.lufs, 1);
  },
  setWords(cell) {
    return figure(cell.value, 1, true);
  },
  /** How much of the cell is filled: its loudness. */
  fill(cell) {
    const share = cell.lufs === null || cell.mute ? 0 : (cell.lufs - QUIETEST_LUFS) / (LOUDEST_LUFS - QUIETEST_LUFS);
    return { width: `${100 * clamp(share, 0, 1)}%` };
  },

  press(cell, event) {
    if (event.button || this.typing === cell.key) return;
    event.currentTarget.setPointerCapture(event.pointerId);
    this.drag = { row: cell.row, at: cell.at, column: cell.column, from: cell.value, value: cell.value, y: event.clientY, moved: false };
  },
  pull(event) {
    const { drag } = this;
    if (!drag) return;
    const up = drag.y - event.clientY;
    if (!drag.moved && Math.abs(up) < STILL) return;
    drag.moved = true;
    drag.value = fit(drag.from + up * DB_PER_PIXEL, this.limits(drag.row));
    this.$store.page.try({ [`${drag.row.place}.level_db`]: drag.value }, this.sceneOf(drag.column));
  },
  release(cell) {
    const { drag } = this;
    this.drag = null;
    if (!drag) return;
    if (drag.moved && drag.value !== drag.from) this.set(cell, drag.value);
    else if (!drag.moved && !this.isChosen(cell.row)) this.choose(cell.row);
  },
  /** The scene of one section alone, where there is one; a trial is heard in it. */
  sceneOf(column) {
    if (column.whole) return "";
    return this.$store.page.scenes.find((s) => s.sections.length === 1 && s.sections[0] === column.name)?.id || "";
  },
  set(cell, value) {
    const level = fit(value, this.limits(cell.row));
    const place = `${cell.row.place}.level_db`;
    const words = `${cell.row.name}: level ${figure(level, 1, true)}`;
    if (cell.column.whole) return this.$store.page.move({ [place]: level }, words, "");
    return this.$store.page.act("rig", { do: "in-section", step: "blend", section: cell.column.name, values: { [place]: level }, title: words });
  },
  /** Up and down step the level, figures and Enter type it, left and right go along. */
  keyed(cell, event) {
    const by = { ArrowUp: 1, ArrowDown: -1 }[event.key];
    const way = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
    if (event.target.tagName === "INPUT") return;
    if (by) this.step(cell, by * (event.shiftKey ? FINE_DB : STEP_DB));
    else if (way) [...event.currentTarget.closest("tr").querySelectorAll("[role=spinbutton]")][cell.at + way]?.focus();
    else if (/^[-0-9]$/.test(event.key) || event.key === "Enter") this.type(cell, event.key === "Enter" ? "" : event.key);
    else return;
    event.preventDefault();
    event.stopPropagation();
  },
  /** Step a level: heard at once, from where the last step left it; written once, when the keys rest or go elsewhere. */
  step(cell, by) {
    if (this.stepped && this.stepped.key !== cell.key) this.rest();
    clearTimeout(this.stepped?.timer);
    const value = fit((this.stepped?.value ?? cell.value) + by, this.limits(cell.row));
    this.stepped = { key: cell.key, cell, value, timer: setTimeout(() => this.rest(), REST_MS) };
    this.$store.page.try({ [`${cell.row.place}.level_db`]: value }, this.sceneOf(cell.column));
  },
  async rest() {
    const { stepped } = this;
    if (!stepped || stepped.written) return;
    clearTimeout(stepped.timer);
    stepped.written = true;
    await this.set(stepped.cell, stepped.value);
    if (this.stepped === stepped) this.stepped = null;
  },
  isTyped(cell) {
    return this.typing === cell.key;
  },
  type(cell, first = "") {
    this.typing = cell.key;
    const input = this.$root.querySelector(`input[data-cell="${cell.key}"]`);
    input.style.display = ""; // at once, so that the next key finds it: what is shown otherwise follows later
    input.value = first || cell.value;
    input.focus();
    if (first) input.setSelectionRange(input.value.length, input.value.length);
    else input.select();
  },
  typed(cell, event) {
    if (this.typing !== cell.key) return;
    this.typing = "";
    const value = Number(event.target.value.replace("−", "-").replace(",", "."));
    if (event.type !== "keydown" || event.key !== "Escape") {
      if (Number.isNaN(value)) this.$store.page.say(`Level: expected a number of dB, got “${event.target.value}”.`, true);
      else if (value !== cell.value) this.set(cell, value);
    }
  },
  /** All groups of a section, or of the whole song, by as much. */
  shift(column, by) {
    const at = this.across().findIndex((c) => c === column || (c.name === column.name && c.whole === column.whole));
    const values = Object.fromEntries(
      this.chart.groups.map((g) => [`${g.place}.level_db`, fit((column.whole ? g.level_db : g.levels_db[at - 1]) + by, this.limits({ sort: "group" }))]),
    );
    const title = `all groups ${figure(by, 1, true)} dB`;
    if (column.whole) return this.$store.page.move(values, title, "");
    return this.$store.page.act("rig", { do: "in-section", step: "blend", section: column.name, values, title });
  },
  louder(column) {
    return this.shift(column, STEP_DB);
  },
  softer(column) {
    return this.shift(column, -STEP_DB);
  },
});
