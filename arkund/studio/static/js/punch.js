// Punch: the average hit before and after, whole or by band; two bars with what the compressor takes; a guided way to dial one in.
import { clamp, figure } from "./lib/geometry.js";
import { registerBands } from "./lib/bands.js";
import { registerShaped } from "./lib/shaped.js";
import { charted } from "./lib/charted.js";
import { registerDial } from "./lib/dial.js";
import { registerListen } from "./lib/listen.js";
import { registerOver } from "./lib/over.js";
import { Alpine, registerPage, start } from "./lib/page.js";
import { registerScenes } from "./lib/scenes.js";
import { registerRow } from "./lib/row.js";

const FONT = '12px "Sheet", sans-serif';

Alpine.data("punch", () => ({
  ...charted({ left: 56, right: 16, top: 26, bottom: 32 }),
  name: "whole",
  bands() {
    return this.chart?.bands || [];
  },
  band() {
    return this.bands().find((b) => b.name === this.name) || this.bands()[0];
  },
  show(name) {
    this.name = name;
    this.kept.soon();
  },
  isShown(name) {
    return this.name === name;
  },
  change(band) {
    const [[a0, b0], [a1, b1]] = band.figures;
    return figure(a1 - b1 - (a0 - b0), 1, true);
  },
  words() {
    if (!this.chart) return "";
    const [[a0, b0], [a1, b1]] = this.band().figures;
    return `attack against body ${figure(a0 - b0, 1)} dB → ${figure(a1 - b1, 1)} dB   ·   attack ${figure(a1 - a0, 1, true)} dB, body ${figure(b1 - b0, 1, true)} dB`;
  },
  /** What the compressor really takes: its curve says more, because the detector follows each half wave. */
  takenWords() {
    const taken = this.chart && this.chart.taken;
    if (!taken) return "";
    const rolled = taken.roll_left_db === null ? "" : `; in rolls ${figure(taken.roll_left_db, 1)} dB left after ${figure(taken.roll_after_s * 1000, 0)} ms`;
    return `   ·   the first compressor takes ${figure(taken.deepest_db, 1)} dB of its own hits, ${figure(taken.left_db, 1)} dB left at the next, ${figure(taken.after_s * 1000, 0)} ms later${rolled}`;
  },
  draw() {
    if (!this.chart || !this.sheet.begin(250)) return;
    const { sheet } = this;
    const { before, after } = this.band();
    const levels = [...before.level_db, ...after.level_db];
    const top = Math.ceil(Math.max(...levels) / 6) * 6;
    const x = sheet.x(-10, 250);
    const y = sheet.y(Math.max(Math.min(...levels), top - 60), top);
    sheet.across(x, { count: 13, unit: "ms from the hit" });
    sheet.down(y, { unit: "average of the strongest hits, dBFS", count: 6 });
    sheet.hatch(x.to(-2), sheet.top, x.to(12) - x.to(-2), sheet.bottom - sheet.top, "fine", 8);
    sheet.text("attack", x.to(-1), sheet.bottom - 9, "soft", "left", FONT);
    sheet.line(x.to(30), sheet.bottom - 18, x.to(120), sheet.bottom - 18, "line", 2);
    sheet.text("body", x.to(70), sheet.bottom - 9, "soft", "left", FONT);
    const line = (e) => e.time_ms.map((t, i) => [x.to(t), clamp(y.to(e.level_db[i]), sheet.top, sheet.bottom)]);
    sheet.path(line(before), "soft", 1.3);
    sheet.path(line(after), "yours", 2.6);
    sheet.text("before", sheet.right - 8, sheet.top + 12, "soft", "right", FONT);
    sheet.text("after all of this mic's processing", sheet.right - 8, sheet.top + 28, "yours", "right", FONT);
    sheet.frame();
  },
}));

registerPage();
registerListen();
registerRow();
registerScenes();
registerBands();
registerShaped();
registerOver();
registerDial();
start();
