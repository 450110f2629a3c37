// Rendered sounds from the server: the newest question overtakes older ones, and likely next ones are fetched while nothing else is wanted.
import { audio } from "./server.js";

const MOST_KEPT = 6;

export class Sounds {
  constructor(session, step) {
    this.address = `/s/${session}/audition`;
    this.step = step;
    this.client = crypto.randomUUID().slice(0, 8);
    this.number = 0;
    this.running = null;
    this.kept = new Map();
  }

  /** Forget what was fetched ahead: the Plan has changed. */
  forget() {
    this.kept.clear();
  }

  /** The sound of a question {what, version, start, stop, changes}; null where a newer one overtook it. Of a loop a part is fetched first where `first`
   * says one: {part, matched, play}. */
  async ask(question, first = null) {
    const mine = this.#overtake();
    const key = keyOf(question);
    if (this.kept.has(key)) return this.kept.get(key);
    try {
      if (first) {
        const part = await this.#fetch({ ...question, part: first.part, matched: first.matched }, mine);
        if (mine !== this.number) return null;
        first.play(part);
      }
      const sound = await this.#fetch(question, mine);
      if (mine !== this.number) return null;
      this.#keep(key, sound);
      return sound;
    } catch (error) {
      if (error.name === "AbortError" || error.status === 409) return null;
      throw error;
    }
  }

  /** Fetch sounds that will likely be asked for, one after the other, until something else is wanted. */
  async ahead(questions) {
    const mine = this.number;
    for (const question of questions) {
      const key = keyOf(question);
      if (mine !== this.number || this.kept.has(key)) continue;
      try {
        const sound = await this.#fetch(question, mine);
        if (mine === this.number) this.#keep(key, sound);
      } catch {
        return; // nobody waits for it
      }
    }
  }

  stop() {
    this.#overtake();
  }

  #overtake() {
    this.running?.abort();
    this.running = new AbortController();
    this.number += 1;
    return this.number;
  }

  #fetch(question, number) {
    return audio(this.address, { client: this.client, number, step: this.step, ...question }, this.running.signal);
  }

  #keep(key, sound) {
    if (Object.keys(JSON.parse(key).changes).length) return; // a setting that is only tried
    this.kept.delete(key);
    this.kept.set(key, sound);
    if (this.kept.size > MOST_KEPT) this.kept.delete(this.kept.keys().next().value);
  }
}

function keyOf({ what, version, start, stop, changes = {}, chunk = false, solo = [], mute = [] }) {
  return JSON.stringify({ what, version, start, stop, changes, chunk, solo, mute });
}
