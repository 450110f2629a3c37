// Reckonings: what is typed goes to the core, its answer comes back.
import Alpine from "../vendor/alpine-csp.esm.min.js";
import { registerJobs } from "./lib/jobs.js";
import { get } from "./lib/server.js";

const boot = JSON.parse(document.getElementById("boot").textContent);
const REST_MS = 150;

document.documentElement.toggleAttribute("data-light", localStorage.getItem("light") === "1");
registerJobs();
Alpine.data("reckon", () => ({
  lines: [],
  refused: "",
  asked: 0,
  timer: null,

  init() {
    this.ask();
  },
  destroy() {
    clearTimeout(this.timer);
  },
  inputs() {
    return [...this.$root.querySelectorAll("[name]")];
  },
  soon() {
    clearTimeout(this.timer);
    this.timer = setTimeout(() => this.ask(), REST_MS);
  },
  take(event) {
    const { value, dataset } = event.target;
    if (!value) return;
    this.inputs().find((each) => each.name === dataset.for).value = value;
    event.target.value = "";
    this.ask();
  },
  async ask() {
    clearTimeout(this.timer);
    const mine = ++this.asked;
    const typed = new URLSearchParams(this.inputs().map((each) => [each.name, each.value]));
    try {
      const { lines } = await get(`/s/${boot.session}/reckon/${this.$root.dataset.sheet}?${typed}`);
      if (mine === this.asked) Object.assign(this, { lines, refused: "" });
    } catch (error) {
      if (mine === this.asked) this.refused = error.message;
    }
  },
}));
Alpine.start();
