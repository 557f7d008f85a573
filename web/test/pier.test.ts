// examples/web_pier as docs/web.md builds it, with a bundler and without, and behind nginx.
import { test } from "node:test";
import assert from "node:assert/strict";
import { execFileSync, spawn, type ChildProcess } from "node:child_process";
import { createInterface } from "node:readline";
import { copyFileSync, existsSync, mkdirSync, mkdtempSync, readFileSync, rmSync, symlinkSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { chromium } from "playwright-core";
import { lastingPort } from "./ports.js";

const built = process.env.KWIND_BUILD ?? new URL("../../../build/dev", import.meta.url).pathname;
const web = new URL("../..", import.meta.url).pathname;
const example = join(web, "../examples/web_pier");
const browserPath = process.env.CHROMIUM ?? "/usr/bin/chromium";
const skip = existsSync(browserPath) ? false : `there is no ${browserPath}: apt install chromium`;

test("the pier", { skip, timeout: 120_000 }, async (t) => {
  const folder = mkdtempSync(join(tmpdir(), "kwind-pier-"));
  const running: ChildProcess[] = [];
  const browser = await chromium.launch({ executablePath: browserPath, args: ["--no-sandbox", "--disable-gpu"] });
  const esbuild = join(web, "node_modules/.bin/esbuild");
  const serve = async (where: string): Promise<string> => {
    const process = spawn(`${built}/examples/web_pier_server`, ["127.0.0.1:0", where], { stdio: ["ignore", "pipe", "inherit"] });
    running.push(process);
    const line: string = await new Promise((resolve) => createInterface(process.stdout!).once("line", resolve));
    return /http:\S+/.exec(line)![0];
  };
  const prepare = (name: string): string => {
    const where = join(folder, name);
    mkdirSync(where);
    for (const file of ["index.html", "page.ts"]) copyFileSync(join(example, file), join(where, file));
    execFileSync(`${built}/tool/kwind`, ["gen", join(example, "pier.kw"), "--typescript", where], { stdio: "ignore" });
    return where;
  };
  const walkAndTalk = async (url: string): Promise<void> => {
    const page = await browser.newPage();
    const errors: string[] = [];
    page.on("pageerror", (error) => errors.push(error.message));
    await page.goto(url);
    await page.waitForFunction(() => document.querySelector("#state")!.textContent === "connected");
    const marked = (): Promise<number> => page.evaluate(() => {
      const { data } = document.querySelector("canvas")!.getContext("2d")!.getImageData(0, 0, 640, 640);
      let sum = 0;
      let count = 0;
      for (let i = 0; i < data.length; i += 4) if (data[i] === 0xf2 && data[i + 1] === 0xb5) (sum += (i / 4) % 640), ++count;
      return count > 0 ? sum / count : -1;
    });
    await page.waitForTimeout(600);
    const before = await marked();
    for (let i = 0; i < 20; ++i) await page.keyboard.press("ArrowRight");
    await page.waitForTimeout(800);
    const after = await marked();
    assert.ok(before > 0 && after > before + 30, `the walker went from ${before} to ${after}`);
    await page.fill("input", "ahoy");
    await page.click("button");
    await page.waitForFunction(() => /Walker \d+: ahoy/.test(document.querySelector("ul")!.textContent!));
    assert.deepEqual(errors, []);
    await page.close();
  };
  try {
    let bundled = "";
    await t.test("with a bundler", async () => {
      const where = prepare("bundled");
      // As `npm install` of a folder leaves it.
      mkdirSync(join(where, "node_modules"));
      symlinkSync(web, join(where, "node_modules/kestrel-wind"));
      execFileSync(esbuild, [join(where, "page.ts"), "--bundle", "--format=esm", `--outfile=${where}/page.js`], { stdio: "ignore" });
      bundled = await serve(where);
      await walkAndTalk(bundled);
    });
    await t.test("without one", async () => {
      const where = prepare("plain");
      execFileSync(esbuild, [join(where, "page.ts"), join(where, "pier.ts"), "--format=esm", `--outdir=${where}`], { stdio: "ignore" });
      copyFileSync(join(web, "dist/kestrel-wind.js"), join(where, "kestrel-wind.js"));
      await walkAndTalk(await serve(where));
    });
    await t.test("behind nginx, as docs/web.md has it", { skip: existsSync("/usr/sbin/nginx") ? false : "there is no nginx: apt install nginx-light" }, async () => {
      const port = await lastingPort();
      const location = /```nginx\n([\s\S]*?)```/.exec(readFileSync(join(web, "../docs/web.md"), "utf8"))![1]!
        .replace("http://127.0.0.1:8080", bundled.replace(/\/$/, ""));
      writeFileSync(join(folder, "nginx.conf"), `daemon off; error_log ${folder}/error.log; pid ${folder}/nginx.pid; events {}
http { access_log off; client_body_temp_path ${folder}/a; proxy_temp_path ${folder}/b; fastcgi_temp_path ${folder}/c; uwsgi_temp_path ${folder}/d; scgi_temp_path ${folder}/e;
server { listen 127.0.0.1:${port}; ${location} location / { proxy_pass ${bundled.replace(/\/$/, "")}; } } }`);
      running.push(spawn("/usr/sbin/nginx", ["-p", folder, "-c", join(folder, "nginx.conf")], { stdio: "inherit" }));
      for (let i = 0; i < 50; ++i) {
        if (await fetch(`http://127.0.0.1:${port}/key`).then(({ ok }) => ok, () => false)) break;
        await new Promise((resolve) => setTimeout(resolve, 100));
      }
      await walkAndTalk(`http://127.0.0.1:${port}/`);
    });
  } finally {
    await browser.close();
    for (const each of running) each.kill("SIGTERM");
    await new Promise((resolve) => setTimeout(resolve, 200));
    rmSync(folder, { recursive: true, force: true });
  }
});
