// Breaks: resume as the same peer, a fresh ticket, a server that hangs, many clients at once, hostile servers.
import assert from "node:assert/strict";
import { createServer } from "node:net";
import { mkdtempSync, rmSync } from "node:fs";
import { execFileSync } from "node:child_process";
import { tmpdir } from "node:os";
import { join } from "node:path";
import WebSocket from "ws";
import { ReplicatedWorld } from "kestrel-wind";
import { AskBerth, Gull, Hail, Tug, quay } from "../build/generated/quay.js";
import { lastingPort } from "./ports.js";
import { connectTo, pause, peerTest, startPeer, toolPath, until } from "./harness.js";

/** A web socket that a test can break. */
function breakable(): { WebSocket: never; cut(): void } {
  let newest: WebSocket | undefined;
  return {
    WebSocket: class extends WebSocket {
      constructor(url: string, protocols: string) {
        super(url, protocols);
        newest = this;
      }
    } as never,
    cut: () => newest!.terminate(),
  };
}

peerTest("a broken connection is resumed as the same peer, with its tug", async () => {
  const peer = await startPeer("--resume", "30");
  const path = breakable();
  const states: string[] = [];
  const client = await connectTo(peer, quay, { WebSocket: path.WebSocket, onState: (state) => states.push(state) });
  const world = new ReplicatedWorld(client);
  await until("the own tug", () => world.owned(Tug) !== undefined);
  const tug = world.owned(Tug)!;
  const asked = client.request(AskBerth, { length: 1 }).then(({ line }) => line, (error) => error.code);
  path.cut();
  await until("the return", () => states.includes("resuming") && client.connection === "connected");
  // It was answered before the break, or has ended with it.
  assert.ok([1, "transport_ended"].includes(await asked));
  const tick = world.tick;
  await until("newer ticks", () => world.tick > tick + 60);
  assert.deepEqual(world.owned(Tug), tug);
  assert.equal(world.counts.desyncs, 0);
  assert.equal(client.stats.attempts, 2);
});

peerTest("a server that was killed and started anew gets its clients back", async () => {
  const folder = mkdtempSync(join(tmpdir(), "kwind-web-"));
  execFileSync(toolPath, ["keys", "--output", folder], { stdio: "ignore" });
  const key = join(folder, "server.key");
  const port = String(await lastingPort());
  let peer = await startPeer("--resume", "30", "--key", key, "--port", port);
  const client = await connectTo(peer, quay, { firstRetry: 200 });
  const world = new ReplicatedWorld(client);
  await until("the world", () => world.tick > 20);
  await peer.kill("SIGKILL");
  const noticed = performance.now();
  await until("the loss is noticed", () => client.connection !== "connected", 2000);
  assert.ok(performance.now() - noticed < 2000);
  peer = await startPeer("--resume", "30", "--key", key, "--port", port);
  await until("the return", () => client.connection === "connected", 20_000);
  await until("the new world", () => world.tick > 20 && world.all(Gull).length > 3);
  assert.equal(world.counts.desyncs, 0);
  rmSync(folder, { recursive: true });
});

peerTest("a hundred clients play together", async () => {
  // Slow enough that one process can decode what a hundred clients get, beside the other tests.
  const peer = await startPeer("--tick-rate", "10", "--entities", "20");
  const clients = await Promise.all(Array.from({ length: 100 }, () => connectTo(peer, quay)));
  const worlds = clients.map((client) => new ReplicatedWorld(client));
  const heard = clients.map((client) => {
    let count = 0;
    client.on(Hail, () => ++count);
    return () => count;
  });
  clients.forEach((client, i) => client.send(Hail, { count: i, words: "ahoy", cargo: "salt", at: null }));
  await until("all are answered and see the world", () => heard.every((count) => count() === 1) && worlds.every((world) => world.counts.snapshots > 40), 40_000);
  assert.deepEqual(worlds.map((world) => world.counts.desyncs), worlds.map(() => 0));
});

peerTest("a server that speaks nonsense, or nothing, is no way to hang a client", async () => {
  const server = createServer((socket) => {
    socket.on("error", () => {});
    socket.write(Buffer.from(Array.from({ length: 4096 }, (_, i) => (i * 37) & 255)));
  });
  await new Promise<void>((resolve) => server.listen(0, "127.0.0.1", resolve));
  const { port } = server.address() as { port: number };
  const fake = { url: `ws://127.0.0.1:${port}/kwind`, key: "m-rZhiDquZYr8iKLpG3Cpy3DAuXDZf8uO0ETkSQLV1U" } as never;
  await assert.rejects(connectTo(fake, quay, { reconnect: false }), { name: "WireError" });
  server.close();
  const silent = createServer(() => {});
  await new Promise<void>((resolve) => silent.listen(0, "127.0.0.1", resolve));
  const mute = { url: `ws://127.0.0.1:${(silent.address() as { port: number }).port}/kwind`, key: "m-rZhiDquZYr8iKLpG3Cpy3DAuXDZf8uO0ETkSQLV1U" } as never;
  await assert.rejects(connectTo(mute, quay, { reconnect: false, handshakeTimeout: 300 }), { name: "WireError", code: "handshake_timeout" });
  silent.close();
  await pause(10);
});
