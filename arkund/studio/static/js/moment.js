// One moment in all mics, sample by sample: thin as recorded, heavy as edited.
import { figure } from "./lib/geometry.js";
import { charted } from "./lib/charted.js";
import { boot } from "./lib/page.js";
import { newest } from "./lib/server.js";

const ROW = 26;
const REACHES_MS = [15, 6, 2.5, 1];

export const moment = () => ({
  ...charted({ left: 92, right: 14, top: 20, bottom: 30 }),
  at: null,
  view: null,
  reach: 0,
  asked: newest(),

  take() {}, // it stands within the page's chart, whose own `take` is not its
  begin() {
    this.hear("moment", (e) => this.show(e.detail));
  },
  async show(detail) {
    this.at = detail ? detail.at : null;
    if (this.at === null) this.view = null;
    else {
      try {
        const found = await this.asked(`/s/${boot.session}/around?at=${this.at}`);
        if (found && this.at !== null) this.view = found;
      } catch (error) {
        this.$store.page.say(error.message, true);
      }
    }
    this.kept.soon();
  },
  shown() {
    return this.at !== null;
  },
  nearer() {
    this.reach = (this.reach + 1) % REACHES_MS.length;
    this.kept.soon();
  },
  reachWords() {
    return `± ${REACHES_MS[this.reach]} ms`;
  },
  draw() {
    if (!this.view) return;
    const { sheet, view } = this;
    if (!sheet.begin(sheet.margin.top + view.rows.length * ROW + sheet.margin.bottom)) return;
    const reach = REACHES_MS[this.reach];
    const x = sheet.x(-reach, reach);
    sheet.across(x, { count: 10, digits: reach < 5 ? 1 : 0, unit: `ms around ${figure(view.at_s, 4)} s` });
    sheet.line(x.to(0), sheet.top, x.to(0), sheet.bottom, "ink", 1, [2, 3]);
    view.rows.forEach((row, i) => {
      const y = sheet.top + (i + 0.5) * ROW;
      sheet.text(row.name, 12, y, "ink", "left", '12px "Sheet", sans-serif');
      if (view.edited) this.wave(row.before, y, x, "soft", 1);
      this.wave(row.after, y, x, view.edited ? "yours" : "ink", 1.4);
    });
    sheet.frame();
  },
  wave(values, y, x, colour, width) {
    const { sheet, view } = this;
    const points = [];
    values.forEach((v, i) => {
      const px = x.to((i - view.half) * view.sample_ms);
      if (px >= sheet.left - 2 && px <= sheet.right + 2) points.push([px, y - v * (ROW / 2 - 2)]);
    });
    sheet.path(points, colour, width);
  },
});
