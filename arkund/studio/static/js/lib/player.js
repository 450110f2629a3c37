// Plays what the core rendered: a loop, in which a new version takes over at the same place, or the song in chunks that follow without a gap.

const SWAP_S = 0.02;
const LEAD_S = 0.02; // from a decision to its sound: what a busy machine takes to hand it to the audio thread; one that comes later begins late, in a gap
const SAFE_S = 0.06; // the same in the song, where nothing presses
const AFRESH_S = 0.05; // until a chunk that came too late sounds
const JUMP_LU = 4; // as much louder a new version may be at once; the rest comes slowly
const GENTLE_S = 1.5;
const START_S = 0.5; // playback fades in
const STOP_S = 0.03;
const MOST_WAIT_S = 0.6; // for the place at which a part of the loop begins
export const START_LEVEL_DB = -14;

const gainOf = (level) => 10 ** (level / 20);

/** The gain that a new version begins with, so that it is no more than JUMP_LU louder than the one before. */
export function jumpGain(before, after) {
  return gainOf(Math.min(0, before + JUMP_LU - after));
}

/** Mean power of some samples of both channels. */
function power(left, right, from, until) {
  let sum = 0;
  for (let i = from; i < until; i += 1) sum += left[i] * left[i] + right[i] * right[i];
  return sum / Math.max(until - from, 1);
}

const levelOf = (energy) => 10 * Math.log10(energy + 1e-12);

export class Player {
  constructor() {
    this.context = null;
    this.current = null; // the loop that sounds
    this.part = null; // of a newer version of it, which sounds in its place
    this.chunks = []; // of the song: {source, gain, at, from, until}, in order
    this.level = START_LEVEL_DB;
    this.began = 0;
  }

  /** Must be called from a click or key: browsers allow sound only then. */
  open(rate) {
    if (this.context && this.context.sampleRate === rate) return this.context.resume();
    this.context = new AudioContext({ sampleRate: rate, latencyHint: "interactive" });
    this.master = this.context.createGain();
    this.master.gain.value = gainOf(this.level);
    this.analyser = this.context.createAnalyser();
    this.analyser.fftSize = 4096;
    this.analyser.smoothingTimeConstant = 0.5;
    this.master.connect(this.analyser).connect(this.context.destination);
    return this.context.resume();
  }

  /** Play a sound a few times by itself; whatever else plays goes on. */
  playOnce(samples, times, apartS) {
    const buffer = this.context.createBuffer(1, samples.length, this.context.sampleRate);
    buffer.copyToChannel(samples, 0);
    for (let k = 0; k < times; k += 1) {
      const source = this.context.createBufferSource();
      source.buffer = buffer;
      source.connect(this.master);
      source.start(this.context.currentTime + LEAD_S + k * apartS);
    }
  }

  get playing() {
    return this.current !== null || this.chunks.length > 0;
  }

  /** Where in the loop the ear is, in seconds. */
  get place() {
    return this.current ? (this.context.currentTime - this.began) % this.current.duration : 0;
  }

  /** Where in the song the ear is, in seconds; null while no chunk sounds. */
  get songPlace() {
    const now = this.context ? this.context.currentTime : 0;
    const chunk = this.chunks.find((c) => now >= c.at && now < c.at + c.until - c.from);
    return chunk ? chunk.from + now - chunk.at : null;
  }

  /** Seconds of the song that are ready beyond the ear; below zero when it waits. */
  get ahead() {
    const last = this.chunks.at(-1);
    return last ? last.at + last.until - last.from - this.context.currentTime : 0;
  }

  /** Play a loop, or let it take over at the same place where one of the same length is running. Returns the seconds until it sounds. */
  play(sound) {
    const { context } = this;
    this.#endSong(context.currentTime + LEAD_S, SWAP_S);
    const { source, gain } = this.#source(sound);
    source.loop = true;
    const now = context.currentTime + LEAD_S;
    const before = this.current;
    const { duration } = source.buffer;
    const same = before && Math.abs(before.duration - duration) < 1e-4;
    if (!same) this.began = now;
    const fade = before ? SWAP_S : START_S;
    const first = before ? jumpGain(before.loudness, sound.loudness) : 1;
    gain.gain.setValueAtTime(0, now);
    gain.gain.linearRampToValueAtTime(first, now + fade);
    if (first < 1) gain.gain.linearRampToValueAtTime(1, now + fade + GENTLE_S);
    source.start(now, same ? (now - this.began) % duration : 0);
    this.#endLoop(now, SWAP_S);
    this.current = { source, gain, duration, loudness: sound.loudness };
    return LEAD_S;
  }

  /** Let a part of a newer version, which begins at a place of the loop in seconds, sound in its place as soon as the ear is there. If the whole of it is
   * not there at its end, the old one goes on. Returns the seconds until it sounds, null where it comes too late. */
  playPart(sound, from) {
    const { context, current } = this;
    if (!current) return null;
    const now = context.currentTime + LEAD_S;
    const lasts = sound.left.length / sound.rate;
    const behind = (((now - this.began - from) % current.duration) + current.duration) % current.duration; // since the ear was there
    const offset = behind < lasts - 2 * SWAP_S ? behind : 0;
    const wait = offset === behind ? 0 : current.duration - behind;
    if (wait > MOST_WAIT_S) return null; // too late: the whole of it will do
    const at = now + wait;
    const end = at + lasts - offset;
    const { source, gain } = this.#source(sound);
    const first = this.#partGain(sound, from);
    const last = Math.min(1, first + ((1 - first) * (end - at - 2 * SWAP_S)) / GENTLE_S);
    gain.gain.setValueAtTime(0, at);
    gain.gain.linearRampToValueAtTime(first, at + SWAP_S);
    gain.gain.linearRampToValueAtTime(last, end - SWAP_S);
    gain.gain.linearRampToValueAtTime(0, end);
    source.start(at, offset);
    source.onended = () => gain.disconnect();
    const old = current.gain.gain;
    const level = this.part ? Number(at >= this.part.end) : old.value; // of the loop behind it, by then
    if (this.part) this.#release(this.part, at, SWAP_S);
    old.cancelScheduledValues(at);
    old.setValueAtTime(level, at);
    old.linearRampToValueAtTime(0, at + SWAP_S);
    old.setValueAtTime(0, end - SWAP_S);
    old.linearRampToValueAtTime(1, end);
    this.part = { source, gain, end };
    return at - context.currentTime;
  }

  /** Let a chunk of the song follow the last one, to the sample; the first fades in. `from`, `until`: its place in the song in seconds;
   * `matched`: dB by which this version is played louder or softer. */
  queue(sound, from, until, matched = 0) {
    const { context } = this;
    this.#endLoop(context.currentTime, STOP_S);
    const { source, gain } = this.#source(sound);
    const last = this.chunks.at(-1);
    const follows = last ? last.at + last.until - last.from : 0;
    const late = follows < context.currentTime + LEAD_S;
    const at = late ? context.currentTime + AFRESH_S : follows;
    const full = gainOf(matched);
    gain.gain.setValueAtTime(late ? 0 : full, at);
    if (late) gain.gain.linearRampToValueAtTime(full, at + (last ? SWAP_S : START_S));
    source.start(at);
    this.#keep({ source, gain, at, from, until, loudness: sound.loudness + matched });
  }

  /** Let a new version of the song take over at a place that is still to come; what was queued from there on is dropped. Returns whether it did. */
  swapSong(sound, from, until, matched = 0) {
    const over = this.chunks.find((c) => from >= c.from && from < c.until);
    const at = over ? over.at + from - over.from : 0;
    if (at < this.context.currentTime + SAFE_S) return false;
    const { source, gain } = this.#source(sound);
    const loudness = sound.loudness + matched;
    const full = gainOf(matched);
    const first = full * jumpGain(over.loudness, loudness);
    gain.gain.setValueAtTime(0, at);
    gain.gain.linearRampToValueAtTime(first, at + SWAP_S);
    if (first < full) gain.gain.linearRampToValueAtTime(full, at + SWAP_S + GENTLE_S);
    this.#endSong(at, SWAP_S);
    over.until = from;
    this.chunks = this.chunks.filter((c) => c.at < at);
    source.start(at);
    this.#keep({ source, gain, at, from, until, loudness });
    return true;
  }

  stop() {
    if (!this.context) return;
    this.#endSong(this.context.currentTime, STOP_S);
    this.chunks = [];
    this.#endLoop(this.context.currentTime, STOP_S);
  }

  /** Set the listening level; it glides, and never by more than the ear expects. */
  setLevel(level) {
    this.level = level;
    if (this.master) this.master.gain.setTargetAtTime(gainOf(level), this.context.currentTime, 0.08);
  }

  /** The spectrum of what is heard now, in dB by bin. */
  spectrum() {
    const out = new Float32Array(this.analyser.frequencyBinCount);
    this.analyser.getFloatFrequencyData(out);
    return out;
  }

  #source(sound) {
    const buffer = this.context.createBuffer(2, sound.left.length, sound.rate);
    buffer.copyToChannel(sound.left, 0);
    buffer.copyToChannel(sound.right, 1);
    const source = this.context.createBufferSource();
    source.buffer = buffer;
    const gain = this.context.createGain();
    source.connect(gain).connect(this.master);
    return { source, gain };
  }

  /** The gain that a part begins with, by what sounded at the same place: see `jumpGain`. */
  #partGain({ left, right, rate }, from) {
    const old = this.current.source.buffer;
    const first = Math.round(from * rate);
    const until = Math.min(first + left.length, old.length);
    const before = power(old.getChannelData(0), old.getChannelData(1), first, until);
    return jumpGain(levelOf(before), levelOf(power(left, right, 0, until - first)));
  }

  #endLoop(at, fade) {
    for (const each of [this.part, this.current]) if (each) this.#release(each, at, fade);
    this.part = null;
    this.current = null;
  }

  #keep(chunk) {
    this.chunks.push(chunk);
    chunk.source.onended = () => {
      chunk.gain.disconnect();
      this.chunks = this.chunks.filter((c) => c !== chunk);
    };
  }

  /** Fade out what sounds of the song at a time, and drop what comes later. */
  #endSong(at, fade) {
    for (const chunk of this.chunks) {
      if (chunk.at >= at) {
        chunk.source.onended = () => chunk.gain.disconnect();
        chunk.source.stop();
      } else this.#release(chunk, at, fade);
    }
    if (at <= this.context.currentTime + LEAD_S) this.chunks = [];
  }

  #release(old, at, fade) {
    old.gain.gain.cancelScheduledValues(at);
    old.gain.gain.setValueAtTime(old.gain.gain.value, at);
    old.gain.gain.linearRampToValueAtTime(0, at + fade);
    old.source.stop(at + fade + 0.01);
    const ended = old.source.onended;
    old.source.onended = () => {
      old.gain.disconnect();
      if (ended) ended();
    };
  }
}
