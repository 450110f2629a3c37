// Who is heard where: a row for kicks and one for back-beats, a cell for each third of an octave with the loudest strip of the kit.
import { figure, hertz } from "./geometry.js";
import { Alpine, boot } from "./page.js";
import { newest } from "./server.js";
import { keepDrawn, Sheet } from "./sheet.js";

const ROW = 34;
const FIGHT_DB = 3;
const FONT = '12px "Sheet", sans-serif';
const STROKES = { kick: "at kicks", snare: "at back-beats" };
const short = (name) => name.split(":")[1].slice(0, 4);

export function registerMasking() {
  Alpine.data("masking", () => ({
    open: false,
    busy: false,
    rows: [],
    asked: newest(),
    sheet: null,
    kept: null,
    init() {
      this.sheet = new Sheet(this.$refs.canvas, { left: 96, right: 12, top: 6, bottom: 22 });
      this.kept = keepDrawn(this.$refs.canvas, () => this.draw());
      this.again = () => this.open && this.ask();
      window.addEventListener("chart", this.again);
    },
    destroy() {
      this.kept.stop();
      window.removeEventListener("chart", this.again);
    },
    toggle() {
      this.open = !this.open;
      if (this.open) this.ask();
    },
    async ask() {
      this.busy = true;
      try {
        const found = await this.asked(`/s/${boot.session}/masking`);
        if (found) this.rows = found.rows;
      } catch (error) {
        this.$store.page.say(error.message, true);
      }
      this.busy = false;
      this.$nextTick(() => this.kept.soon());
    },
    fights() {
      return this.rows.flatMap((row) => row.fights.map((f) => ({ ...f, piece: row.piece })));
    },
    fightWords(f) {
      return `${STROKES[f.piece]}, ${figure(f.from_hz, 0)} to ${figure(f.up_to_hz, 0)} Hz: ${f.words[f.first]} and ${f.words[f.second]} within ${figure(f.apart_db, 1)} dB`;
    },
    partWords(f) {
      return `${f.words[f.gives_way]} gives way`;
    },
    part(f) {
      return this.$store.page.act("rig", { do: "part", step: this.$store.page.step, strip: f.gives_way, from_hz: f.from_hz, up_to_hz: f.up_to_hz });
    },
    draw() {
      if (!this.rows.length || !this.sheet.begin(28 + ROW * this.rows.length)) return;
      const { sheet } = this;
      const count = this.rows[0].bands_hz.length;
      const wide = (sheet.right - sheet.left) / count;
      this.rows.forEach((row, r) => {
        const top = sheet.top + r * ROW;
        sheet.text(STROKES[row.piece] || row.piece, sheet.left - 8, top + ROW / 2, "ink", "right", FONT);
        row.loudest.forEach((name, k) => this.cell(sheet.left + k * wide, top, wide, name, row.leads_db[k], row.loudest[k - 1]));
      });
      this.rows[0].bands_hz.forEach((hz, k) => {
        if (k % 3 === 2) sheet.text(hertz(Math.round(hz)), sheet.left + (k + 0.5) * wide, sheet.bottom + 12, "soft", "center");
      });
    },
    cell(x, y, w, name, leads, before) {
      const { sheet } = this;
      sheet.line(x, y + 3, x, y + ROW - 3, name === before ? "fine" : "line");
      if (!name) return;
      if (leads <= FIGHT_DB) sheet.hatch(x + 1, y + 3, w - 2, ROW - 6, "ask", 6);
      if (name !== before) sheet.text(short(name), x + 3, y + ROW / 2, "ink", "left", FONT);
    },
  }));
}
