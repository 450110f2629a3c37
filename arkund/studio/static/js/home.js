// The list of sessions and the place to drop a folder.
import Alpine from "../vendor/alpine-csp.esm.min.js";
import { registerJobs } from "./lib/jobs.js";
import { follow, post, upload } from "./lib/server.js";

document.documentElement.toggleAttribute("data-light", localStorage.getItem("light") === "1");

/** Every file of a dropped folder with its path inside. */
async function walk(entry, path = "") {
  if (entry.isFile) return [[await new Promise((ok, no) => entry.file(ok, no)), path + entry.name]];
  const reader = entry.createReader();
  const out = [];
  for (;;) {
    const part = await new Promise((ok, no) => reader.readEntries(ok, no));
    if (!part.length) return out;
    for (const each of part) out.push(...(await walk(each, `${path}${entry.name}/`)));
  }
}

Alpine.data("home", () => ({
  over: false,
  busy: false,
  text: "",
  error: "",
  bpm: "",
  meter: "4/4",
  template: "",
  progress: 0,
  job: 0,

  async drop(event) {
    this.over = false;
    const entries = [...event.dataTransfer.items].map((item) => item.webkitGetAsEntry()).filter(Boolean);
    const found = [];
    for (const entry of entries) found.push(...(await walk(entry)));
    this.send(found);
  },
  chosen(event) {
    this.send([...event.target.files].map((file) => [file, file.webkitRelativePath || file.name]));
  },
  async send(found) {
    if (!found.length || this.busy) return;
    const form = new FormData();
    for (const [file, path] of found) {
      if (!/\.(wave?|rf64|bw64|w64|aif|aiff|aifc|flac|mid|midi|zip)$/i.test(path)) continue;
      form.append("files", file);
      form.append("paths", path);
    }
    form.append("bpm", this.bpm);
    form.append("meter", this.meter);
    form.append("template", this.template);
    this.error = "";
    this.busy = true;
    try {
      if (!form.has("files")) throw new Error("No WAV, AIFF or FLAC file and no archive in what was dropped.");
      const { job } = await upload("/load", form, (share) => this.show(share * 0.3, "copying"));
      this.job = job;
      window.dispatchEvent(new CustomEvent("job"));
      const row = await follow(job, (r) => this.show(0.3 + r.progress * 0.7, r.message));
      location.href = `/s/${row.result.session}/load/`;
    } catch (error) {
      this.error = error.message;
      this.busy = false;
      this.job = 0;
    }
  },
  show(share, text) {
    this.progress = share;
    this.text = text;
    this.$refs.bar.style.transform = `scaleX(${share})`;
  },
  percent() {
    return `${Math.round(this.progress * 100)} %`;
  },
  cancel() {
    post(`/jobs/${this.job}/cancel`);
  },
  /** Write a session into one file and fetch it. */
  async pack(event) {
    const id = event.target.dataset.session;
    this.error = "";
    this.busy = true;
    try {
      const { job } = await post(`/s/${id}/archive`);
      this.job = job;
      window.dispatchEvent(new CustomEvent("job"));
      await follow(job, (row) => this.show(row.progress, row.message));
      location.href = `/s/${id}/archive/${job}.zip`;
    } catch (error) {
      this.error = error.message;
    }
    this.busy = false;
    this.job = 0;
  },
  /** A name typed over a template's; where it cannot be, the old one returns and the reason is said. */
  async rename(event) {
    const { dataset, value } = event.target;
    this.error = "";
    try {
      dataset.name = (await post(`/templates/${dataset.template}/rename`, { name: value })).name;
    } catch (error) {
      this.error = error.message;
    }
    event.target.value = dataset.name;
  },
  sureOfTemplate(event) {
    if (!confirm(`Delete the template "${event.target.dataset.name}"? Sessions that started from it stay as they are.`)) event.preventDefault();
  },
  sure(event) {
    if (!confirm(`Delete the session "${event.target.dataset.name}" with its Plan and logbook? Both and its recordings are put aside and can be brought back for a month: arkund doctor --restore.`)) event.preventDefault();
  },
}));
registerJobs();
Alpine.start();
