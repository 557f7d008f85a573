// A replicated world in Node beside a C++ server: digests of all values agree, inputs and predictions arrive.
import assert from "node:assert/strict";
import { Predicted, ReplicatedWorld } from "kestrel-wind";
import { Barge, Chart, Gull, Gust, Kite, Pennant, Raft, Steer, Swift, Tug, quay } from "../build/generated/quay.js";
import { connectTo, pause, peerTest, startPeer, until } from "./harness.js";

for (const mode of ["exact", "speculative"]) {
  peerTest(`every value agrees with the server's, ${mode} snapshots`, async () => {
    const peer = await startPeer(...(mode === "speculative" ? ["--speculative"] : []));
    const client = await connectTo(peer, quay);
    const world = new ReplicatedWorld(client);
    let spawned = 0;
    let despawned = 0;
    world.onSpawn(Gull, () => ++spawned);
    world.onDespawn(Gull, () => ++despawned);
    await until("200 ticks", () => world.tick > 0 && world.counts.snapshots > 200, 30_000);
    assert.equal(world.counts.desyncs, 0);
    assert.equal(world.counts.unread, 0);
    assert.ok(world.counts.digests >= 3, `${world.counts.digests} digests`);
    assert.deepEqual(client.stats.drops, {});
    assert.ok(world.all(Gull).length > 5 && world.all(Raft).length === 15 && world.all(Kite).length === 15 && world.all(Barge).length === 15);
    assert.equal(world.all(Chart).length, 2);
    assert.equal(world.all(Gust).length + world.all(Swift).length, 6);
    assert.ok(spawned > 15 && despawned > 5, `${spawned} came, ${despawned} went`);
    // A pennant moves with the gust that it is attached to.
    assert.equal(world.all(Pennant).length, 3);
    for (const { ref, value } of world.all(Pennant)) {
      const at = performance.now();
      const gust = world.sample(value.on!, at)!.at;
      assert.deepEqual(world.position(ref, at), { x: gust.x + 0.5, y: gust.y, z: gust.z! - 2 });
      assert.deepEqual(world.position(value.on!, at), gust);
      assert.equal(world.position(ref, at, "on"), undefined);
    }
    const [first] = world.all(Kite);
    const sampled = world.sample(first!.ref, performance.now())!;
    const { w, x, y, z } = sampled.attitude;
    assert.ok(Math.abs(w * w + x * x + y * y + z * z - 1) < 1e-6);
  });
}

// A page that was loaded before the server was updated, and one that its player loads again.
for (const mode of ["exact", "speculative"]) {
  peerTest(`a client of an older version has what that version has, ${mode} snapshots`, async () => {
    const peer = await startPeer(...(mode === "speculative" ? ["--speculative"] : []));
    const older = { ...quay, version: 1, versions: quay.versions.slice(1) };
    const client = await connectTo(peer, older);
    assert.equal(client.version, 1);
    const world = new ReplicatedWorld(client);
    await until("100 ticks", () => world.counts.snapshots > 100 && world.counts.digests >= 3 && world.size > 60, 30_000);
    assert.equal(world.counts.desyncs, 0);
    assert.deepEqual(client.stats.drops, {});
    assert.equal(world.all(Swift).length, 0);
    assert.ok(world.all(Gull).length > 5 && world.all(Gull).every(({ value }) => value.speed === 0));
    assert.ok(world.all(Barge).every(({ value }) => !value.lamps.starboard && !value.load.includes("ice")));
    const newer = new ReplicatedWorld(await connectTo(peer, quay));
    await until("the same gulls", () => world.all(Gull).length > 0 && newer.all(Swift).length > 0, 30_000);
    assert.ok(newer.all(Gull).some(({ value }) => value.speed > 0));
    assert.equal(newer.counts.desyncs, 0);
  });
}

peerTest("inputs arrive once each, and the prediction is the server's result", async () => {
  const peer = await startPeer();
  const client = await connectTo(peer, quay);
  const world = new ReplicatedWorld(client);
  const clamped = (v: number): number => Math.max(-300, Math.min(300, v));
  const tug = new Predicted(world, Tug, Steer,
    (state, input) => ({ ...state, at: { x: clamped(state.at.x + input.east / 16), y: clamped(state.at.y + input.north / 16) } }),
    (a, b) => Math.abs(a.at.x - b.at.x) + Math.abs(a.at.y - b.at.y) < 0.1);
  await until("the own tug", () => tug.state !== undefined);
  for (let i = 0; i < 60; ++i) {
    tug.apply({ east: 3, north: i % 2 ? -1 : 1 });
    await pause(50);
  }
  const { x } = tug.state!.at;
  assert.equal(x, (60 * 3) / 16);
  const ref = world.owned(Tug)!;
  await until("all inputs are processed", () => world.lastProcessedInput === 60);
  await until("the server's tug is there too", () => world.get(ref)!.at.x === x);
  assert.equal(tug.corrections, 0);
  assert.equal(world.get(ref)!.fuel, 440);
});

peerTest("a value that went wrong is reported, and comes right again", async () => {
  const peer = await startPeer();
  const client = await connectTo(peer, quay);
  const world = new ReplicatedWorld(client);
  await until("the world", () => world.counts.digests >= 1 && world.all(Barge).length === 15, 20_000);
  const inner = (world as any).world;
  // Nobody steers the own tug: no update comes that would mend it by chance.
  const ref = world.owned(Tug)!;
  const truth = world.get(ref)!.at;
  for (const state of inner.slots[ref.id].received) state.row = { ...state.row, numbers: state.row.numbers.map((n: number, c: number) => (c === 1 ? n ^ 64 : n)) };
  await until("the desync is seen", () => world.counts.desyncs >= 1, 30_000);
  const seen = world.counts.desyncs;
  const digests = world.counts.digests;
  await until("more digests", () => world.counts.digests >= digests + 4, 30_000);
  assert.deepEqual(world.get(ref)!.at, truth);
  assert.ok(world.counts.desyncs <= seen + 1, `${world.counts.desyncs} desyncs, ${seen} at first`);
});

peerTest("after a snapshot that was lost on the way the client asks for a full one", async () => {
  const peer = await startPeer();
  const client = await connectTo(peer, quay);
  const world = new ReplicatedWorld(client);
  await until("the world", () => world.counts.snapshots > 30, 20_000);
  const inner = (world as any).world;
  const take = inner.receive.bind(inner);
  let dropped = 0;
  inner.receive = (payload: any) => (dropped < 3 ? (++dropped, "none") : take(payload));
  await until("some were dropped", () => dropped === 3);
  const { tick } = world;
  await until("newer ticks", () => world.tick > tick + 60, 20_000);
  const { snapshots } = world.counts;
  await until("snapshots are read again", () => world.counts.snapshots > snapshots + 40, 20_000);
  assert.equal(world.counts.desyncs, 0);
  assert.ok(world.all(Gull).length > 3);
});
