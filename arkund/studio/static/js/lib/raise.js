// A path, raised until it is missed.
import { comparing } from "./compare.js";
import { Alpine, boot } from "./page.js";
import { get } from "./server.js";

export function registerRaise() {
  Alpine.data("raise", () => ({
    ...comparing("r"),
    path() {
      const strip = this.$store.page.of || "";
      return strip.startsWith("path:") ? strip.slice(5) : "";
    },
    may() {
      return Boolean(this.path());
    },
    fetchStage() {
      return get(`/s/${boot.session}/raised/${this.path()}`);
    },
    kept({ words }) {
      return `${this.path()} blended in: ${words}`;
    },
  }));
}
