// Sweeping: a narrow lift at the pointer is heard for as long as it is held; let go, it backs off, and the peak that was found is cut.
import { clamp, figure } from "./geometry.js";
import { within } from "./page.js";
import { pointed } from "./named.js";

const LIFT_DB = 9;
const Q = 8;
const HOLD_MS = 220; // shorter is a click
const STEP = 2 ** (1 / 24);
const LOWEST = 25;
const HIGHEST = 18000;

export const sweeping = () => ({
  named: [],
  at: null, // where the pointer is: {hz, name}
  swept: null, // {hz, since, byKeys}

  pointAt(event) {
    const inside = event && event.offsetX > this.sheet.left && event.offsetX < this.sheet.right;
    const name = event && pointed(this.named, event.offsetX, event.offsetY);
    this.at = inside ? { hz: name ? name.hz : this.axis().back(event.offsetX), name } : null;
    this.$refs.canvas.style.cursor = name ? "pointer" : "crosshair";
    this.kept.soon();
  },
  sweepFrom(hz, byKeys = false) {
    if (!this.toneTool()) return this.$store.page.say("There is no tone tool in this row; add one.", true);
    this.swept = { hz, since: performance.now(), byKeys };
    this.tryLift();
  },
  sweepTo(hz) {
    this.swept.hz = clamp(hz, LOWEST, HIGHEST);
    this.tryLift();
  },
  tryLift() {
    const lift = { kind: "bell", on: true, frequency_hz: within("band", "frequency_hz", this.swept.hz, 0), gain_db: LIFT_DB, q: Q };
    const { place } = this.$store.page.chart.row;
    const tool = this.toneTool();
    this.$store.page.try({ [`${place}.tools.${tool.id}.bands`]: [...this.bands(), lift], [`${place}.tools.${tool.id}.on`]: true });
    this.kept.soon();
  },
  /** The lift backs off. What was held is cut at its measured place and width; a mere click leaves everything as it was. */
  letGo(cut = true) {
    const { hz, since, byKeys } = this.swept;
    this.swept = null;
    this.$store.page.try({});
    this.kept.soon();
    if (cut && (byKeys || performance.now() - since > HOLD_MS)) return this.notch(hz);
    return null;
  },
  /** The same by keys: arrows go along, w holds the lift, Enter lets go and cuts, Escape lets go. */
  keyed(event) {
    const way = { ArrowLeft: 1 / STEP, ArrowRight: STEP }[event.key];
    const hz = this.swept?.hz || this.at?.hz || 1000;
    if (way && this.swept) this.sweepTo(hz * way);
    else if (way) this.at = { hz: clamp(hz * way, LOWEST, HIGHEST), name: null };
    else if (event.key === "w" && !this.swept) this.sweepFrom(hz, true);
    else if (event.key === "Enter" && this.swept) this.letGo();
    else if (event.key === "Enter") this.notch(hz);
    else if (event.key === "Escape" && this.swept) this.letGo(false);
    else if (event.key === "n" && this.chart?.ring) this.notch(this.chart.ring.frequency_hz);
    else return;
    event.preventDefault();
    event.stopPropagation();
    this.kept.soon();
  },
  drawSwept(x, g) {
    const { sheet } = this;
    const px = x.to(this.swept.hz);
    sheet.line(px, sheet.top, px, sheet.bottom, "yours", 2);
    sheet.text(`${figure(this.swept.hz, 0)} Hz ${figure(LIFT_DB, 0, true)} dB`, px + 6, g.to(LIFT_DB), "yours", "left", '12px "Sheet", sans-serif');
  },
  drawAt(x, own, y) {
    const { sheet, at } = this;
    const px = x.to(at.hz);
    sheet.line(px, sheet.top, px, sheet.bottom, "fine");
    const words = at.name ? (at.name.cuts ? `click: cut at ${figure(at.hz, 0)} Hz` : `${figure(at.hz, 0)} Hz`) : `${figure(at.hz, 0)} Hz, hold to sweep`;
    sheet.text(words, px + 6, sheet.bottom - 10, "soft", "left", '12px "Sheet", sans-serif');
    sheet.line(px - 4, y.to(own[this.index(at.hz)]), px + 4, y.to(own[this.index(at.hz)]), "ink", 2);
  },
});
