// Pages without a chart: only the long work in their header is alive.
import Alpine from "../vendor/alpine-csp.esm.min.js";
import { registerJobs } from "./lib/jobs.js";

document.documentElement.toggleAttribute("data-light", localStorage.getItem("light") === "1");
registerJobs();
Alpine.start();
