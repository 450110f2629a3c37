// What every step's chart shares: a sheet on the canvas, redrawn when it must be, fed by the page's data.
import { keepDrawn, Sheet } from "./sheet.js";

const WAITING_ROW = 150; // pixels

/** The base of a chart component. It calls `begin` once, `take` with new data where given, and `draw` when something changed. */
export function charted(margin) {
  return {
    chart: null,
    heard: [],
    sheet: null, // its own even where one chart stands within another's component
    kept: null,
    init() {
      this.sheet = new Sheet(this.$refs.canvas, margin);
      this.kept = keepDrawn(this.$refs.canvas, () => (this.chart ? this.draw() : this.drawWaiting()));
      this.heard = [];
      this.hear("chart", (e) => {
        if (this.take) this.take(e.detail);
        this.chart = e.detail;
        this.kept.soon();
      });
      if (this.begin) this.begin();
    },
    /** What is seen until the first data have come. */
    drawWaiting() {
      const { sheet } = this;
      if (sheet.begin(WAITING_ROW)) sheet.text("measuring …", sheet.width / 2, WAITING_ROW / 2, "soft", "center", '13px "Sheet", sans-serif');
    },
    destroy() {
      this.kept.stop();
      for (const [name, listener] of this.heard) window.removeEventListener(name, listener);
    },
    /** Listen to the window for as long as this component lives. */
    hear(name, listener) {
      window.addEventListener(name, listener);
      this.heard.push([name, listener]);
    },
    /** Listen to pointers on the canvas; they are captured while pressed. */
    pointer(down, move, up) {
      const { canvas } = this.$refs;
      canvas.addEventListener("pointerdown", (e) => {
        canvas.setPointerCapture(e.pointerId);
        down(e);
      });
      canvas.addEventListener("pointermove", move);
      canvas.addEventListener("pointerup", up);
    },
  };
}
