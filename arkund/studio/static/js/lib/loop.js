// Where the listening bar's loop is: remembered by the tab, moved by seconds, beats, sections and hits.
import { clamp } from "./geometry.js";
import { Alpine, boot } from "./page.js";
import { get } from "./server.js";

const BEFORE_HIT_S = 0.1;
const SHORTEST_S = 0.5;
const LONGEST_S = 30;
const remembered = (name, usual) => Number(sessionStorage.getItem(`${name}-${boot.session}`) || usual);

/** Part of the listening bar, which says by `moved` what follows. */
export const loopPlace = () => ({
  start: remembered("start", 0),
  length: remembered("length", 8),

  remember(start, length) {
    const most = Math.max((this.songLength() || 1e9) - SHORTEST_S, SHORTEST_S);
    this.start = clamp(start, 0, most);
    this.length = clamp(length, SHORTEST_S, LONGEST_S);
    sessionStorage.setItem(`start-${boot.session}`, this.start);
    sessionStorage.setItem(`length-${boot.session}`, this.length);
  },
  loop(start, stop) {
    this.remember(start, stop - start);
    this.moved();
  },
  nudge(seconds) {
    this.loop(this.start + seconds, this.start + seconds + this.length);
  },
  setStart(event) {
    this.loop(Number(event.target.value), Number(event.target.value) + this.length);
  },
  setLength(event) {
    this.loop(this.start, this.start + Number(event.target.value));
  },
  beats() {
    return this.barHere().beats;
  },
  beatSeconds() {
    const { beats, length } = this.barHere();
    return length / beats;
  },
  /** Beats and length of the bar in which the loop begins. */
  barHere() {
    const { bars } = Alpine.store("page");
    if (!bars || bars.lines_s.length < 2) return { beats: 4, length: 2 };
    const after = bars.lines_s.findIndex((at) => at > this.start + 1e-6);
    const bar = clamp(after < 0 ? bars.lines_s.length - 2 : after - 1, 0, bars.lines_s.length - 2);
    return { beats: bars.beats[bar], length: bars.lines_s[bar + 1] - bars.lines_s[bar] };
  },
  setSection(event) {
    const page = Alpine.store("page");
    const section = page.sections[Number(event.target.value)];
    if (!section) return;
    const lines = page.bars.lines_s;
    this.loop(lines[section.bar], lines[Math.min(section.bar + 4, lines.length - 1)]);
  },
  /** The piece that the page shows. */
  piece() {
    const page = Alpine.store("page");
    const of = (page.chart && (page.chart.mic || page.chart.piece)) || "";
    const mic = boot.mics.find((m) => m.id === of);
    return mic ? mic.piece : of || "snare";
  },
  /** Begin the loop just before this drum's next or previous hit. */
  async toHit(step) {
    const piece = this.piece();
    const { times } = await get(`/s/${boot.session}/hits/${piece}`);
    const now = this.start + BEFORE_HIT_S;
    const found = step > 0 ? times.find((t) => t > now + 0.001) : times.findLast((t) => t < now - 0.001);
    if (found === undefined) Alpine.store("page").say(`no ${step > 0 ? "later" : "earlier"} ${piece} hit`);
    else this.loop(found - BEFORE_HIT_S, found - BEFORE_HIT_S + this.length);
  },
});
