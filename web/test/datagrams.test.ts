// The datagram form of the link against a C++ server, over paths that lose, delay, double and reorder datagrams. The
// seed of each path is printed with a failure.
import assert from "node:assert/strict";
import { ReplicatedWorld, WireError, type ConnectOptions } from "kestrel-wind";
import { AskBerth, Gull, Hail, Helm, News, Order, Sheet, Spark, Steer, Tug, quay } from "../build/generated/quay.js";
import { connectTo, pause, peerTest, startPeer, until, type Peer } from "./harness.js";
import { goodPath, sessionsOver, type BadPath } from "./udp_session.js";

const over = (peer: Peer, path: BadPath, seed = 1): Partial<ConnectOptions> => ({
  webTransport: { url: "https://127.0.0.1/kwind" }, WebTransport: sessionsOver(peer.udp, path, seed).WebTransport,
});
/** Datagrams that came twice, and snapshots that no world takes. */
const expected: ReadonlySet<string> = new Set(["replayed", "payload_not_taken"]);
const badPath: BadPath = { loss: 0.05, delay: 20, jitter: 15, twice: 0.02 };

peerTest("messages of every delivery come back as datagrams", async () => {
  const peer = await startPeer("--udp");
  const client = await connectTo(peer, quay, over(peer, goodPath));
  assert.equal(client.transport, "web transport");
  const got: Record<string, number[]> = { Helm: [], Spark: [], News: [], Hail: [] };
  client.on(Helm, (m) => got.Helm!.push(m.count));
  client.on(Spark, (m) => got.Spark!.push(m.count));
  client.on(News, (m) => got.News!.push(m.count));
  client.on(Hail, (m) => got.Hail!.push(m.count));
  for (let count = 0; count < 20; ++count) {
    client.send(News, { count, words: `word ${count}` });
    client.send(Hail, { count, words: "ahoy", cargo: "ice", at: null });
  }
  client.send(Helm, { count: 7, rudder: 0.5 });
  client.send(Spark, { count: 9 });
  await until("all are back", () => got.Hail!.length === 20 && got.News!.length === 20 && got.Spark!.length === 1 && got.Helm!.length === 1);
  assert.deepEqual(got.Hail, Array.from({ length: 20 }, (_, i) => i));
  await pause(200);
  assert.equal(got.News!.length, 20);
  assert.deepEqual(Object.keys(client.stats.drops).filter((cause) => !expected.has(cause)), []);
  assert.equal(client.stats.packetsLost, 0);
});

for (const seed of [1, 2, 3]) {
  peerTest(`on a bad path every reliable message comes once, ordered ones in order: seed ${seed}`, async () => {
    const peer = await startPeer("--udp");
    const client = await connectTo(peer, quay, over(peer, badPath, seed));
    assert.equal(client.transport, "web transport", "the session took more than two seconds to open");
    const hails: number[] = [];
    const news: number[] = [];
    const helms: number[] = [];
    client.on(Hail, (m) => hails.push(m.count));
    client.on(News, (m) => news.push(m.count));
    client.on(Helm, (m) => helms.push(m.count));
    for (let count = 0; count < 300; ++count) {
      client.send(Hail, { count, words: `hail ${count}`, cargo: "salt", at: { x: count, y: -count } });
      client.send(News, { count, words: "x".repeat(count % 120) });
      client.send(Helm, { count, rudder: 0 });
      await pause(8);
    }
    const all = Array.from({ length: 300 }, (_, i) => i);
    await until("all are back", () => hails.length >= 300 && news.length >= 300);
    await pause(300);
    assert.deepEqual(hails, all);
    assert.deepEqual([...news].sort((a, b) => a - b), all);
    // Sequenced ones never go back, and few are missing: each travels three times.
    assert.ok(helms.every((count, i) => i === 0 || count > helms[i - 1]!));
    assert.ok(helms.length > 285 && helms.at(-1)! > 290, `${helms.length} of 300 helms`);
    const { stats } = client;
    assert.ok(stats.packetsLost > 5, `${stats.packetsLost} packets lost`);
    assert.ok(stats.copiesSent > 300, `${stats.copiesSent} copies`);
    assert.deepEqual(Object.keys(stats.drops).filter((cause) => !expected.has(cause)), []);
    assert.ok(stats.roundTrip > 30 && stats.roundTrip < 150, `${stats.roundTrip} ms`);
  });
}

peerTest("large messages travel in pieces over a bad path, both ways, beside small ones", async () => {
  const peer = await startPeer("--udp");
  const client = await connectTo(peer, quay, over(peer, { ...badPath, loss: 0.02 }, 7));
  const rows = Array.from({ length: 1500 }, (_, i) => new Uint8Array(150).fill(i & 255));
  const back: Uint8Array[][] = [];
  const hails: number[] = [];
  client.on(Sheet, (m) => back.push(m.rows));
  client.on(Hail, (m) => hails.push(m.count));
  client.send(Sheet, { rows });
  client.send(Sheet, { rows: rows.slice(0, 3) });
  for (let count = 0; count < 50; ++count) {
    client.send(Hail, { count, words: "", cargo: "salt", at: null });
    await pause(20);
  }
  await until("both are back", () => back.length === 2 && hails.length === 50, 40_000);
  assert.deepEqual(back[0], rows);
  assert.equal(back[1]!.length, 3);
});

peerTest("a world over a bad path agrees with the server's, whatever is lost", async () => {
  for (const mode of [[], ["--speculative"]]) {
    const peer = await startPeer("--udp", ...mode);
    const client = await connectTo(peer, quay, over(peer, badPath, 11));
    const world = new ReplicatedWorld(client);
    await until("the own tug", () => world.owned(Tug) !== undefined);
    let [updates, newest] = [0, 0];
    world.onUpdate(Gull, () => ++updates);
    const fuel = world.get(world.owned(Tug)!)!.fuel;
    // One for each tick of the server, which takes one a tick.
    for (let i = 0; i < 80; ++i) {
      newest = world.sendInput(Steer, { east: 1, north: (i % 3) - 1 });
      await pause(50);
    }
    await until("the inputs are processed", () => world.lastProcessedInput >= newest - 1);
    await until("digests", () => world.counts.digests >= 2, 30_000);
    assert.equal(world.counts.desyncs, 0);
    assert.ok(updates > 100 && world.size > 20);
    const used = fuel - world.get(world.owned(Tug)!)!.fuel;
    assert.ok(used >= 76, `${used} of 80 inputs arrived`);
    assert.deepEqual(Object.keys(client.stats.drops).filter((cause) => !expected.has(cause)), []);
    client.close();
    await peer.kill();
  }
});

peerTest("endings and resumes over datagrams", async () => {
  const peer = await startPeer("--udp", "--resume", "30");
  const states: string[] = [];
  const sessions = sessionsOver(peer.udp, { ...badPath, loss: 0.02 }, 5);
  const client = await connectTo(peer, quay, {
    webTransport: { url: "https://127.0.0.1/kwind" }, WebTransport: sessions.WebTransport,
    onState: (state, error) => states.push(`${state} ${error?.code ?? ""}`.trim()),
  });
  const world = new ReplicatedWorld(client);
  await until("the own tug", () => world.owned(Tug) !== undefined);
  const tug = world.owned(Tug)!;
  sessions.cut();
  await until("the return", () => states.includes("resuming transport_ended") && client.connection === "connected");
  const tick = world.tick;
  await until("newer ticks", () => world.tick > tick + 20);
  assert.deepEqual(world.owned(Tug), tug);
  assert.deepEqual(await client.request(AskBerth, { length: 20 }), { line: 20 });
  client.send(Order, { what: 1 });
  await until("the end", () => client.connection === "closed");
  assert.equal(states.at(-1), "closed closed_by_peer");
  // A client that closes delivers first.
  const leaver = await connectTo(peer, quay, over(peer, badPath, 6));
  const back: number[] = [];
  leaver.on(Hail, (m) => back.push(m.count));
  for (let count = 0; count < 10; ++count) leaver.send(Hail, { count, words: "last words", cargo: "salt", at: null });
  leaver.close("home");
  await until("the end", () => leaver.connection === "closed", 3000);
});

peerTest("refusals arrive over datagrams, too", async () => {
  const peer = await startPeer("--udp");
  const wrongKey = peer.key.startsWith("A") ? `B${peer.key.slice(1)}` : `A${peer.key.slice(1)}`;
  await assert.rejects(connectTo(peer, quay, { ...over(peer, goodPath), key: wrongKey, reconnect: false }), (error) => error instanceof WireError);
  const other = { ...quay, versions: [[2, "00".repeat(16)]] as const };
  await assert.rejects(connectTo(peer, other, over(peer, goodPath)), (error) => error instanceof WireError && error.code === "schema_mismatch");
});

peerTest("a session that fails, or does not open in two seconds, gives way to the web socket", async () => {
  const peer = await startPeer("--udp");
  const never = class {
    readonly ready = new Promise(() => {});
    readonly closed = new Promise(() => {});
    readonly datagrams = { maxDatagramSize: 1200 } as never;
    close(): void {}
  };
  const failing = class extends never {
    override readonly ready = Promise.reject(new Error("Opening handshake failed."));
    override readonly closed = Promise.reject(new Error("Opening handshake failed."));
    constructor() {
      super();
      this.closed.catch(() => {});
    }
  };
  const narrow = class extends never {
    override readonly ready = Promise.resolve();
    override readonly datagrams = { maxDatagramSize: 1100 } as never;
  };
  const deaf = sessionsOver(peer.udp, { ...goodPath, loss: 1 }).WebTransport;
  for (const [WebTransport, least, most] of [[never, 1900, 4000], [deaf, 1900, 4000], [failing, 0, 1500], [narrow, 0, 1500]] as const) {
    const began = performance.now();
    const client = await connectTo(peer, quay, { webTransport: () => ({ url: "https://127.0.0.1/kwind" }), WebTransport: WebTransport as never });
    const took = performance.now() - began;
    assert.equal(client.transport, "web socket");
    assert.ok(took >= least && took < most, `${took} ms`);
    const back: number[] = [];
    client.on(Spark, (m) => back.push(m.count));
    client.send(Spark, { count: 3 });
    await until("a message is back", () => back.length === 1);
    assert.equal(client.stats.attempts, 1);
    client.close();
  }
  // Nothing known about WebTransport: the web socket, at once.
  const plain = await connectTo(peer, quay, { webTransport: () => undefined, WebTransport: never as never });
  assert.equal(plain.transport, "web socket");
});
