// What is soloed and muted for listening: the browser's own, by session and tab, never the Plan's; prints know nothing of it.
const KINDS = ["solo", "mute"];

/** Strips (`mic:ID`, `group:ID`, `path:ID`) that are soloed and muted, kept in a store such as sessionStorage. */
export class Listening {
  constructor(session, store) {
    this.store = store;
    this.name = `listening-${session}`;
    const kept = JSON.parse(store.getItem(this.name) || "{}");
    for (const kind of KINDS) this[kind] = kept[kind] || [];
  }
  has(kind, strip) {
    return this[kind].includes(strip);
  }
  toggle(kind, strip) {
    this[kind] = this.has(kind, strip) ? this[kind].filter((each) => each !== strip) : [...this[kind], strip];
    this.keep();
  }
  clear() {
    for (const kind of KINDS) this[kind] = [];
    this.keep();
  }
  get any() {
    return KINDS.some((kind) => this[kind].length > 0);
  }
  /** As the server is asked. */
  question() {
    return Object.fromEntries(KINDS.map((kind) => [kind, [...this[kind]]]));
  }
  /** In words, with the names of strips as a page shows them. */
  words(nameOf) {
    const of = (kind) => (this[kind].length ? `${kind}: ${this[kind].map(nameOf).join(", ")}` : "");
    return KINDS.map(of).filter(Boolean).join("; ");
  }
  keep() {
    this.store.setItem(this.name, JSON.stringify(this.question()));
  }
}
