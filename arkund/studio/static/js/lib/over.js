// Two bars of a strip: what comes into its compressor, the threshold, what is taken, and what is left of that when the next hit comes.
import { clamp, figure } from "./geometry.js";
import { charted } from "./charted.js";
import { Alpine } from "./page.js";

const HEIGHT = 190;
const QUIETEST_DB = -60;
const LEFT_DB = 0.5; // more than this is told as not recovered
const FONT = '12px "Sheet", sans-serif';

export function registerOver() {
  Alpine.data("over", () => ({
    ...charted({ left: 56, right: 46, top: 24, bottom: 30 }),
    shown() {
      return Boolean(this.chart?.over);
    },
    take() {
      this.$nextTick(() => this.kept.soon());
    },
    words() {
      const over = this.chart?.over;
      if (!over) return "";
      const late = over.left_db.filter((db) => db > LEFT_DB).length;
      return `${late} of ${over.hits_ms.length} hits come before the reduction is back to ${figure(LEFT_DB, 1)} dB`;
    },
    draw() {
      const over = this.chart?.over;
      if (!over || !this.sheet.begin(HEIGHT)) return;
      const { sheet } = this;
      const last = over.level_db.length * over.step_ms;
      const x = sheet.x(0, last);
      const y = sheet.y(QUIETEST_DB, 0);
      const most = Math.max(6, Math.ceil(Math.max(...over.taken_db) / 6) * 6);
      const t = (db) => sheet.top + (db / most) * (sheet.bottom - sheet.top) * 0.6;
      for (let beat = 0; beat * over.beat_ms <= last; beat += 1) {
        const px = x.to(beat * over.beat_ms);
        sheet.line(px, sheet.top, px, sheet.bottom, "fine");
        sheet.text(`${figure(beat * over.beat_ms, 0)}`, px, sheet.bottom + 12, "soft", "center");
      }
      sheet.text("ms from the first hit, a line a beat", sheet.right, sheet.bottom + 24, "soft", "right", FONT);
      sheet.down(y, { unit: "in, dBFS", count: 5 });
      sheet.text("taken, dB", sheet.right + 40, sheet.top - 11, "soft", "right");
      for (const db of [0, most / 2, most]) sheet.text(figure(-db, 0), sheet.right + 8, t(db), "soft");
      const at = (values, to) => values.map((v, i) => [x.to(i * over.step_ms), to(v)]);
      sheet.path(at(over.level_db, (v) => clamp(y.to(v), sheet.top, sheet.bottom)), "soft", 1);
      sheet.line(sheet.left, y.to(over.threshold_db), sheet.right, y.to(over.threshold_db), "ask", 1, [6, 4]);
      sheet.text(`threshold ${figure(over.threshold_db, 1)} dB`, sheet.right - 6, y.to(over.threshold_db) - 8, "ask", "right", FONT);
      sheet.path(at(over.taken_db, t), "yours", 2);
      over.hits_ms.forEach((ms, i) => this.mark(x.to(ms), t(over.left_db[i]), over.left_db[i]));
      sheet.frame();
    },
    mark(px, py, left) {
      const { sheet } = this;
      const late = left > LEFT_DB;
      sheet.line(px, sheet.top, px, sheet.top + 6, "ink", 2);
      if (late) sheet.text(`${figure(left, 1)} left`, px + 4, Math.max(py, sheet.top + 10), "ask", "left", FONT);
    },
  }));
}
