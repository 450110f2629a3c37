// Punch: the average hit before and after.
import { clamp, figure } from "./lib/geometry.js";
import { registerBands } from "./lib/bands.js";
import { registerShaped } from "./lib/shaped.js";
import { charted } from "./lib/charted.js";
import { registerListen } from "./lib/listen.js";
import { Alpine, registerPage, start } from "./lib/page.js";
import { registerScenes } from "./lib/scenes.js";
import { registerRow } from "./lib/row.js";

Alpine.data("punch", () => ({
  ...charted({ left: 56, right: 16, top: 26, bottom: 32 }),
  words() {
    if (!this.chart) return "";
    const [[a0, b0], [a1, b1]] = this.chart.figures;
    return `attack against body ${figure(a0 - b0, 1)} dB → ${figure(a1 - b1, 1)} dB   ·   attack ${figure(a1 - a0, 1, true)} dB, body ${figure(b1 - b0, 1, true)} dB`;
  },
  /** What the compressor really takes: its curve says more, because the detector follows each half wave. */
  takenWords() {
    const taken = this.chart && this.chart.taken;
    if (!taken) return "";
    return `   ·   the first compressor, measured at its own hits, takes ${figure(taken.deepest_db, 1)} dB, ${figure(taken.left_db, 1)} dB left after ${figure(taken.after_s * 1000, 0)} ms`;
  },
  draw() {
    if (!this.chart || !this.sheet.begin(300)) return;
    const { sheet, chart } = this;
    const levels = [...chart.before.level_db, ...chart.after.level_db];
    const top = Math.ceil(Math.max(...levels) / 6) * 6;
    const x = sheet.x(-10, 250);
    const y = sheet.y(Math.max(Math.min(...levels), top - 60), top);
    sheet.across(x, { count: 13, unit: "ms from the hit" });
    sheet.down(y, { unit: "average of the strongest hits, dBFS", count: 6 });
    sheet.hatch(x.to(-2), sheet.top, x.to(12) - x.to(-2), sheet.bottom - sheet.top, "fine", 8);
    sheet.text("attack", x.to(-1), sheet.bottom - 9, "soft", "left", '12px "Sheet", sans-serif');
    sheet.line(x.to(30), sheet.bottom - 18, x.to(120), sheet.bottom - 18, "line", 2);
    sheet.text("body", x.to(70), sheet.bottom - 9, "soft", "left", '12px "Sheet", sans-serif');
    const line = (e) => e.time_ms.map((t, i) => [x.to(t), clamp(y.to(e.level_db[i]), sheet.top, sheet.bottom)]);
    sheet.path(line(chart.before), "soft", 1.3);
    sheet.path(line(chart.after), "yours", 2.6);
    sheet.text("before", sheet.right - 8, sheet.top + 12, "soft", "right", '12px "Sheet", sans-serif');
    sheet.text("after all of this mic's processing", sheet.right - 8, sheet.top + 28, "yours", "right", '12px "Sheet", sans-serif');
    sheet.frame();
  },
}));

registerPage();
registerListen();
registerRow();
registerScenes();
registerBands();
registerShaped();
start();
