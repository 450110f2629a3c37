// The kit against the rest of the music: a row for each section, loudness of both, and who is in front in each octave.
import { figure, hertz } from "./geometry.js";
import { Alpine, boot } from "./page.js";
import { get } from "./server.js";

const FIGHT_DB = 3;

export function registerMusic() {
  Alpine.data("music", () => ({
    found: null,
    busy: false,
    stale: false,
    init() {
      this.again = () => this.ask();
      window.addEventListener("chart", this.again);
      this.ask();
    },
    destroy() {
      window.removeEventListener("chart", this.again);
    },
    /** One at a time; what changed while it was asked for is asked for again. */
    async ask() {
      this.stale = true;
      if (this.busy) return;
      this.busy = true;
      while (this.stale) {
        this.stale = false;
        try {
          this.found = await get(`/s/${boot.session}/music`);
        } catch (error) {
          this.$store.page.say(error.message, true);
        }
      }
      this.busy = false;
    },
    may() {
      return this.rows().length > 0;
    },
    rows() {
      return this.found ? this.found.rows : [];
    },
    heads() {
      return this.found ? this.found.octaves_hz.map((hz) => `${hertz(Math.round(hz))}${hz < 1000 ? " " : ""}Hz`) : [];
    },
    loudWords(row) {
      return `${figure(row.kit_lufs, 1)} / ${figure(row.music_lufs, 1)}`;
    },
    cells(row) {
      return row.octaves_db.map((db, key) => ({ key, text: figure(db, 0, true), near: this.near(db) }));
    },
    near(db) {
      return Math.abs(db) <= FIGHT_DB;
    },
    presenceWords(row) {
      return `${figure(row.presence_db, 1, true)} dB${this.near(row.presence_db) ? ", they meet" : ""}`;
    },
    matchWords() {
      return this.found ? `as loud as the kit: ${figure(this.found.as_loud_db, 1)} dB` : "";
    },
    choices() {
      return this.found ? this.found.choices_ms : [];
    },
    isBehind(ms) {
      return this.found.behind_ms === ms;
    },
    behindWords(ms) {
      return ms ? `${ms} ms` : "none";
    },
    putBehind(ms) {
      return this.$store.page.move({ "backing.behind_ms": ms }, ms ? `The rest of the music ${ms} ms behind the cymbals` : "The rest of the music with the cymbals", "");
    },
    match() {
      return this.$store.page.move({ "backing.level_db": this.found.as_loud_db }, "The rest of the music as loud as the kit", "");
    },
  }));
}
