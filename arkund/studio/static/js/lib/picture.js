// The chosen tool's own picture: each hit by its peak before and after, with what the tool leaves of a level; of a room, how long it rings.
import { charted } from "./charted.js";
import { chosenTool } from "./row.js";

const HEIGHT = 210;
const LOW_DB = -48;
const LEVELS = ["gate", "regions", "leveller"]; // whose hits are shown by their levels, though no curve tells what they leave of one

export const picture = () => ({
  ...charted({ left: 56, right: 16, top: 26, bottom: 36 }),

  begin() {
    this.hear("picked", () => this.kept.soon());
  },
  tool() {
    return chosenTool(this.$store.page);
  },
  /** Bands have a picture of their own, and the shaper's is the page's; a tool that is off has no hits in it. */
  hasPicture() {
    const tool = this.tool();
    return Boolean(tool && (tool.curve.length || tool.decay.length || (tool.on && LEVELS.includes(tool.kind) && tool.strokes.length)));
  },
  words() {
    return this.tool()?.decay.length ? "how long the room rings, by frequency" : "each hit's peak before and after the tool";
  },
  draw() {
    const tool = this.tool();
    if (!tool || !this.hasPicture() || !this.sheet.begin(HEIGHT)) return;
    if (tool.decay.length) this.drawDecay(tool.decay);
    else this.drawLevels(tool);
  },
  drawDecay([hz, seconds]) {
    const { sheet } = this;
    const x = sheet.x(hz[0], hz.at(-1), true);
    const y = sheet.y(0, Math.max(...seconds) * 1.15);
    sheet.across(x, { log: true, unit: "Hz" });
    sheet.down(y, { unit: "time to fall by 60 dB, s", digits: 1, count: 4 });
    sheet.path(hz.map((f, i) => [x.to(f), y.to(seconds[i])]), "yours", 2);
    sheet.frame();
  },
  drawLevels({ curve, strokes, settings, on }) {
    const { sheet } = this;
    const seen = on ? strokes : [];
    const loudest = Math.max(0, ...seen.map(([before]) => before), ...seen.map(([, after]) => after));
    const high = Math.ceil(loudest / 6) * 6;
    const [x, y] = [sheet.x(LOW_DB, high), sheet.y(LOW_DB, high)];
    sheet.across(x, { count: 10, unit: "peak of each hit before, dBFS" });
    sheet.down(y, { unit: "after, dBFS; dotted: as it came", count: 5 });
    sheet.path([[x.to(LOW_DB), y.to(LOW_DB)], [x.to(high), y.to(high)]], "soft", 1, [2, 4]);
    if (settings.threshold_db > LOW_DB) sheet.line(x.to(settings.threshold_db), sheet.top, x.to(settings.threshold_db), sheet.bottom, "line", 1, [4, 4]);
    if (curve.length) {
      const points = curve[0].map((level, i) => [level, curve[1][i]]).filter(([a, b]) => a >= LOW_DB && a <= high && b >= LOW_DB);
      sheet.path(points.map(([a, b]) => [x.to(a), y.to(b)]), on ? "yours" : "soft", 1.5, on ? [] : [4, 4]);
    }
    for (const [before, after] of seen) if (Math.min(before, after) > LOW_DB) sheet.line(x.to(before) - 3, y.to(after), x.to(before) + 3, y.to(after), "ink", 2);
    if (!seen.length) sheet.text(on ? "no hits are heard here" : "off: what it would leave of a level that stands still", sheet.right - 8, sheet.top + 12, "soft", "right");
    sheet.frame();
  },
});
