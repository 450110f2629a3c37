// Takes: every take bar by bar.
import { clock, figure } from "./lib/geometry.js";
import { charted } from "./lib/charted.js";
import { registerListen } from "./lib/listen.js";
import { Alpine, registerPage, start } from "./lib/page.js";

const ROW = 92;
const MOST_MS = 30;

Alpine.data("takes", () => ({
  ...charted({ left: 92, right: 14, top: 24, bottom: 32 }),
  takes() {
    return this.chart ? this.chart.takes : [];
  },
  len(t) {
    return clock(t.length_s);
  },
  count(t) {
    return t.found ? `${t.pieces.reduce((n, p) => n + p.hits, 0)}` : "–";
  },
  figures(t, piece) {
    const p = t.pieces.find((each) => each.piece === piece);
    return p ? `${figure(p.mean_ms, 1, true)} ms, ${figure(p.spread_ms, 1)} ms` : "–";
  },
  look(t) {
    return this.$store.page.act("take", { take: t.key, look: true });
  },
  choose(t) {
    return this.$store.page.act("take", { take: t.key });
  },
  draw() {
    if (!this.chart) return;
    const { sheet } = this;
    const rows = this.takes();
    if (!sheet.begin(sheet.margin.top + rows.length * ROW + sheet.margin.bottom)) return;
    const most = Math.max(...rows.flatMap((t) => t.bars.map(([bar]) => bar + 1)), 8);
    const x = sheet.x(0, most);
    const step = (sheet.right - sheet.left) / most;
    const marks = Array.from({ length: Math.ceil(most / 4) }, (_, i) => i * 4);
    for (const bar of marks) {
      sheet.line(x.to(bar), sheet.top, x.to(bar), sheet.bottom, "fine");
      sheet.text(`${bar + 1}`, x.to(bar) + step / 2, sheet.bottom + 12, "soft", "center");
    }
    sheet.text("bar; height = mean distance of kick and snare from the grid", sheet.right, sheet.bottom + 24, "soft", "right");
    rows.forEach((t, i) => {
      const base = sheet.top + (i + 1) * ROW - 8;
      sheet.text(t.name, 12, base - ROW / 2, t.working ? "yours" : "ink", "left", '13px "Sheet", sans-serif');
      sheet.line(sheet.left, base, sheet.right, base, "line");
      for (const ms of [10, 20, 30]) {
        const y = base - (ms / MOST_MS) * (ROW - 22);
        sheet.line(sheet.left, y, sheet.right, y, "fine");
        sheet.text(`${ms} ms`, sheet.left - 6, y, "soft", "right");
      }
      if (!t.found) {
        sheet.text("its hits have not been looked for yet", sheet.left + 14, base - ROW / 2, "soft", "left", '13px "Sheet", sans-serif');
        return;
      }
      for (const [bar, off] of t.bars) {
        if (bar < 0) continue;
        const tall = (Math.min(off, MOST_MS) / MOST_MS) * (ROW - 22);
        sheet.c.fillStyle = sheet.colour[off > 12 ? "ask" : t.working ? "yours" : "soft"];
        sheet.c.fillRect(x.to(bar) + 1.5, base - tall, Math.max(step - 3, 1), tall);
      }
    });
    sheet.frame();
  },
}));

registerPage();
registerListen();
start();
