// Long work on every page: one line in the header, and behind it each job with its progress, cancel and start again.
import Alpine from "../../vendor/alpine-csp.esm.min.js";
import { get, post } from "./server.js";

const BUSY_MS = 500;
const IDLE_MS = 4000;

/** Words for a remaining time in seconds. */
export function remaining(seconds) {
  if (seconds === null) return "";
  if (seconds < 90) return `${Math.max(Math.round(seconds), 1)} s left`;
  return `${Math.round(seconds / 60)} min left`;
}

/** One line for all jobs: those that are seen first, then the quiet one. */
export function summary(jobs) {
  const open = jobs.filter((j) => j.state !== "failed");
  const failed = jobs.length - open.length;
  const loud = open.filter((j) => !j.quiet);
  const shown = loud[0] || open[0];
  const words = [];
  if (shown) words.push(`${shown.title} ${Math.round(shown.progress * 100)} %`);
  if (loud.length > 1) words.push(`and ${loud.length - 1} more`);
  if (failed) words.push(`${failed} stopped`);
  return words.join(", ");
}

/** The session that the page is of; 0 on pages of none. */
const here = () => JSON.parse(document.getElementById("boot")?.textContent || "{}").session || 0;

/** What concerns a page: all that is under way, and of what failed only what is this session's or nobody's. */
export const concerning = (jobs, session) => jobs.filter((j) => j.state !== "failed" || !session || !j.session || j.session === session);

export function registerJobs() {
  Alpine.data("jobs", () => ({
    jobs: [],
    open: false,

    init() {
      this.onLook = () => this.look();
      this.onAway = (e) => !this.$root.contains(e.target) && (this.open = false);
      window.addEventListener("job", this.onLook);
      window.addEventListener("click", this.onAway);
      this.look();
    },
    destroy() {
      window.removeEventListener("job", this.onLook);
      window.removeEventListener("click", this.onAway);
      clearTimeout(this.timer);
    },
    async look() {
      clearTimeout(this.timer);
      const before = this.jobs;
      try {
        this.jobs = concerning((await get("/jobs")).jobs, here());
      } catch {
        // the server is away for a moment; the next look tells
      }
      const still = new Set(this.jobs.map((j) => j.id));
      for (const gone of before) if (!still.has(gone.id)) window.dispatchEvent(new CustomEvent("job-ended", { detail: gone }));
      this.timer = setTimeout(() => this.look(), this.jobs.some((j) => j.state !== "failed") ? BUSY_MS : IDLE_MS);
    },
    words() {
      return summary(this.jobs);
    },
    quiet() {
      return this.jobs.every((j) => j.quiet && j.state !== "failed");
    },
    bad() {
      return this.jobs.some((j) => j.state === "failed");
    },
    toggle() {
      this.open = !this.open;
    },
    close() {
      this.open = false;
    },
    where(job) {
      return job.session_name && !job.title.includes(job.session_name) ? job.session_name : "";
    },
    state(job) {
      if (job.state === "waiting") return "waiting";
      if (job.state === "failed") return "stopped";
      return [`${Math.round(job.progress * 100)} %`, remaining(job.remaining_s)].filter(Boolean).join(", ");
    },
    width(job) {
      return `scaleX(${job.progress})`;
    },
    async ask(job, what) {
      await post(`/jobs/${job.id}/${what}`);
      this.look();
    },
  }));
}
