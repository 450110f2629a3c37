// Versions that are compared by ear, each on a key of its own, heard at equal loudness while the loop goes on.
import { Alpine } from "./page.js";

/** What every comparison shares. It needs `fetchStage(number, given)` and `kept(version)`, which names the Move; `hotkey` begins it. */
export const comparing = (hotkey) => ({
  stage: null,
  chosen: -1,
  given: null,
  taken: [], // what each stage before was left with
  busy: false,

  init() {
    this.keys = (event) => this.key(event);
    this.gone = () => this.leave();
    window.addEventListener("keydown", this.keys, true);
    window.addEventListener("chosen", this.gone);
  },
  destroy() {
    window.removeEventListener("keydown", this.keys, true);
    window.removeEventListener("chosen", this.gone);
  },
  open() {
    return this.stage !== null;
  },
  versions() {
    return this.stage?.versions || [];
  },
  title() {
    if (!this.stage) return "";
    return this.stage.of > 1 ? `${this.stage.number + 1} of ${this.stage.of}: ${this.stage.title}` : this.stage.title;
  },
  isChosen(i) {
    return this.chosen === i;
  },
  isTimed() {
    return Boolean(this.stage?.timed);
  },
  last() {
    return this.stage && this.stage.number === this.stage.of - 1;
  },
  nextWords() {
    return this.last() ? "keep it (Enter)" : "on with this (Enter)";
  },
  start() {
    this.taken = [];
    const bar = Alpine.$data(document.querySelector('[x-data="listen"]'));
    if (!bar.playing) bar.toggle();
    return this.ask(0, null);
  },
  async ask(number, given) {
    this.busy = true;
    try {
      const stage = await this.fetchStage(number, given);
      if (stage) {
        this.stage = stage;
        this.pick(Math.min(1, this.versions().length - 1));
      }
    } catch (error) {
      this.$store.page.say(error.message, true);
    } finally {
      this.busy = false;
    }
  },
  pick(i) {
    if (!this.versions()[i]) return;
    this.chosen = i;
    this.$store.page.try({ [this.stage.place]: this.versions()[i].settings }, "");
  },
  next() {
    const version = this.versions()[this.chosen];
    if (!version || this.busy) return null;
    if (!this.last()) {
      this.taken.push(this.stage.number ? this.given : null);
      this.given = version.settings;
      return this.ask(this.stage.number + 1, version.settings);
    }
    const { place } = this.stage;
    this.stage = null;
    return this.$store.page.move({ [place]: version.settings }, this.kept(version), "");
  },
  back() {
    if (!this.stage || !this.stage.number) return this.leave();
    this.given = this.taken.pop();
    return this.ask(this.stage.number - 1, this.given);
  },
  leave() {
    if (!this.stage) return;
    this.stage = null;
    this.$store.page.try({});
  },
  swap() {},
  /** Before the page's own keys: figures choose, Enter goes on, Backspace goes back, Escape leaves, n swaps ms and note values. */
  key(event) {
    const typing = event.target.closest?.("input, select, textarea, [role=spinbutton]");
    if (typing || event.ctrlKey || event.metaKey || event.altKey) return;
    const figure = Number(event.key);
    if (!this.stage) {
      if (event.key !== hotkey || !this.may()) return;
      this.start();
    } else if (figure >= 1 && figure <= this.versions().length) this.pick(figure - 1);
    else if (event.key === "Enter") this.next();
    else if (event.key === "Backspace") this.back();
    else if (event.key === "Escape") this.leave();
    else if (event.key === "n" && this.isTimed()) this.swap();
    else return;
    event.preventDefault();
    event.stopPropagation();
  },
});
