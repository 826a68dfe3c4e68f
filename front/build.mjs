// Compiles styles, bundles scripts and copies fonts into crates/web/assets/dist,
// which is committed, so that building and running Pronoia needs no Node.
import { build } from "esbuild";
import { execFileSync } from "node:child_process";
import { copyFileSync, mkdirSync } from "node:fs";
import { dirname, join } from "node:path";
import { fileURLToPath } from "node:url";

const here = dirname(fileURLToPath(import.meta.url));
const out = process.argv[2] ?? join(here, "../crates/web/assets/dist");
mkdirSync(join(out, "fonts"), { recursive: true });

const tailwind = join(here, "node_modules/.bin/tailwindcss");
execFileSync(tailwind, ["--input", join(here, "src/app.css"), "--output", join(out, "app.css"), "--minify"], {
  cwd: here,
  stdio: ["ignore", "inherit", "pipe"],
});

await build({
  entryPoints: [join(here, "src/app.js"), join(here, "src/theme.js")],
  outdir: out,
  bundle: true,
  format: "esm",
  minify: true,
  target: "es2022",
  legalComments: "none",
});

const fonts = [
  ["newsreader", "newsreader-latin-wght-normal"],
  ["newsreader", "newsreader-latin-ext-wght-normal"],
  ["newsreader", "newsreader-latin-wght-italic"],
  ["public-sans", "public-sans-latin-wght-normal"],
  ["public-sans", "public-sans-latin-ext-wght-normal"],
];
for (const [family, file] of fonts) {
  copyFileSync(join(here, `node_modules/@fontsource-variable/${family}/files/${file}.woff2`), join(out, "fonts", `${file}.woff2`));
}
copyFileSync(join(here, "src/mark.svg"), join(out, "mark.svg"));
