// A client in Node against a C++ server: deliveries, requests, endings.
import assert from "node:assert/strict";
import { spawn } from "node:child_process";
import { ReplicatedWorld, RequestRefused, WireError } from "kestrel-wind";
import { AskBerth, Hail, Helm, Log, News, Order, Sheet, Spark, Told, quay } from "../build/generated/quay.js";
import { connectTo, peerTest, startPeer, toolPath, until } from "./harness.js";

const quayFile = new URL("../../../tests/web/quay.kw", import.meta.url).pathname;

peerTest("messages of every delivery come back", async () => {
  const peer = await startPeer();
  const client = await connectTo(peer, quay);
  assert.equal(client.version, 2);
  const got: Record<string, number[]> = { Helm: [], Spark: [], News: [], Hail: [] };
  client.on(Helm, (m) => got.Helm!.push(m.count));
  client.on(Spark, (m) => got.Spark!.push(m.count));
  client.on(News, (m) => got.News!.push(m.count));
  const hails: Hail[] = [];
  client.on(Hail, (m) => hails.push(m));
  const logs: string[] = [];
  client.on(Log, (m) => logs.push(m.words));
  for (let count = 0; count < 20; ++count) {
    client.send(News, { count, words: `word ${count}` });
    client.send(Hail, { count, words: "ahoy", cargo: "ice", at: count % 2 ? { x: 1.5, y: -2 } : null });
  }
  client.send(Helm, { count: 7, rudder: 0.5 });
  client.send(Spark, { count: 9 });
  client.send(Log, { words: "since version 2" });
  await until("all are back", () => hails.length === 20 && got.News!.length === 20 && logs.length === 1 && got.Spark!.length === 1 && got.Helm!.length === 1);
  assert.deepEqual(hails.map((m) => m.count), Array.from({ length: 20 }, (_, i) => i));
  assert.deepEqual(hails[1], { count: 1, words: "ahoy", cargo: "ice", at: { x: 1.5, y: -2 } });
  assert.deepEqual([...got.News!].sort((a, b) => a - b), Array.from({ length: 20 }, (_, i) => i));
  assert.deepEqual(got.Helm, [7]);
  client.close("seen enough");
  await until("the end", () => client.connection === "closed");
});

peerTest("large messages travel in pieces, both ways", async () => {
  const peer = await startPeer();
  const client = await connectTo(peer, quay);
  const rows = Array.from({ length: 1500 }, (_, i) => new Uint8Array(150).fill(i & 255));
  const back: Uint8Array[][] = [];
  client.on(Sheet, (m) => back.push(m.rows));
  client.send(Sheet, { rows });
  client.send(Sheet, { rows: rows.slice(0, 3) });
  await until("both are back", () => back.length === 2, 20_000);
  assert.deepEqual(back[0], rows);
  assert.equal(back[1]!.length, 3);
});

peerTest("requests have one outcome each", async () => {
  const peer = await startPeer();
  const client = await connectTo(peer, quay);
  assert.deepEqual(await client.request(AskBerth, { length: 20 }), { line: 20 });
  const answers = await Promise.all(Array.from({ length: 40 }, (_, i) => client.request(AskBerth, { length: i === 13 ? 14 : i })));
  assert.deepEqual(answers.map((each) => each.line), Array.from({ length: 40 }, (_, i) => (i === 13 ? 14 : i)));
  await assert.rejects(client.request(AskBerth, { length: 55 }), (error) =>
    error instanceof RequestRefused && error.reason === "too_long" && error.words === "50 at most");
  await assert.rejects(client.request(AskBerth, { length: 13 }), (error) => error instanceof WireError && error.code === "request_abandoned");
  const abort = new AbortController();
  const asked = client.request(AskBerth, { length: 1 }, { signal: abort.signal });
  abort.abort();
  await assert.rejects(asked, { name: "AbortError" });
  // The other way round.
  client.onRequest(AskBerth, ({ length }) => ({ line: length * 2 }));
  const told: Told[] = [];
  client.on(Told, (m) => told.push(m));
  client.send(Order, { what: 0 });
  await until("the server was answered", () => told.length === 1);
  assert.deepEqual(told[0], { line: 14, words: "reply" });
  client.onRequest(AskBerth, () => {
    throw new RequestRefused("full", "no room");
  });
  client.send(Order, { what: 0 });
  await until("the server was refused", () => told.length === 2);
  assert.deepEqual(told[1], { line: 0, words: "no reply" });
});

peerTest("values out of range and messages that are too fast are refused with what and where", async () => {
  const peer = await startPeer();
  const client = await connectTo(peer, quay);
  assert.throws(() => client.send(Helm, { count: 7, rudder: 3 }), /rudder: 3 is not in -1\.\.1/);
  assert.throws(() => client.send(Hail, { count: 1, words: "x".repeat(121), cargo: "salt", at: null }), /words: 121 bytes are more than 120/);
  assert.throws(() => client.send(Hail, { count: 1, words: "x", cargo: "gold" as never, at: null }), /cargo: "gold" is none of empty, salt, timber, ice/);
  assert.throws(() => {
    for (let count = 0; count < 100; ++count) client.send(Hail, { count, words: "x", cargo: "salt", at: null });
  }, (error) => error instanceof WireError && error.code === "rate_limited");
});

peerTest("endings: by the server, a wrong key, another description", async () => {
  const peer = await startPeer();
  const states: string[] = [];
  const client = await connectTo(peer, quay, { onState: (state, error) => states.push(`${state} ${error?.code ?? ""} ${error?.message ?? ""}`.trim()) });
  client.send(Order, { what: 1 });
  await until("the end", () => client.connection === "closed");
  assert.deepEqual(states, ["connected", "closed closed_by_peer the order was to end"]);
  assert.throws(() => client.send(Spark, { count: 1 }), (error) => error instanceof WireError && error.code === "closed");
  const wrongKey = peer.key.startsWith("A") ? `B${peer.key.slice(1)}` : `A${peer.key.slice(1)}`;
  await assert.rejects(connectTo(peer, quay, { key: wrongKey, reconnect: false }), (error) => error instanceof WireError);
  await assert.rejects(connectTo(peer, quay, { key: "short" }), /a key is 43 characters/);
  const other = { ...quay, versions: [[2, "00".repeat(16)]] as const };
  await assert.rejects(connectTo(peer, other), (error) => error instanceof WireError && error.code === "schema_mismatch");
});

peerTest("kwind talk and kwind load go over the same web socket", async () => {
  const peer = await startPeer();
  const run = (command: string, ...options: string[]): Promise<string> => new Promise((resolve, reject) => {
    const child = spawn(toolPath, [command, quayFile, "--server", peer.url, "--server-key", peer.key, ...options], { stdio: ["pipe", "pipe", "pipe"] });
    let text = "";
    child.stdout.on("data", (chunk) => (text += chunk));
    child.stderr.on("data", (chunk) => (text += chunk));
    child.once("exit", (code) => (code === 0 ? resolve(text) : reject(new Error(`${command} ended with ${code}: ${text}`))));
    child.stdin.write('News count=5 words="ahoy"\n');
    setTimeout(() => child.stdin.end(), 1000);
  });
  assert.match(await run("talk"), /here .*connected, encrypted[\s\S]*News count=5 words=ahoy[\s\S]*News count=5 words=ahoy/);
  assert.match(await run("load", "--bots", "10", "--hold", "2"), /10/);
  const client = await connectTo(peer, quay);
  const told: Told[] = [];
  client.on(Told, (m) => told.push(m));
  client.send(Order, { what: 3 });
  await until("the count of connections", () => told.length === 1);
  assert.equal(told[0]!.line, 1);
});

peerTest("a client of an older version plays with a server of the newest", async () => {
  const peer = await startPeer();
  const older = { ...quay, version: 1, versions: quay.versions.filter(([version]) => version === 1) };
  assert.equal(older.versions.length, 1);
  const client = await connectTo(peer, older);
  const world = new ReplicatedWorld(client);
  assert.equal(client.version, 1);
  const hails: Hail[] = [];
  client.on(Hail, (m) => hails.push(m));
  client.send(Hail, { count: 1, words: "ice", cargo: "ice", at: null });
  await until("the hail is back", () => hails.length === 1);
  assert.equal(hails[0]!.cargo, "empty", "the stand-in of ice in version 1");
  assert.throws(() => client.send(Log, { words: "since 2" }), (error) => error instanceof WireError && error.code === "unknown_to_peer");
  await until("a digest", () => world.counts.digests >= 1, 20_000);
  assert.equal(world.counts.desyncs, 0);
});
