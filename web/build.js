// Builds the package: `node build.js` for dist/, `node build.js tests` for build/tests/ too.
import { build } from "esbuild";
import { readdirSync, readFileSync, mkdirSync, rmSync, writeFileSync } from "node:fs";
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

// The tool of this checkout makes the protocols of the page and of the tests.
function generate(file) {
  const tool = process.env.KWIND ?? "../build/dev/tool/kwind";
  execFileSync(tool, ["gen", file, "--typescript", "build/generated"], { stdio: ["ignore", "ignore", "inherit"] });
}

/** The page of `kwind demo --web` as one file. */
export async function page() {
  generate("../tool/shore/shore.kw");
  const built = await build({
    ...common, entryPoints: ["page/page.ts"], minify: true, write: false, alias: { "kestrel-wind": "./src/index.ts" }, charset: "ascii",
  });
  const style = await build({ entryPoints: ["page/style.css"], minify: true, write: false, logLevel: "warning" });
  const script = built.outputFiles[0].text.trim().replaceAll("</script", "<\\/script");
  return readFileSync("page/index.html", "utf8").replace("/* style */", () => style.outputFiles[0].text.trim()).replace("/* script */", () => script);
}
if (process.argv.includes("page")) writeFileSync("../tool/shore/page.html", await page());
if (process.argv.includes("check") && (await page()) !== readFileSync("../tool/shore/page.html", "utf8")) {
  console.error("tool/shore/page.html is not what web/page makes; run `npm run page` in web/ and commit the file");
  process.exit(1);
}

if (process.argv.includes("tests")) {
  rmSync("build/tests", { recursive: true, force: true });
  mkdirSync("build/tests", { recursive: true });
  for (const name of ["descriptions/chart", "descriptions/hails", "descriptions/manifest", "descriptions/world", "harbour/harbour", "harbour/harbour_world", "web_pier/pier"]) {
    generate(`../examples/${name}.kw`);
  }
  generate("../tests/web/quay.kw");
  generate("../tool/shore/shore.kw");
  execFileSync(process.execPath, ["node_modules/typescript/bin/tsc", "-p", "tsconfig.page.json"], { stdio: "inherit" });
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
  // What tests run in a browser.
  await build({ ...common, entryPoints: ["test/browser/client.ts"], outdir: "build/browser", alias: { "kestrel-wind": "./src/index.ts" } });
}
