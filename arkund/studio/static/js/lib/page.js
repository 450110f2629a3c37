// What every step's page shares: its data at one version, Moves, undo and redo, notes, messages, keys.
import Alpine from "../../vendor/alpine-csp.esm.min.js";
import { clamp, fit } from "./geometry.js";
import { registerJobs } from "./jobs.js";
import { follow, get, post } from "./server.js";

export const boot = JSON.parse(document.getElementById("boot").textContent);
/** Return a value within a field's range, with so many digits. */
export function within(name, key, value, digits = 1) {
  const { low, high } = boot.fields[name].find((field) => field.key === key);
  return Number(clamp(value, low, high).toFixed(digits));
}

const base = `/s/${boot.session}`;
const SOUND_MS = 400;
let waiting = null; // the last change that was asked for while it is not yet sent: { name, data, done }
const rest = (ms) => new Promise((wake) => setTimeout(wake, ms));

export function registerPage() {
  window.addEventListener("job-ended", (e) => {
    if (e.detail.kind === "whole" && e.detail.session === boot.session) Alpine.store("page").refresh();
  });
  const sceneKey = `scene ${boot.session}`; // carried from page to page, in this window
  Alpine.store("page", {
    ...boot,
    of: new URLSearchParams(location.search).get("of") || "",
    // what is set holds in it alone
    scene: boot.with_scenes ? (new URLSearchParams(location.search).get("scene") ?? sessionStorage.getItem(sceneKey) ?? "") : "",
    scenes: [],
    trialScene: "", // in which the last changes were tried
    picked: "", // the tool that was chosen in the row
    chart: null,
    notes: [],
    undoes: null, // the Move that undo would take back: { move, title, step }
    redoes: null,
    open: {}, // by step, how many of its notes wait, and whether that was measured since the last change
    listening: { solo: [], mute: [] }, // of this browser alone: see listening.js
    questions: [], // about names, that the one click asks before it begins
    hearing: "", // the version that plays: before, after
    message: "",
    bad: false,
    job: 0,
    keys: false,
    pending: 0,
    old: false, // what is shown was measured before the last change, or of another mic
    sounding: null, // a promise while a changed sound is under way
    turn: Promise.resolve(),

    async refresh() {
      const query = this.query();
      try {
        const data = await get(`${base}/${this.step}/data${query}`);
        // Measured before the last change, or of another mic or scene than is chosen by now: a newer answer is under way.
        if (data.version < this.version || query !== this.query()) return;
        this.version = data.version;
        this.notes = data.notes;
        this.undoes = data.undo;
        this.redoes = data.redo;
        this.open = data.open;
        this.scene = data.scene;
        if (boot.with_scenes) sessionStorage.setItem(sceneKey, data.scene);
        this.scenes = data.scenes;
        this.bars = data.bars;
        this.sections = data.sections;
        this.length_s = data.length_s;
        const chart = { ...data.chart, bars: data.bars };
        const keep = typedWords();
        this.chart = chart;
        window.dispatchEvent(new CustomEvent("chart", { detail: chart }));
        Alpine.nextTick(keep);
        this.old = this.pending > 0;
      } catch (error) {
        this.say(error.message, true);
      }
    },

    say(message, bad = false) {
      this.message = message;
      this.bad = bad;
      clearTimeout(this.timer);
      if (!bad) this.timer = setTimeout(() => (this.message = ""), 5000);
    },

    /** Ask for a change. Those of this page follow each other, so that none meets a version that another has just made old. */
    async act(name, data = {}) {
      window.dispatchEvent(new CustomEvent("acting")); // what is being stepped is written first
      this.pending += 1;
      this.old = true;
      // a changed sound is rendered first, but waited for no longer than that takes
      const turn = this.turn.then(() => Promise.race([this.sounding, rest(SOUND_MS)])).then(() => this.ask(name, data));
      this.turn = turn;
      waiting = typeof data === "function" ? null : { name, data, done: turn };
      const answer = await turn;
      this.pending -= 1;
      if (answer?.job) return this.wait(answer.job);
      await this.sounding; // what is heard comes before what is seen
      if (!this.pending) await this.refresh();
      return answer;
    },
    /** Send a change that is still being stepped or waits, where the page is left: it was made. */
    leave() {
      window.dispatchEvent(new CustomEvent("acting"));
      if (waiting) post(`${base}/${waiting.name}`, { version: this.version, ...waiting.data }, true).catch(() => {});
      waiting = null;
    },
    async ask(name, data) {
      if (waiting?.data === data) waiting = null;
      try {
        const body = typeof data === "function" ? data() : data;
        const answer = await post(`${base}/${name}`, { version: this.version, ...body });
        if (answer.job) return answer;
        const alone = answer.version <= this.version + 1;
        this.version = answer.version;
        this.undoes = answer.undo;
        this.redoes = answer.redo;
        this.say(this.deedWords(answer));
        window.dispatchEvent(new CustomEvent("plan", { detail: { tried: data.changes || null } }));
        if (!alone) await this.refresh(); // others have changed something too: what follows from here on is set in sight of it
        return answer;
      } catch (error) {
        this.say(error.message, true);
        if (error.status === 409) await this.refresh();
        if (data.changes) window.dispatchEvent(new CustomEvent("plan")); // what was tried is not so
        return null;
      }
    },

    /** What became of a Move, and on which page where that is another one. */
    deedWords({ title, said, deed, step }) {
      const what = [title, said].filter(Boolean).join(": ") || "Done.";
      if (!deed || deed === "done") return what;
      const page = this.pageName(step);
      return `${deed === "undone" ? "Undone" : "Done again"}${page ? ` on ${page}` : ""}: ${what}`;
    },
    /** The name of another page than this one; nothing for what belongs to none. */
    pageName(step) {
      return step === this.step ? "" : boot.pages[step] || "";
    },
    /** Where the next Move to be turned belongs, if that is another page: said on the button, before it is pressed. */
    elsewhere(named) {
      const page = named ? this.pageName(named.step) : "";
      return page ? ` on ${page}` : "";
    },
    /** Hand over files; what they change is a Move like any other. */
    async send(name, files, fields) {
      const form = new FormData();
      for (const file of [files].flat()) form.append("file", file);
      for (const [key, value] of Object.entries(fields)) form.append(key, value);
      try {
        await this.wait((await post(`${base}/${name}`, form)).job);
      } catch (error) {
        this.say(error.message, true);
      }
    },

    async wait(job) {
      this.job = job;
      window.dispatchEvent(new CustomEvent("job"));
      try {
        const row = await follow(job);
        await this.refresh();
        window.dispatchEvent(new CustomEvent("plan"));
        this.say([row.result.title, row.result.said].filter(Boolean).join(": ") || "Done.");
        return row;
      } catch (error) {
        this.say(error.message, true);
        await this.refresh();
        return null;
      } finally {
        this.job = 0;
      }
    },

    /** Change settings. They are heard at once, while the Move is still being written; one that still waits takes newer values of its settings. */
    move(changes, title, scene = this.scene) {
      this.try(changes, scene);
      if (waiting?.name === "moves" && waiting.data.scene === scene && Object.keys(changes).join() === Object.keys(waiting.data.changes).join()) {
        Object.assign(waiting.data, { changes, title });
        return waiting.done;
      }
      const data = { changes, step: this.step, title, scene };
      const done = this.act("moves", data);
      waiting.done = done;
      return done;
    },
    undo() {
      return this.turnMove("undo", () => this.undoes);
    },
    redo() {
      return this.turnMove("redo", () => this.redoes);
    },
    /** Undo or do again the Move that the page names once what was asked for before is done. */
    turnMove(name, named) {
      return this.act(name, () => (named() ? { move: named().move } : {}));
    },
    turnWords(name, named) {
      if (!named) return `nothing to ${name}`;
      const page = this.pageName(named.step);
      return `${name}${page ? `, on ${page}` : ""}: ${named.title}`;
    },
    /** Every first choice; where it is in doubt which mic is which, that is asked first, here; once all is answered it goes on by itself. */
    async propose() {
      const row = await this.act("propose");
      this.questions = row?.result?.ask || [];
      if (this.questions.length) this.focusQuestion();
      else if (row?.result?.moves) location.href = `${base}/account/`;
      return row;
    },
    /** Answer the question that is asked: do what it suggests, or leave the name as it is. */
    async answerQuestion(verdict) {
      const [question] = this.questions;
      const given = verdict === "do" ? { verdict } : { verdict: "leave", reason: "the name is right" };
      const answer = await this.act("decide", { step: "load", key: question.key, ...given });
      if (!answer) return;
      this.questions = this.questions.filter((each) => each !== question);
      if (this.questions.length) this.focusQuestion();
      else this.propose();
    },
    /** The first answer has the focus as soon as it is shown, so that the keyboard goes on. */
    focusQuestion() {
      Alpine.nextTick(() => [...document.querySelectorAll("#questions button")].find((button) => button.offsetParent)?.focus());
    },
    questionsLeft() {
      const more = this.questions.length - 1;
      return more > 0 ? `${more} more to answer; then it goes on by itself` : "then it goes on by itself";
    },
    dropQuestions() {
      this.questions = [];
      this.say("Nothing was proposed; the notes on Load ask the same.");
    },
    doNote(note) {
      return this.decide(note, { verdict: "do" });
    },
    leaveNote(note) {
      return this.decide(note, { verdict: "leave", reason: note.why || "it already sounds right" });
    },
    /** Once for each note: a second press while the first is under way is none. */
    async decide(note, verdict) {
      if (note.busy) return null;
      note.busy = true;
      const answer = await this.act("decide", { step: this.step, key: note.key, ...verdict });
      note.busy = false;
      return answer;
    },
    stateWords({ state, changed }) {
      if (state === "left") return "left: ";
      return changed ? "done, changed since; as measured now" : "done";
    },
    isBusy(note) {
      return Boolean(note.busy);
    },
    try(changes, scene = this.scene) {
      this.trialScene = scene;
      window.dispatchEvent(new CustomEvent("try", { detail: changes }));
    },
    /** What the page shows, as the address says it. */
    query() {
      const given = new URLSearchParams(Object.entries({ of: this.of, scene: this.scene }).filter(([, value]) => value));
      return given.size ? `?${given}` : "";
    },
    /** Set what follows for a scene alone; "" for the whole song. */
    inScene(id) {
      this.scene = id;
      this.old = true;
      history.replaceState(null, "", this.query() || location.pathname);
      return this.refresh();
    },
    choose(of) {
      this.of = of;
      this.picked = "";
      this.old = true;
      history.replaceState(null, "", this.query() || location.pathname);
      window.dispatchEvent(new CustomEvent("chosen", { detail: of }));
      return this.refresh();
    },
    /** The mic whose name a note asks about, and its average hit to hear. */
    micAsked(note) {
      return note.key.startsWith("load:name:") ? note.place : "";
    },
    mayHear(note) {
      return Boolean(note.trial && Object.keys(note.trial).length);
    },
    /** Hear what a note suggests, in its bar and the one after it, before it is done. */
    hearTrial(note) {
      const lines = this.bars?.lines_s || [];
      const bar = Number(note.place);
      const start = Math.max((lines[bar] ?? 0) - 0.3, 0);
      window.dispatchEvent(new CustomEvent("loop", { detail: { start, stop: (lines[bar + 2] ?? start + 4) + 0.3 } }));
      this.try(note.trial, "");
    },
    hearHit(mic) {
      window.dispatchEvent(new CustomEvent("hit", { detail: mic }));
    },
    isListened(kind, strip) {
      return this.listening[kind].includes(strip);
    },
    listenTo(kind, strip) {
      window.dispatchEvent(new CustomEvent("listen-to", { detail: { kind, strip } }));
    },
    /** What a strip (`mic:ID`, `group:ID`, `path:ID`) is called here. */
    stripName(strip) {
      const id = strip.slice(strip.indexOf(":") + 1);
      const rows = [...(this.chart?.groups || []), ...(this.chart?.paths || []), ...this.mics];
      return rows.find((each) => each.id === id)?.name || id;
    },
    oldWords() {
      return this.old && this.chart ? "what is dimmed is from before" : "";
    },
    openNotes() {
      return this.notes.filter((n) => n.state === "open").length;
    },
    /** A step's mark on the rail: how many notes wait there, a tick where none does, nothing where that is not known. */
    railMark(step) {
      const found = this.open[step];
      if (!found) return "";
      return found.open || (found.fresh ? "✓" : "");
    },
    railWords(step) {
      const found = this.open[step];
      if (!found) return "";
      const count = found.open ? `${found.open} open ${found.open === 1 ? "note" : "notes"}` : "no open notes";
      return found.fresh ? count : `${count}, as measured before the last change`;
    },
    isOldMark(step) {
      return Boolean(this.open[step] && !this.open[step].fresh);
    },
    isChosen(id) {
      return this.chart !== null && (this.chart.mic === id || this.chart.piece === id);
    },
  });
}

/** The exact values beside a chart: sliders are tried while held, and become one Move when let go. */
export function hand(path, values, scene) {
  return {
    fieldsOf(name) {
      return boot.fields[name] || [];
    },
    read(key, name = "") {
      const all = values.call(this, name);
      return all ? all[key] : 0;
    },
    /** Whether a switch is on; off as long as nothing is known. */
    isOn(key, name = "") {
      return this.read(key, name) === true;
    },
    slide(event, field, name = "") {
      const value = fit(Number(event.target.value), field);
      this.$store.page.try({ [path.call(this, field.key, name)]: value }, scene);
    },
    commit(event, field, name = "") {
      const value = fit(Number(event.target.value), field);
      event.target.value = value;
      const unit = field.unit ? ` ${field.unit}` : "";
      this.$store.page.move({ [path.call(this, field.key, name)]: value }, `${field.label} ${value}${unit}`, scene);
    },
    toggle(key, name = "") {
      const on = !this.read(key, name);
      this.$store.page.move({ [path.call(this, key, name)]: on }, `${name || this.$store.page.step} ${on ? "on" : "off"}`, scene);
    },
  };
}

let typed = null; // the field that somebody is typing into, until it is taken over
let before = ""; // what stood in it

/** What is shown anew never takes a half-typed value away. A browser does not tell of a change of a value that was put back, so that is told here. */
function typing() {
  const taken = () => {
    const field = typed;
    typed = null;
    field?.dispatchEvent(new Event("change", { bubbles: true }));
  };
  window.addEventListener("beforeinput", ({ target }) => {
    if (target !== typed) before = target.value;
  });
  window.addEventListener("input", ({ target }) => {
    if (target.matches?.("input[type=number], input[type=text]") && !target.form) typed = target;
  });
  window.addEventListener("change", () => (typed = null), true);
  window.addEventListener("keydown", (event) => event.key === "Enter" && event.target === typed && setTimeout(taken));
  window.addEventListener("focusout", (event) => event.target === typed && taken());
}

/** Remember what is being typed; the returned function puts it back. */
function typedWords() {
  const field = typed;
  const words = field?.value;
  return () => {
    if (field && field === typed) field.value = words;
  };
}

/** Undo by keyboard. In a field in which something was typed that is not taken over yet, it is that which is taken back, and no Move. */
function undoKey(event, page) {
  const field = event.target.closest("input:not([type=range]):not([type=checkbox]), textarea");
  if (field && field !== typed && field.type !== "number") return; // a search, a name: the browser's own
  event.preventDefault();
  if (field && field === typed) {
    field.value = before;
    typed = null;
  } else if (event.shiftKey) page.redo();
  else page.undo();
}

function keys() {
  window.addEventListener("keydown", (event) => {
    const page = Alpine.store("page");
    const meta = event.ctrlKey || event.metaKey;
    if (meta && event.key.toLowerCase() === "z") {
      undoKey(event, page);
      return;
    }
    if (event.target.closest("input:not([type=range]), select, textarea")) return;
    if (event.key === "?") {
      page.keys = !page.keys;
    } else if (event.key === "Escape") {
      page.keys = false;
      page.message = "";
    }
  });
}

/** Start the page once its components are registered. */
export function start() {
  const light = localStorage.getItem("light") === "1";
  document.documentElement.toggleAttribute("data-light", light);
  keys();
  typing();
  window.addEventListener("pagehide", () => Alpine.store("page").leave());
  registerJobs();
  Alpine.start();
  Alpine.store("page").refresh();
}

export { Alpine };
