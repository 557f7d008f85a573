// Builds the package: `node build.js` for dist/, `node build.js tests` for build/tests/ too.
import { build } from "esbuild";
import { readdirSync, mkdirSync } from "node:fs";
import { execFileSync } from "node:child_process";
import { join, dirname } from "node:path";
import { fileURLToPath } from "node:url";

const here = dirname(fileURLToPath(import.meta.url));
process.chdir(here);
const common = { bundle: true, format: "esm", target: "es2022", logLevel: "warning" };

// The package leaves its dependency to the bundler of the program that uses it.
await build({ ...common, entryPoints: ["src/index.ts"], outfile: "dist/index.js", packages: "external", sourcemap: true });
// For pages without a bundler: one file with everything in it.
await build({ ...common, entryPoints: ["src/index.ts"], outfile: "dist/kestrel-wind.js", minify: true });
execFileSync(process.execPath, ["node_modules/typescript/bin/tsc", "-p", "tsconfig.json"], { stdio: "inherit" });

if (process.argv.includes("tests")) {
  mkdirSync("build/tests", { recursive: true });
  // The tool of this checkout makes the protocols of the tests.
  const tool = process.env.KWIND ?? "../build/dev/tool/kwind";
  for (const name of ["descriptions/chart", "descriptions/hails", "descriptions/manifest", "descriptions/world", "harbour/harbour", "harbour/harbour_world"].map((each) => `../examples/${each}.kw`).concat("../tests/web/quay.kw")) {
    execFileSync(tool, ["gen", name, "--typescript", "build/generated"], { stdio: ["ignore", "ignore", "inherit"] });
  }
  const tests = readdirSync("test").filter((name) => name.endsWith(".test.ts"));
  await build({
    ...common,
    entryPoints: tests.map((name) => join("test", name)),
    outdir: "build/tests",
    outExtension: { ".js": ".mjs" },
    platform: "node",
    packages: "external",
    alias: { "kestrel-wind": "./src/index.ts" },
    sourcemap: "inline",
  });
}
