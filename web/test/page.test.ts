// The page of `kwind demo --web` in Debian's Chromium: two pages and the bots share one world.
import { test } from "node:test";
import assert from "node:assert/strict";
import { execFileSync, spawn, type ChildProcess } from "node:child_process";
import { createInterface } from "node:readline";
import { createServer } from "node:http";
import { existsSync, mkdtempSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { chromium, type Browser, type Page } from "playwright-core";
import { lastingPort } from "./ports.js";

const built = process.env.KWIND_BUILD ?? new URL("../../../build/dev", import.meta.url).pathname;
const tool = `${built}/tool/kwind`;
const browserPath = process.env.CHROMIUM ?? "/usr/bin/chromium";
const skip = existsSync(browserPath) ? false : `there is no ${browserPath}: apt install chromium`;
const folder = mkdtempSync(join(tmpdir(), "kwind-page-"));
const running = new Set<ChildProcess>();

async function serve(...options: string[]): Promise<{ url: string; process: ChildProcess }> {
  const process = spawn(tool, ["demo", "--web", ...options], { stdio: ["ignore", "pipe", "inherit"] });
  running.add(process);
  const line: string = await new Promise((resolve, reject) => {
    createInterface(process.stdout!).once("line", resolve);
    process.once("exit", (code) => reject(new Error(`kwind demo --web ended with ${code}`)));
  });
  return { url: /https?:\S+/.exec(line)![0], process };
}

async function kill({ process }: { process: ChildProcess }): Promise<void> {
  running.delete(process);
  const ended = new Promise((resolve) => process.once("exit", resolve));
  process.kill("SIGKILL");
  await ended;
}

/** What the page holds, without what cannot leave it. */
const held = (page: Page): Promise<any> => page.evaluate(() => {
  const { client, world, own } = (globalThis as any).harbour();
  return {
    state: client?.connection, tick: world?.tick ?? 0, size: world?.size ?? 0, counts: world?.counts, own: own?.state,
    transport: client?.transport, lost: client?.stats.packetsLost, drops: client?.stats.drops, attempts: client?.stats.attempts, roundTrip: client?.stats.roundTrip, received: client?.stats.bytesReceived,
  };
});
async function until(what: string, page: Page, holds: (state: any) => boolean, ms = 10_000): Promise<any> {
  const end = Date.now() + ms;
  for (;;) {
    const state = await held(page);
    if (holds(state)) return state;
    assert.ok(Date.now() < end, `not within ${ms} ms: ${what}; ${JSON.stringify(state)}`);
    await page.waitForTimeout(50);
  }
}
async function visit(browser: Browser, url: string, name: string, button: string): Promise<Page> {
  const page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
  page.on("pageerror", (error) => { throw error; });
  await page.goto(url);
  await page.fill("#name", name);
  await page.click(`text=${button}`);
  await until("the first snapshot", page, (state) => state.state === "connected" && state.tick > 0);
  return page;
}

test("the page", { skip, timeout: 240_000 }, async (t) => {
  execFileSync(tool, ["keys", "--output", join(folder, "server")], { stdio: "ignore" });
  const keyFile = join(folder, "server", "server.key");
  const options = ["--secret-key-file", keyFile];
  const port = String(await lastingPort());
  let server = await serve(port, ...options);
  const browser = await chromium.launch({ executablePath: browserPath, args: ["--no-sandbox", "--disable-gpu"] });
  try {
    let first!: Page;
    let second!: Page;
    await t.test("two pages see each other, hear each other and share the chart", async () => {
      first = await visit(browser, server.url, "Reed Warbler", "Steer a tug");
      second = await visit(browser, server.url, "Old Brine", "Keep a lookout");
      const before = await until("the own tug", first, (state) => state.own !== undefined);
      await first.locator("#sea").press("ArrowUp", { delay: 1500 });
      const after = await held(first);
      assert.ok(Math.hypot(after.own.at.x - before.own.at.x, after.own.at.y - before.own.at.y) > 1);
      // The lookout goes to where the tug is, and sees its name.
      await second.evaluate(({ x, y }) => {
        const { client } = (globalThis as any).harbour();
        const type = client.options.protocol.messages.find((each: any) => each.name === "StandAt");
        client.send(type, { at: { x, y } });
      }, after.own.at);
      await second.waitForFunction(() => {
        const { client, world } = (globalThis as any).harbour();
        const type = client.options.protocol.entities.find((each: any) => each.name === "Tug");
        return world.all(type).some(({ value }: any) => value.name === "Reed Warbler");
      }, undefined, { timeout: 10_000 });
      await second.fill("#words", "a sail to the north");
      await second.press("#words", "Enter");
      await first.waitForFunction(() => document.getElementById("notices")!.textContent!.includes("Old Brine: a sail to the north"));
      await first.click("#show-chart");
      await first.mouse.click(150, 200);
      await second.waitForFunction(() => {
        const { client, world } = (globalThis as any).harbour();
        const type = client.options.protocol.entities.find((each: any) => each.name === "Chart");
        return world.all(type)[0]?.value.ink.cells.includes("pencil");
      });
    });
    await t.test("every value is the server's, by digest", async () => {
      const ticks = (await held(first)).tick;
      const state = await until("some digests", first, ({ tick, counts }) => tick > ticks + 100 && counts.digests >= 5, 20_000);
      assert.deepEqual([state.counts.desyncs, state.counts.unread, state.drops], [0, 0, {}]);
    });
    await t.test("datagrams where server and browser have them, else the web socket", async () => {
      const { ok } = await fetch(`${server.url}web-transport`);
      assert.equal((await held(first)).transport, ok ? "web transport" : "web socket");
      await first.click("#show-network");
      await first.fill("#loss", "10");
      const before = await held(first);
      const state = await until("ticks under loss", first, ({ tick }) => tick > before.tick + 100, 15_000);
      assert.ok(!ok || state.lost > before.lost, "datagrams were lost");
      assert.deepEqual([state.counts.desyncs, state.counts.unread, state.attempts], [0, 0, 1]);
      await first.fill("#loss", "0");
      await first.click("#show-network");
      const old = await browser.newPage();
      await old.addInitScript(() => delete (globalThis as any).WebTransport);
      await old.goto(server.url);
      await old.click("text=Keep a lookout");
      const plain = await until("the world", old, (now) => now.state === "connected" && now.tick > 0);
      assert.equal(plain.transport, "web socket");
      await old.close();
    });
    await t.test("a slow path: play-out and round trip follow the sliders", async () => {
      await first.click("#show-network");
      await first.fill("#delay", "150");
      await until("the round trip", first, ({ roundTrip }) => roundTrip > 200, 20_000);
      await first.fill("#delay", "0");
    });
    await t.test("a page that stood still gets the newest state, not all that it missed", async () => {
      const before = await held(second);
      await second.evaluate(() => {
        const all = globalThis as any;
        let last = performance.now();
        all.longestPause = 0;
        setInterval(() => {
          const now = performance.now();
          all.longestPause = Math.max(all.longestPause, now - last);
          last = now;
        }, 20);
      });
      const session = await second.context().newCDPSession(second);
      // The debugger holds the page's script; a page that Playwright drives is never hidden, and so never frozen.
      await session.send("Debugger.enable");
      await session.send("Debugger.pause");
      await new Promise((resolve) => setTimeout(resolve, 6000));
      await session.send("Debugger.resume");
      await session.send("Debugger.disable");
      const after = await until("newer ticks", second, ({ tick, state }) => state === "connected" && tick > before.tick + 100, 15_000);
      assert.ok(await second.evaluate(() => (globalThis as any).longestPause) > 5000, "the page stood still");
      assert.ok(after.received - before.received < 256 * 1024);
      assert.equal(after.counts.desyncs, 0);
    });
    await t.test("a reload takes part again", async () => {
      await second.reload();
      await second.click("text=Keep a lookout");
      await until("the world", second, (state) => state.state === "connected" && state.size > 20);
    });
    await t.test("a killed server is noticed within two seconds; the page comes back by itself", async () => {
      await kill(server);
      await until("the loss", first, ({ state }) => state !== "connected", 2000);
      await new Promise((resolve) => setTimeout(resolve, 1000));
      server = await serve(port, ...options);
      const state = await until("the return", first, (now) => now.state === "connected" && now.own !== undefined, 15_000);
      assert.equal(state.own.name, "Reed Warbler");
      assert.ok(state.attempts >= 2);
    });
    await t.test("a page opened before the server says so and keeps trying", async () => {
      const content = await (await fetch(server.url)).text();
      await kill(server);
      // Something else at that port has the page, and nothing more.
      const shell = createServer((request, reply) => (request.url === "/" ? reply.end(content) : request.socket.destroy()));
      await new Promise<void>((resolve) => shell.listen(Number(port), "127.0.0.1", resolve));
      const page = await browser.newPage();
      await page.goto(server.url);
      await page.waitForFunction(() => document.getElementById("state")!.textContent!.startsWith("no answer"));
      shell.closeAllConnections();
      await new Promise((resolve) => shell.close(resolve));
      server = await serve(port, ...options);
      await until("the connection", page, ({ state }) => state === "connected", 15_000);
      await page.close();
    });
    await t.test("a page of another origin is refused", async () => {
      const other = createServer((_, reply) => reply.end("<!doctype html><title>elsewhere</title>")).listen(0, "127.0.0.1");
      await new Promise((resolve) => other.once("listening", resolve));
      const page = await browser.newPage();
      await page.goto(`http://127.0.0.1:${(other.address() as { port: number }).port}/`);
      const outcome = await page.evaluate((url) => new Promise((resolve) => {
        const socket = new WebSocket(url, "kestrel-wind");
        socket.onopen = () => resolve("open");
        socket.onerror = () => resolve("refused");
      }), `ws://127.0.0.1:${port}/kwind`);
      assert.equal(outcome, "refused");
      await page.close();
      other.close();
    });
    await t.test("a phone: all fits, and a finger steers", async () => {
      const page = await browser.newPage({ viewport: { width: 390, height: 780 }, hasTouch: true, isMobile: true });
      await page.goto(server.url);
      await page.tap("text=Steer a tug");
      await until("the own tug", page, ({ own }) => own !== undefined);
      const before = await held(page);
      await page.mouse.move(195, 200);
      await page.mouse.down();
      await page.waitForTimeout(1200);
      await page.mouse.up();
      const after = await held(page);
      assert.ok(Math.hypot(after.own.at.x - before.own.at.x, after.own.at.y - before.own.at.y) > 0.5);
      assert.ok(await page.evaluate(() => document.documentElement.scrollWidth <= innerWidth));
      await page.close();
    });
    await t.test("over https and wss", async () => {
      const [certificate, key] = [join(folder, "cert.pem"), join(folder, "key.pem")];
      execFileSync("openssl", ["req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-days", "2",
        "-subj", "/CN=127.0.0.1", "-addext", "subjectAltName=IP:127.0.0.1", "-out", certificate, "-keyout", key], { stdio: "ignore" });
      const secure = await serve("0", "--certificate", certificate, "--private-key", key);
      assert.match(secure.url, /^https:/);
      const page = await browser.newPage({ ignoreHTTPSErrors: true });
      await page.goto(secure.url);
      await page.click("text=Keep a lookout");
      await until("the world", page, (state) => state.state === "connected" && state.size > 20);
      await page.close();
    });
  } finally {
    await browser.close();
    for (const each of running) each.kill("SIGKILL");
    rmSync(folder, { recursive: true });
  }
});
