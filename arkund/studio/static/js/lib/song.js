// The song across a chart: its bars and sections above, seconds below, a window that zooms and shifts, and the loop that is dragged in it.
import { clamp } from "./geometry.js";

const SHORTEST_S = 0.05;

/** Bars and section names above the sheet. */
export function drawBars(sheet, x, { lines_s, sections }) {
  const usual = lines_s.length > 1 ? (lines_s.at(-1) - lines_s[0]) / (lines_s.length - 1) : 2;
  const every = [1, 2, 4, 8, 16, 32].find((n) => x.to(usual * n) - x.to(0) > 26) || 64;
  for (let bar = 0; bar < lines_s.length; bar += every) {
    const at = lines_s[bar];
    if (at < x.low || at > x.high) continue;
    sheet.line(x.to(at), sheet.top - 8, x.to(at), sheet.top, "line");
    sheet.text(`${bar + 1}`, x.to(at) + 2, sheet.top - 8, "soft");
  }
  for (const s of sections) {
    const at = lines_s[s.bar] ?? Infinity;
    if (at < x.low - 20 || at > x.high) continue;
    sheet.line(x.to(at), 6, x.to(at), sheet.top, "soft");
    sheet.text(s.name, Math.max(x.to(at), sheet.left) + 4, 12, "ink", "left", '12px "Sheet", sans-serif');
  }
  sheet.text("bar", sheet.left - 8, sheet.top - 8, "soft", "right");
}

/** What a chart over the song shares: the visible window and the loop. The chart has `length_s`, and calls `songBegin` once. */
export const song = {
  from: 0,
  until: 10,
  drag: null,

  songBegin(clicked = () => {}) {
    this.clicked = clicked;
    this.hear("playhead", (e) => this.head(e.detail));
    this.$refs.canvas.addEventListener("wheel", (e) => this.wheel(e), { passive: false });
    this.pointer((e) => this.down(e), (e) => this.moveTo(e), (e) => this.up(e));
  },
  take(chart) {
    if (this.chart === null) [this.from, this.until] = [0, chart.length_s];
  },
  whole() {
    this.from = 0;
    this.until = this.chart ? this.chart.length_s : 10;
    this.kept.soon();
  },
  zoom(factor, at = (this.from + this.until) / 2) {
    const most = this.chart.length_s;
    const span = clamp((this.until - this.from) * factor, SHORTEST_S, most);
    const share = (at - this.from) / (this.until - this.from);
    this.from = clamp(at - span * share, 0, most - span);
    this.until = this.from + span;
    this.kept.soon();
  },
  shift(share) {
    const span = this.until - this.from;
    this.from = clamp(this.from + span * share, 0, Math.max(this.chart.length_s - span, 0));
    this.until = this.from + span;
    this.kept.soon();
  },
  wheel(event) {
    event.preventDefault();
    if (Math.abs(event.deltaX) > Math.abs(event.deltaY)) this.shift(event.deltaX / 800);
    else this.zoom(event.deltaY > 0 ? 1.25 : 0.8, this.axis().back(event.offsetX));
  },
  axis() {
    return this.sheet.x(this.from, this.until);
  },
  down(event) {
    if (!this.chart) return;
    this.drag = { from: this.axis().back(event.offsetX), moved: false };
  },
  moveTo(event) {
    if (!this.drag) return;
    const to = this.axis().back(event.offsetX);
    if (Math.abs(this.axis().to(to) - this.axis().to(this.drag.from)) > 4) this.drag.moved = true;
    this.drag.to = to;
    this.kept.soon();
  },
  up(event) {
    const drag = this.drag;
    this.drag = null;
    if (!drag) return;
    if (drag.moved) {
      this.loop = [Math.min(drag.from, drag.to), Math.max(drag.from, drag.to)];
      window.dispatchEvent(new CustomEvent("loop", { detail: { start: this.loop[0], stop: this.loop[1] } }));
    } else this.clicked(drag.from, event.offsetY);
    this.kept.soon();
  },
  head(time) {
    const { cursor } = this.$refs;
    const inside = time >= this.from && time <= this.until;
    cursor.classList.toggle("hidden", !inside);
    if (inside) cursor.style.transform = `translateX(${this.axis().to(time)}px)`;
  },
  /** The graticule, the dragged or chosen loop, and the frame. */
  drawSong(x) {
    const { sheet } = this;
    sheet.across(x, { count: 12, digits: this.until - this.from < 3 ? 2 : 0, unit: "s" });
    sheet.frame();
    if (this.drag?.moved) {
      const [a, b] = [this.drag.from, this.drag.to].sort((p, q) => p - q);
      sheet.hatch(x.to(a), sheet.top, x.to(b) - x.to(a), sheet.bottom - sheet.top, "soft");
    } else if (this.loop) sheet.line(x.to(this.loop[0]), sheet.top - 4, x.to(this.loop[1]), sheet.top - 4, "yours", 3);
  },
};
