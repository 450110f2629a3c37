// The listening bar: loop a span, choose what is heard, before or after at equal loudness.
import { clamp } from "./geometry.js";
import { Alpine, boot } from "./page.js";
import { Player, START_LEVEL_DB } from "./player.js";
import { audio } from "./server.js";

const player = new Player();
const client = crypto.randomUUID().slice(0, 8);
let number = 0;
let running = null;

// A handle for looking into what is played.
globalThis.arkund = { player };

export function registerListen() {
  Alpine.data("listen", () => ({
    playing: false,
    waiting: false,
    what: "kit",
    version: "after",
    start: Number(sessionStorage.getItem(`start-${boot.session}`) || 0),
    length: Number(sessionStorage.getItem(`length-${boot.session}`) || 8),
    level: START_LEVEL_DB,
    matched: 0,
    loudness: null,
    peak: null,
    trial: {},
    late: false,

    init() {
      this.onTry = (e) => this.tryOut(e.detail);
      this.onPlan = () => this.again();
      this.onChosen = (e) => this.follow(e.detail);
      this.onLoop = (e) => this.loop(e.detail.start, e.detail.stop);
      this.onKey = (e) => this.key(e);
      window.addEventListener("try", this.onTry);
      window.addEventListener("plan", this.onPlan);
      window.addEventListener("chosen", this.onChosen);
      window.addEventListener("loop", this.onLoop);
      window.addEventListener("keydown", this.onKey);
      this.tick();
    },
    destroy() {
      window.removeEventListener("try", this.onTry);
      window.removeEventListener("plan", this.onPlan);
      window.removeEventListener("chosen", this.onChosen);
      window.removeEventListener("loop", this.onLoop);
      window.removeEventListener("keydown", this.onKey);
      cancelAnimationFrame(this.frame);
      player.stop();
    },

    key(event) {
      if (event.target.closest("input:not([type=range]), select, textarea") || event.ctrlKey || event.metaKey) return;
      if (event.code === "Space") {
        event.preventDefault();
        this.toggle();
      } else if (event.key === "b") this.setVersion(this.version === "after" ? "before" : "after");
      else if (event.key === "s") this.setWhat(this.what.startsWith("drum:") ? "kit" : this.drum());
    },

    async toggle() {
      if (this.playing) {
        player.stop();
        this.playing = false;
        return;
      }
      this.playing = true;
      await player.open(boot.rate);
      player.setLevel(this.level);
      this.again();
    },

    /** Ask for the loop as it is now; a newer question overtakes this one. */
    async again() {
      if (!this.playing) return;
      number += 1;
      const mine = number;
      running?.abort();
      running = new AbortController();
      this.waiting = true;
      const late = setTimeout(() => (this.late = mine === number), 600);
      const first = Math.round(this.start * boot.rate);
      try {
        const sound = await audio(
          `/s/${boot.session}/audition`,
          {
            client,
            number: mine,
            what: this.what,
            version: this.version,
            step: boot.step,
            start: first,
            stop: first + Math.round(this.length * boot.rate),
            changes: this.trial,
          },
          running.signal,
        );
        if (mine !== number || !this.playing) return;
        player.play(sound);
        this.matched = sound.matched_db;
        this.loudness = sound.loudness;
        this.peak = sound.peak_db;
      } catch (error) {
        if (error.name === "AbortError" || error.status === 409) return;
        Alpine.store("page").say(error.message, true);
      } finally {
        clearTimeout(late);
        if (mine === number) {
          this.waiting = false;
          this.late = false;
        }
      }
    },

    tryOut(changes) {
      this.trial = changes;
      this.again().then(() => (this.trial = {}));
    },
    loop(start, stop) {
      const most = Math.max((Alpine.store("page").length_s || 1e9) - 0.5, 0.5);
      this.start = clamp(start, 0, most);
      this.length = clamp(stop - start, 0.5, 30);
      sessionStorage.setItem(`start-${boot.session}`, this.start);
      sessionStorage.setItem(`length-${boot.session}`, this.length);
      this.again();
    },
    setStart(event) {
      this.loop(Number(event.target.value), Number(event.target.value) + this.length);
    },
    setLength(event) {
      this.loop(this.start, this.start + Number(event.target.value));
    },
    setSection(event) {
      const page = Alpine.store("page");
      const section = page.sections[Number(event.target.value)];
      if (!section) return;
      const t = page.tempo;
      const beat = 60 / t.bpm / (t.beat_unit === 8 && t.beats_per_bar % 3 === 0 ? 3 : 1);
      this.loop(t.first_bar_s + section.bar * beat * t.beats_per_bar, t.first_bar_s + (section.bar + 4) * beat * t.beats_per_bar);
    },
    piece() {
      const page = Alpine.store("page");
      const of = (page.chart && (page.chart.mic || page.chart.piece)) || "";
      const mic = boot.mics.find((m) => m.id === of);
      return mic ? mic.piece : of || "snare";
    },
    drum() {
      return `drum:${this.piece()}`;
    },
    within() {
      return `in:${this.piece()}`;
    },
    follow() {
      setTimeout(() => {
        if (this.what.startsWith("drum:")) this.setWhat(this.drum());
        else if (this.what.startsWith("in:")) this.setWhat(this.within());
      }, 300);
    },
    setWhat(what) {
      this.what = what;
      this.again();
    },
    setVersion(version) {
      this.version = version;
      this.again();
    },
    setLevel(event) {
      this.level = Number(event.target.value);
      player.setLevel(this.level);
    },
    levelWords() {
      return `${this.level} dB`.replace("-", "−");
    },
    matchWords() {
      return this.matched ? `matched ${this.matched > 0 ? "+" : ""}${this.matched.toFixed(1)} dB`.replace("-", "−") : "";
    },
    meterWords() {
      return this.loudness === null ? "" : `${this.loudness.toFixed(1)} LUFS  peak ${this.peak.toFixed(1)} dBFS`.replaceAll("-", "−");
    },
    is(what) {
      return this.what === what;
    },
    isDrum() {
      return this.what.startsWith("drum:");
    },
    isWithin() {
      return this.what.startsWith("in:");
    },
    tick() {
      this.frame = requestAnimationFrame(() => this.tick());
      if (!this.playing || !player.playing) return;
      const share = player.place / this.length;
      this.$refs.head.style.transform = `scaleX(${share})`;
      window.dispatchEvent(new CustomEvent("playhead", { detail: this.start + player.place }));
    },
  }));
}
