// Print: make files, see what they measure, take them away.
import { clock, figure } from "./lib/geometry.js";
import { registerListen } from "./lib/listen.js";
import { Alpine, boot, registerPage, start } from "./lib/page.js";

Alpine.data("printing", () => ({
  chart: null,
  format: "wav24",
  init() {
    this.onChart = (e) => (this.chart = e.detail);
    window.addEventListener("chart", this.onChart);
  },
  destroy() {
    window.removeEventListener("chart", this.onChart);
  },
  prints() {
    return this.chart ? this.chart.prints : [];
  },
  about() {
    return this.chart ? `${this.chart.mics} mics, stems and the kit mix, ${clock(this.chart.length_s)} each` : "";
  },
  start() {
    return this.$store.page.act("print-now", { format: this.format });
  },
  title(p) {
    return `${p.at.slice(0, 16).replace("T", " ")}, ${p.format}, plan version ${p.version}`;
  },
  num(v) {
    return figure(v, 1);
  },
  zip(p) {
    return `/s/${boot.session}/prints/${p.id}.zip`;
  },
  link(p, f) {
    return `/s/${boot.session}/prints/${p.id}/${encodeURIComponent(f.file)}`;
  },
}));

registerPage();
registerListen();
start();
