// WebTransport in Debian's Chromium against the C++ server: datagrams over HTTP/3, their losses, refusals and ends.
import assert from "node:assert/strict";
import { existsSync, readFileSync } from "node:fs";
import { createServer, type Server } from "node:http";
import type { AddressInfo } from "node:net";
import { test } from "node:test";
import { chromium, type Browser, type Page } from "playwright-core";
import { startPeer, type Peer } from "./harness.js";

const browserPath = process.env.CHROMIUM ?? "/usr/bin/chromium";
const skip = existsSync(browserPath) ? false : `there is no ${browserPath}: apt install chromium`;
const script = readFileSync(new URL("../browser/client.js", import.meta.url));

type WebPeer = Peer & { webTransport?: string; certificateHash: string };

/** Serves an empty page with the package to a browser. */
async function servePage(): Promise<{ url: string; server: Server }> {
  const server = createServer((request, response) => {
    const isScript = request.url === "/client.js";
    response.writeHead(200, { "content-type": isScript ? "text/javascript" : "text/html" });
    response.end(isScript ? script : '<!doctype html><script type="module" src="/client.js"></script>');
  });
  await new Promise<void>((resolve) => server.listen(0, "127.0.0.1", resolve));
  return { url: `http://127.0.0.1:${(server.address() as AddressInfo).port}/`, server };
}

/** What a page can be given. */
const plain = ({ url, key, webTransport, certificateHash }: WebPeer) => ({ url, key, webTransport, certificateHash });

/** Connects in the page; the client and its world are in `globalThis`. */
const connectIn = (page: Page, peer: WebPeer, options: object = {}): Promise<{ transport: string }> =>
  page.evaluate(async ([peer, options]) => {
    const all = globalThis as any;
    const { connect, ReplicatedWorld, quay } = all.tested;
    all.states = [];
    all.client = await connect(peer.url, {
      key: peer.key, protocol: quay.quay, webTransport: { url: peer.webTransport, certificateHashes: [peer.certificateHash] },
      onState: (state: string, error: any) => all.states.push(`${state} ${error?.code ?? ""} ${error?.message ?? ""}`.trim()), ...options,
    });
    all.world = new ReplicatedWorld(all.client);
    return { transport: all.client.transport };
  }, [plain(peer), options] as const);
const statsOf = (page: Page): Promise<any> => page.evaluate(() => {
  const { client, world, states } = globalThis as any;
  return { ...client.stats, ...world.counts, states, transport: client.transport, connection: client.connection, size: world.size, tick: world.tick };
});
async function until(what: string, page: Page, holds: (stats: any) => boolean, ms = 15_000): Promise<any> {
  const end = Date.now() + ms;
  for (;;) {
    const stats = await statsOf(page);
    if (holds(stats)) return stats;
    assert.ok(Date.now() < end, `not within ${ms} ms: ${what}; ${JSON.stringify(stats)}`);
    await page.waitForTimeout(50);
  }
}
/** Sends `count` numbered hails, one each `every` ms, and waits for all of them to come back. Round trips in ms. */
const echo = (page: Page, count: number, every: number): Promise<{ order: number[]; times: number[] }> =>
  page.evaluate(async ([count, every]) => {
    const { client, tested: { quay } } = globalThis as any;
    const sent: number[] = [];
    const order: number[] = [];
    const times: number[] = [];
    const stop = client.on(quay.Hail, (m: any) => {
      order.push(m.count);
      times.push(performance.now() - sent[m.count]!);
    });
    for (let i = 0; i < count; ++i) {
      sent[i] = performance.now();
      client.send(quay.Hail, { count: i, words: "forty bytes or so on an ordered channel", cargo: "salt", at: null });
      await new Promise((resolve) => setTimeout(resolve, every));
    }
    const end = performance.now() + 10_000;
    while (order.length < count && performance.now() < end) await new Promise((resolve) => setTimeout(resolve, 20));
    stop();
    return { order, times };
  }, [count, every] as const);
const sorted = (numbers: readonly number[]): number[] => [...numbers].sort((a, b) => a - b);

test("WebTransport", { skip, timeout: 240_000 }, async (t) => {
  let peer = (await startPeer("--resume", "30")) as WebPeer;
  if (!peer.webTransport) return t.skip("the server is built without WebTransport: configure with -DKWIND_WEB_TRANSPORT=ON");
  const pages = await servePage();
  const browser: Browser = await chromium.launch({ executablePath: browserPath, args: ["--no-sandbox", "--disable-gpu"] });
  const open = async (): Promise<Page> => {
    const page = await browser.newPage();
    page.on("pageerror", (error) => { throw error; });
    await page.goto(pages.url);
    await page.waitForFunction(() => (globalThis as any).tested);
    return page;
  };
  // Pages of this origin only.
  await peer.kill();
  const origin = pages.url.slice(0, -1);
  peer = (await startPeer("--resume", "30", "--origin", origin)) as WebPeer;
  try {
    await t.test("messages, requests and the world travel as datagrams", async () => {
      const page = await open();
      assert.equal((await connectIn(page, peer)).transport, "web transport");
      const { order } = await echo(page, 60, 10);
      assert.deepEqual(order, Array.from({ length: 60 }, (_, i) => i));
      const line = await page.evaluate(async () => (await (globalThis as any).client.request((globalThis as any).tested.quay.AskBerth, { length: 20 })).line);
      assert.equal(line, 20);
      // A message of 225 kB, and back.
      const rows = await page.evaluate(() => new Promise((resolve) => {
        const { client, tested: { quay } } = globalThis as any;
        client.on(quay.Sheet, (m: any) => resolve(m.rows.length));
        client.send(quay.Sheet, { rows: Array.from({ length: 1500 }, () => new Uint8Array(150)) });
      }));
      assert.equal(rows, 1500);
      const stats = await until("digests", page, ({ digests, size }) => digests >= 2 && size > 20, 30_000);
      assert.deepEqual([stats.desyncs, stats.unread, stats.attempts], [0, 0, 1]);
      await page.close();
    });
    await t.test("the server ends a session with its reason", async () => {
      const page = await open();
      await connectIn(page, peer);
      await page.evaluate(() => (globalThis as any).client.send((globalThis as any).tested.quay.Order, { what: 1 }));
      const { states } = await until("the end", page, ({ connection }) => connection === "closed");
      assert.equal(states.at(-1), "closed closed_by_peer the order was to end");
      await page.close();
    });
    await t.test("a wrong hash, a wrong path and a silent port give way to the web socket", async () => {
      const page = await open();
      for (const webTransport of [
        { url: peer.webTransport, certificateHashes: ["00".repeat(32)] },
        { url: peer.webTransport!.replace("/kwind", "/elsewhere"), certificateHashes: [peer.certificateHash] },
        { url: "https://127.0.0.1:9/kwind", certificateHashes: [peer.certificateHash] },
      ]) {
        assert.equal((await connectIn(page, peer, { webTransport })).transport, "web socket");
        await until("the world", page, ({ size }) => size > 20);
        await page.evaluate(() => (globalThis as any).client.close());
      }
      await page.close();
    });
    await t.test("a page of another origin is refused", async () => {
      const others = (await startPeer("--origin", "https://harbour.example")) as WebPeer;
      const page = await open();
      const refused = await page.evaluate(async ([url, hash]) => {
        const value = Uint8Array.from({ length: 32 }, (_, i) => parseInt(hash.slice(2 * i, 2 * i + 2), 16));
        const session = new (globalThis as any).WebTransport(url, { serverCertificateHashes: [{ algorithm: "sha-256", value }] });
        return session.ready.then(() => "opened", () => "refused");
      }, [others.webTransport!, others.certificateHash] as const);
      assert.equal(refused, "refused");
      await page.close();
      await others.kill();
    });
    await t.test("a session that breaks is resumed; a killed server is noticed", async () => {
      const page = await open();
      await connectIn(page, peer, { timeout: 1500, firstRetry: 200 });
      await until("the world", page, ({ size }) => size > 20);
      // The network is gone for the page, and comes back.
      await page.context().setOffline(true);
      await page.waitForTimeout(100);
      await page.context().setOffline(false);
      await peer.kill("SIGKILL");
      await until("the loss", page, ({ connection }) => connection !== "connected", 2000);
      await page.close();
      peer = (await startPeer("--resume", "30", "--origin", origin)) as WebPeer;
    });
    await t.test("ordered messages over a path that loses 5 % each way", async () => {
      const lossy = (await startPeer("--origin", origin, "--loss", "5", "--delay", "20")) as WebPeer;
      const page = await open();
      assert.equal((await connectIn(page, lossy)).transport, "web transport");
      const { order, times } = await echo(page, 300, 16);
      assert.deepEqual(order, Array.from({ length: 300 }, (_, i) => i));
      const all = sorted(times);
      t.diagnostic(`round trips over 40 ms and 5 % loss each way: p50 ${all[150]!.toFixed(0)}, p99 ${all[297]!.toFixed(0)}, worst ${all[299]!.toFixed(0)} ms`);
      const stats = await statsOf(page);
      assert.ok(stats.packetsLost > 3 && stats.copiesSent > 200, JSON.stringify(stats));
      assert.equal(stats.desyncs, 0);
      await page.close();
      await lossy.kill();
    });
    await t.test("many sessions at once", async () => {
      const page = await open();
      const connected = await page.evaluate(async (peer) => {
        const { tested: { connect, quay } } = globalThis as any;
        const clients = await Promise.all(Array.from({ length: 20 }, () => connect(peer.url, {
          key: peer.key, protocol: quay.quay, webTransport: { url: peer.webTransport, certificateHashes: [peer.certificateHash] },
        })));
        const transports = clients.map((client) => client.transport);
        for (const client of clients) client.close();
        return transports;
      }, plain(peer));
      assert.deepEqual(connected, new Array(20).fill("web transport"));
      await page.close();
    });
  } finally {
    await browser.close();
    pages.server.close();
    await peer.kill("SIGKILL");
  }
});
