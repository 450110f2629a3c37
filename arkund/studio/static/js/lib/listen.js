// The listening bar: loop a span or play the song, choose what is heard, before or after at equal loudness.
import { Listening } from "./listening.js";
import { loopPlace } from "./loop.js";
import { Alpine, boot } from "./page.js";
import { Player, START_LEVEL_DB } from "./player.js";
import { samples } from "./server.js";
import { Sounds } from "./sounds.js";

const CHUNK_S = 4;
const WANTED_AHEAD_S = 6;
const SWAP_AFTER_S = 0.35; // how far ahead of the ear a changed song takes over
const LATE_MS = 600;
const PART_S = 1.5; // of a loop: what is under the ear is rendered first, and played until the rest is there
const LEAST_PART_S = 0.4; // before the loop begins anew
const SHORT_WAIT_S = 0.12; // for the loop to begin anew; where it takes longer, the whole of it is there sooner
const HITS = 3; // of a mic whose name is in doubt
const HITS_APART_S = 0.6;
const ANSWER_S = 0.04; // an answer takes as long at least

const player = new Player();
const sounds = new Sounds(boot.session, boot.compare || boot.step);
const listening = new Listening(boot.session, sessionStorage);

// A handle for looking into what is played.
globalThis.arkund = { player, sounds };

export function registerListen() {
  Alpine.data("listen", () => ({
    ...loopPlace(),
    playing: false,
    song: false,
    waiting: false,
    what: "kit",
    version: "after",
    level: START_LEVEL_DB,
    matched: 0,
    shown: null, // what the figures are of
    loudness: null,
    peak: null,
    trial: {},
    tried: null,
    late: false,
    listening,

    init() {
      this.listeners = {
        try: (e) => this.tryOut(e.detail),
        plan: (e) => this.changed(e.detail),
        chosen: () => this.follow(),
        hit: (e) => this.once(`average-hit/${e.detail}`, HITS),
        kept: (e) => this.once(`shelf/${e.detail}`, 1),
        loop: (e) => this.loop(e.detail.start, e.detail.stop),
        compare: (e) => this.compare(e.detail),
        hear: (e) => this.hear(e.detail),
        "listen-to": (e) => this.listenTo(e.detail.kind, e.detail.strip),
        keydown: (e) => this.key(e),
      };
      for (const [name, listener] of Object.entries(this.listeners)) window.addEventListener(name, listener);
      Alpine.store("page").listening = this.listening.question();
      globalThis.arkund.settled = () => this.settled();
    },
    destroy() {
      for (const [name, listener] of Object.entries(this.listeners)) window.removeEventListener(name, listener);
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
      this.tellHearing();
      this.tick();
      await player.open(boot.rate);
      player.setLevel(this.level);
      this.again();
    },
    /** A sound by itself, a few times: the average hit of a mic of doubtful name, a hit of the shelf. */
    async once(what, times) {
      await player.open(boot.rate);
      player.setLevel(this.level);
      try {
        player.playOnce(await samples(`/s/${boot.session}/${what}`), times, HITS_APART_S);
      } catch (error) {
        Alpine.store("page").say(error.message, true);
      }
    },
    halt() {
      cancelAnimationFrame(this.frame);
      player.stop();
      sounds.stop();
      this.playing = false;
      this.waiting = false;
      this.late = false;
      this.tellHearing();
    },

    question(first, seconds, more = {}) {
      const start = Math.round(first * boot.rate);
      const stop = start + Math.round(seconds * boot.rate);
      return { what: this.what, version: this.version, start, stop, changes: this.trial, scene: Alpine.store("page").trialScene, ...listening.question(), ...more };
    },
    /** Ask, and say so when the answer is late: the old sound goes on meanwhile. */
    async asked(question, first = null) {
      this.waiting = true;
      const late = setTimeout(() => (this.late = true), LATE_MS);
      try {
        return await sounds.ask(question, first);
      } catch (error) {
        Alpine.store("page").say(error.message, true);
        return null;
      } finally {
        clearTimeout(late);
        this.waiting = false;
        this.late = false;
      }
    },
    /** Whether all that was asked for is done, shown and sounds: what tests wait for. */
    settled() {
      const { chart, pending, job, old } = Alpine.store("page");
      return Boolean(chart && !pending && !job && !old && !this.waiting && (!this.playing || player.playing));
    },
    /** Play what is wanted as it is now. */
    async again() {
      if (!this.playing) return;
      if (this.song) {
        await this.swapSong();
        return;
      }
      const sound = await this.asked(this.question(this.start, this.length), this.underEar());
      if (!sound || !this.playing || this.song) return;
      player.play(sound);
      this.show(sound);
      this.prefetch();
    },
    /** The part of the loop that the ear is about to hear; null where the whole loop comes sooner, or another one sounds. */
    underEar() {
      const { current } = player;
      const another = this.shown !== this.what || !current || Math.abs(current.duration - this.length) > 1e-3;
      if (another || this.length < 2 * PART_S) return null;
      const soon = player.place + ANSWER_S;
      const left = this.length - soon;
      if (left > SHORT_WAIT_S && left <= LEAST_PART_S) return null;
      const from = left > LEAST_PART_S ? soon : 0;
      const { start, stop } = this.question(this.start, this.length);
      const first = start + Math.round(from * boot.rate);
      return {
        part: [first, Math.min(first + Math.round(PART_S * boot.rate), stop)],
        matched: this.matched,
        play: (sound) => this.playing && !this.song && player.playPart(sound, (first - start) / boot.rate),
      };
    },
    show(sound) {
      if (!this.song && this.version === "after") this.matched = sound.matched_db;
      this.shown = this.what;
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
    async swapSong(after = SWAP_AFTER_S) {
      const now = player.songPlace;
      const from = now === null ? this.start : now + after;
      const until = Math.min(from + CHUNK_S, this.songLength());
      if (until <= from) return;
      const sound = await this.asked(this.question(from, until - from, { chunk: true }));
      if (!sound || !this.playing || !this.song) return;
      if (now === null) player.queue(sound, from, until, this.songMatch());
      else if (!player.swapSong(sound, from, until, this.songMatch())) {
        this.swapSong(2 * after); // the ear was faster: once more, further ahead of where it is now
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
    /** The loop is elsewhere: what plays goes there. */
    moved() {
      if (this.song && this.playing) player.stop();
      this.again();
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
    /** Solo or mute a strip for listening, or let it be again. */
    listenTo(kind, strip) {
      this.listening.toggle(kind, strip);
      this.tellListening();
    },
    clearListening() {
      this.listening.clear();
      this.tellListening();
    },
    tellListening() {
      Alpine.store("page").listening = this.listening.question();
      this.again();
    },
    listeningWords() {
      return this.listening.words((strip) => Alpine.store("page").stripName(strip));
    },
    setWhat(what) {
      this.what = what;
      this.again();
    },
    setVersion(version) {
      this.version = version;
      this.tellHearing();
      this.again();
    },
    /** What the version before is without: a step, or one Move. */
    compare(step) {
      sounds.step = step;
      sounds.forget();
      this.again();
    },
    /** Play a version, from rest if need be. */
    hear(version) {
      this.version = version;
      if (!this.playing) this.toggle();
      else this.again();
      this.tellHearing();
    },
    tellHearing() {
      Alpine.store("page").hearing = this.playing ? this.version : "";
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
    /** Move the playhead, frame by frame while something plays. */
    tick() {
      if (!this.playing) return;
      this.frame = requestAnimationFrame(() => this.tick());
      if (!player.playing) return;
      const place = this.song ? player.songPlace : this.start + player.place;
      if (place === null) return;
      const share = this.song ? place / this.songLength() : (place - this.start) / this.length;
      this.$refs.head.style.transform = `scaleX(${share})`;
      window.dispatchEvent(new CustomEvent("playhead", { detail: place }));
      if (this.song && place > this.songLength() - 0.05) this.halt();
    },
  }));
}
