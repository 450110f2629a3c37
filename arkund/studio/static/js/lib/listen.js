// The listening bar: loop a span or play the song, choose what is heard, before or after at equal loudness.
import { clamp } from "./geometry.js";
import { Alpine, boot } from "./page.js";
import { Player, START_LEVEL_DB } from "./player.js";
import { get } from "./server.js";
import { Sounds } from "./sounds.js";

const CHUNK_S = 4;
const WANTED_AHEAD_S = 6;
const SWAP_AFTER_S = 0.35; // how far ahead of the ear a changed song takes over
const LATE_MS = 600;
const BEFORE_HIT_S = 0.1;

const player = new Player();
const sounds = new Sounds(boot.session, boot.step);

// A handle for looking into what is played.
globalThis.arkund = { player, sounds };

const remembered = (name, usual) => Number(sessionStorage.getItem(`${name}-${boot.session}`) || usual);

export function registerListen() {
  Alpine.data("listen", () => ({
    playing: false,
    song: false,
    waiting: false,
    what: "kit",
    version: "after",
    start: remembered("start", 0),
    length: remembered("length", 8),
    level: START_LEVEL_DB,
    matched: 0,
    loudness: null,
    peak: null,
    trial: {},
    tried: null,
    late: false,

    init() {
      this.listeners = {
        try: (e) => this.tryOut(e.detail),
        plan: (e) => this.changed(e.detail),
        chosen: () => this.follow(),
        loop: (e) => this.loop(e.detail.start, e.detail.stop),
        keydown: (e) => this.key(e),
      };
      for (const [name, listener] of Object.entries(this.listeners)) window.addEventListener(name, listener);
      this.tick();
    },
    destroy() {
      for (const [name, listener] of Object.entries(this.listeners)) window.removeEventListener(name, listener);
      cancelAnimationFrame(this.frame);
      this.halt();
    },

    key(event) {
      if (event.target.closest("input:not([type=range]), select, textarea") || event.ctrlKey || event.metaKey) return;
      const beat = this.beatSeconds();
      const actions = {
        " ": () => this.toggle(),
        b: () => this.setVersion(this.version === "after" ? "before" : "after"),
        s: () => this.setWhat(this.what.startsWith("drum:") ? "kit" : this.drum()),
        l: () => this.setSong(!this.song),
        "[": () => this.nudge(-beat),
        "]": () => this.nudge(beat),
        "{": () => this.nudge(-beat * this.beats()),
        "}": () => this.nudge(beat * this.beats()),
        ",": () => this.toHit(-1),
        ".": () => this.toHit(1),
      };
      if (!actions[event.key]) return;
      event.preventDefault();
      actions[event.key]();
    },

    async toggle() {
      if (this.playing) {
        this.halt();
        return;
      }
      this.playing = true;
      await player.open(boot.rate);
      player.setLevel(this.level);
      this.again();
    },
    halt() {
      player.stop();
      sounds.stop();
      this.playing = false;
      this.waiting = false;
      this.late = false;
    },

    question(first, seconds, more = {}) {
      const start = Math.round(first * boot.rate);
      const stop = start + Math.round(seconds * boot.rate);
      return { what: this.what, version: this.version, start, stop, changes: this.trial, ...more };
    },
    /** Ask, and say so when the answer is late: the old sound goes on meanwhile. */
    async asked(question) {
      this.waiting = true;
      const late = setTimeout(() => (this.late = true), LATE_MS);
      try {
        return await sounds.ask(question);
      } catch (error) {
        Alpine.store("page").say(error.message, true);
        return null;
      } finally {
        clearTimeout(late);
        this.waiting = false;
        this.late = false;
      }
    },
    /** Play what is wanted as it is now. */
    async again() {
      if (!this.playing) return;
      if (this.song) {
        await this.swapSong();
        return;
      }
      const sound = await this.asked(this.question(this.start, this.length));
      if (!sound || !this.playing || this.song) return;
      player.play(sound);
      this.show(sound);
      this.prefetch();
    },
    show(sound) {
      if (!this.song && this.version === "after") this.matched = sound.matched_db;
      this.loudness = sound.loudness;
      this.peak = sound.peak_db;
    },
    /** Fetch what one key press would ask for: the other version, and the drum or the kit. */
    prefetch() {
      if (Object.keys(this.trial).length) return;
      const here = (more) => this.question(this.start, this.length, more);
      const other = this.version === "after" ? "before" : "after";
      sounds.ahead([here({ version: other }), here({ what: this.what.startsWith("drum:") ? "kit" : this.drum() })]);
    },

    /** In the song the versions differ by what was matched in the last loop: one figure, so that nothing drifts. */
    songMatch() {
      return this.version === "after" ? this.matched : 0;
    },
    songLength() {
      return Alpine.store("page").length_s || 0;
    },
    /** Start the song, or let what has changed take over a little ahead of the ear. */
    async swapSong() {
      const now = player.songPlace;
      const from = now === null ? this.start : now + SWAP_AFTER_S;
      const until = Math.min(from + CHUNK_S, this.songLength());
      if (until <= from) return;
      const sound = await this.asked(this.question(from, until - from, { chunk: true }));
      if (!sound || !this.playing || !this.song) return;
      if (now === null) player.queue(sound, from, until, this.songMatch());
      else if (!player.swapSong(sound, from, until, this.songMatch())) {
        this.swapSong(); // the ear was faster: once more, from where it is now
        return;
      }
      this.show(sound);
      this.goOn();
    },
    /** Keep some seconds of the song ready ahead of the ear. */
    async goOn() {
      while (this.playing && this.song && player.chunks.length) {
        const from = player.chunks.at(-1).until;
        const until = Math.min(from + CHUNK_S, this.songLength());
        if (until - from < 0.01) return;
        if (player.ahead > WANTED_AHEAD_S) {
          await new Promise((wake) => setTimeout(wake, 200));
          continue;
        }
        const sound = await this.asked(this.question(from, until - from, { chunk: true }));
        if (!sound || !this.playing || !this.song) return; // a newer question goes on from here
        player.queue(sound, from, until, this.songMatch());
        this.show(sound);
      }
    },
    setSong(on) {
      if (this.song && !on && player.songPlace !== null) this.remember(player.songPlace, this.length);
      this.song = on;
      this.again();
    },

    tryOut(changes) {
      this.trial = changes;
      if (!this.playing) return;
      const sounding = this.again();
      this.tried = { changes: JSON.stringify(changes), sounding };
      Alpine.store("page").sounding = sounding;
    },
    /** The Plan has changed. Where just that was tried, it sounds already or soon. */
    changed(detail) {
      sounds.forget();
      const same = this.tried && detail?.tried && JSON.stringify(detail.tried) === this.tried.changes;
      if (JSON.stringify(this.trial) === JSON.stringify(detail?.tried) || !detail?.tried) this.trial = {};
      if (!same) this.again();
    },
    remember(start, length) {
      const most = Math.max((this.songLength() || 1e9) - 0.5, 0.5);
      this.start = clamp(start, 0, most);
      this.length = clamp(length, 0.5, 30);
      sessionStorage.setItem(`start-${boot.session}`, this.start);
      sessionStorage.setItem(`length-${boot.session}`, this.length);
    },
    loop(start, stop) {
      this.remember(start, stop - start);
      if (this.song && this.playing) player.stop();
      this.again();
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
    /** Begin the loop just before this drum's next or previous hit. */
    async toHit(step) {
      const piece = this.piece();
      const { times } = await get(`/s/${boot.session}/hits/${piece}`);
      const now = this.start + BEFORE_HIT_S;
      const found = step > 0 ? times.find((t) => t > now + 0.001) : times.findLast((t) => t < now - 0.001);
      if (found === undefined) Alpine.store("page").say(`no ${step > 0 ? "later" : "earlier"} ${piece} hit`);
      else this.loop(found - BEFORE_HIT_S, found - BEFORE_HIT_S + this.length);
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
      return this.matched && this.version === "after" ? `matched ${this.matched > 0 ? "+" : ""}${this.matched.toFixed(1)} dB`.replace("-", "−") : "";
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
      const place = this.song ? player.songPlace : this.start + player.place;
      if (place === null) return;
      const share = this.song ? place / this.songLength() : (place - this.start) / this.length;
      this.$refs.head.style.transform = `scaleX(${share})`;
      window.dispatchEvent(new CustomEvent("playhead", { detail: place }));
      if (this.song && place > this.songLength() - 0.05) this.halt();
    },
  }));
}
