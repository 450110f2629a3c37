// Plays loops that the core rendered. A new version takes over at the same place with a short crossfade.

const SWAP_S = 0.02;
const GENTLE_S = 0.4; // when the new version is much louder
const JUMP_LU = 4;
const START_S = 0.5; // playback fades in
export const START_LEVEL_DB = -14;

const gainOf = (level) => 10 ** (level / 20);

export class Player {
  constructor() {
    this.context = null;
    this.current = null;
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

  get playing() {
    return this.current !== null;
  }

  /** Where in the loop the ear is, in seconds. */
  get place() {
    return this.current ? (this.context.currentTime - this.began) % this.current.duration : 0;
  }

  /** Play a loop, or let it take over at the same place where one of the same length is running. */
  play(sound) {
    const { context } = this;
    const buffer = context.createBuffer(2, sound.left.length, sound.rate);
    buffer.copyToChannel(sound.left, 0);
    buffer.copyToChannel(sound.right, 1);
    const source = context.createBufferSource();
    source.buffer = buffer;
    source.loop = true;
    const gain = context.createGain();
    source.connect(gain).connect(this.master);
    const now = context.currentTime + 0.005;
    const before = this.current;
    const same = before && Math.abs(before.duration - buffer.duration) < 1e-4;
    if (!same) this.began = now;
    const louder = before ? sound.loudness - before.loudness : 0;
    const fade = before ? (louder > JUMP_LU ? GENTLE_S : SWAP_S) : START_S;
    gain.gain.setValueAtTime(0, now);
    gain.gain.linearRampToValueAtTime(1, now + fade);
    source.start(now, same ? (now - this.began) % buffer.duration : 0);
    if (before) this.#release(before, now, same ? fade : SWAP_S);
    this.current = { source, gain, duration: buffer.duration, loudness: sound.loudness };
  }

  stop() {
    if (!this.current) return;
    this.#release(this.current, this.context.currentTime, 0.03);
    this.current = null;
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

  #release(old, at, fade) {
    old.gain.gain.cancelScheduledValues(at);
    old.gain.gain.setValueAtTime(old.gain.gain.value, at);
    old.gain.gain.linearRampToValueAtTime(0, at + fade);
    old.source.stop(at + fade + 0.01);
    old.source.onended = () => old.gain.disconnect();
  }
}
