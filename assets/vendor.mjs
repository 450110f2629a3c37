// Copies the few files that are vendored, with their licences, into the static folder.
import { copyFileSync, mkdirSync } from "node:fs";

const to = new URL("../arkund/studio/static/", import.meta.url);
const from = new URL("./node_modules/", import.meta.url);
const files = [
  ["@alpinejs/csp/dist/module.esm.min.js", "vendor/alpine-csp.esm.min.js"],
  ["@fontsource-variable/source-sans-3/files/source-sans-3-latin-wght-normal.woff2", "fonts/source-sans-3.woff2"],
  ["@fontsource-variable/source-sans-3/LICENSE", "fonts/source-sans-3.LICENSE.txt"],
  ["@fontsource/b612-mono/files/b612-mono-latin-400-normal.woff2", "fonts/b612-mono.woff2"],
  ["@fontsource/b612-mono/LICENSE", "fonts/b612-mono.LICENSE.txt"],
  ["axe-core/axe.min.js", "../../../tests/browser/vendor/axe.min.js"], // for tests only: nothing of it is served
  ["axe-core/LICENSE", "../../../tests/browser/vendor/axe.LICENSE.txt"],
];
for (const [source, target] of files) {
  const place = new URL(target, to);
  mkdirSync(new URL(".", place), { recursive: true });
  copyFileSync(new URL(source, from), place);
}
