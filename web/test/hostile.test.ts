// Mutated snapshots and frames of every type against the decoders: no exception but WireError, no endless loop, bounded
// memory. KWIND_FUZZ_SECONDS sets how long; the seed is printed.
import { test } from "node:test";
import assert from "node:assert/strict";
import { BitReader, BitWriter, Link, ReplicatedWorld, WireError, fieldsCodec, type ProtocolInfo } from "kestrel-wind";
import { chart } from "../build/generated/chart.js";
import { hails } from "../build/generated/hails.js";
import { Chart, quay } from "../build/generated/quay.js";
import { world as worldProtocol } from "../build/generated/world.js";
import { Channel } from "../src/channel.js";
import { bytesOfStart, printable } from "../src/text.js";
import { ClientWorld } from "../src/snapshots.js";
import { connectTo, peerTest, startPeer, until } from "./harness.js";

const seconds = Number(process.env.KWIND_FUZZ_SECONDS ?? 15);
const seed = Number(process.env.KWIND_SEED ?? Date.now() % 1_000_000);
console.log(`# KWIND_SEED=${seed}`);
let state = seed >>> 0 || 1;
/** xorshift32: below `most`. */
function random(most: number): number {
  state ^= state << 13;
  state ^= state >>> 17;
  state ^= state << 5;
  return (state >>> 0) % most;
}

function mutated(bytes: Uint8Array): Uint8Array {
  const made = bytes.slice();
  for (let i = 0; i <= random(4); ++i) {
    switch (random(4)) {
      case 0: made[random(made.length)]! ^= 1 << random(8); break;
      case 1: made[random(made.length)] = random(256); break;
      case 2: made.copyWithin(random(made.length), random(made.length)); break;
      default: return made.subarray(0, 1 + random(made.length));
    }
  }
  return made;
}

/** Runs work until the time is over; each piece of it must be quick. */
function forAWhile(share: number, work: () => void): number {
  const end = performance.now() + seconds * 1000 * share;
  let rounds = 0;
  for (; performance.now() < end; ++rounds) {
    const begun = performance.now();
    work();
    const took = performance.now() - begun;
    assert.ok(took < 2000, `one input took ${took} ms`);
  }
  return rounds;
}

peerTest("mutated snapshots", async () => {
  const recorded: { bytes: Uint8Array; bits: number }[] = [];
  const original = ClientWorld.prototype.receive;
  ClientWorld.prototype.receive = function (payload) {
    const copy = new BitReader((payload as any).bytes, (payload as any).end, payload.position);
    const bits = copy.left;
    recorded.push({ bytes: copy.bits(bits), bits });
    return original.call(this, payload);
  };
  const peer = await startPeer("--speculative");
  const client = await connectTo(peer, quay);
  const replica = new ReplicatedWorld(client);
  await until("some snapshots, a large entity among them", () => recorded.length > 100 && replica.all(Chart).length === 2, 20_000);
  ClientWorld.prototype.receive = original;
  client.close();
  const before = process.memoryUsage().heapUsed;
  let [taken, refused] = [0, 0];
  let target = new ClientWorld(quay);
  let at = 0;
  forAWhile(0.6, () => {
    // As they came, and now and then another in between: what is refused must leave nothing behind.
    if (at === recorded.length) {
      target = new ClientWorld(quay);
      at = 0;
    }
    const { bytes, bits } = recorded[at]!;
    for (let i = random(4); i > 0; --i) {
      const wrong = mutated(recorded[random(recorded.length)]!.bytes);
      const code = target.receive(new BitReader(wrong));
      if (code === "none") ++taken;
      else ++refused;
      for (const { slot, ref } of target.entities()) {
        target.valueOf(slot);
        target.sample(ref, target.tick + random(8) - 4);
        break;
      }
    }
    target.receive(new BitReader(bytes, bits));
    target.takeEvents();
    ++at;
  });
  assert.ok(refused > 100, `${refused} refused, ${taken} taken`);
  globalThis.gc?.();
  assert.ok(process.memoryUsage().heapUsed < before + 200e6);
});

/** Frames as a server may write them, for the channels of quay.kw. */
function someFrames(): Uint8Array {
  const out = new BitWriter();
  const payload = (order: number): void => {
    const bits = random(200);
    out.count(bits, order);
    for (let i = 0; i < bits; ++i) out.put(random(2), 1);
  };
  for (let i = 0; i <= random(5); ++i) {
    const channel = random(6);
    switch (random(8)) {
      case 0: case 1:
        out.put(1, 1);
        out.put(channel, 3);
        if (channel === 0) out.put(1, 1);
        if (channel > 1) out.put(random(4) << 1, 17);
        payload(6);
        break;
      case 2: {
        const chunks = 1 + random(3);
        out.put(2, 3);
        out.put(2 + random(4), 3);
        out.put(random(4), 16);
        out.count(chunks * 512, 10);
        out.count(random(chunks), 4);
        out.count(0, 3);
        for (let byte = 0; byte < 64; ++byte) out.put(random(256), 8);
        break;
      }
      case 3: out.put(4, 3); payload(6); break;
      case 4: out.put(6 | (2 << 3), 6); out.put(2 + random(4), 3); out.put(random(1e6), 32); break;
      case 5: out.put(6 | (3 << 3), 6); out.put(random(1e6), 32); out.put(random(1e6), 32); break;
      case 6: out.put(6 | (6 << 3), 6); out.put(2 + random(4), 3); out.put(random(6), 16); out.put(random(16), 4); out.put(random(300), 12); payload(6); break;
      default: out.put(6, 6);
    }
  }
  return out.finish();
}

test("mutated frames", () => {
  const options = { protocol: quay, serverKey: new Uint8Array(32).fill(9), seed: new Uint8Array(32) };
  const events = { opened() {}, message() {}, payload() {}, closed() {} };
  let refused = 0;
  forAWhile(0.1, () => {
    const link = new Link({ ...options, transport: random(2) ? "stream" : "datagrams" }, 0, events);
    for (let i = 0; i < 50; ++i) {
      const bytes = Uint8Array.from({ length: 1 + random(200) }, () => random(256));
      bytes[0] = random(16);
      link.receive(1, bytes);
    }
    refused += Object.values(link.stats.drops).reduce((sum, count) => sum + count!, 0);
  });
  assert.ok(refused > 100);
  // What a server that holds the key may write: the reader of frames and of acks, after the handshake.
  let [taken, wrong] = [0, 0];
  forAWhile(0.1, () => {
    const link = new Link({ ...options, transport: random(2) ? "stream" : "datagrams" }, 0, events) as any;
    link.state = "open";
    link.channels = quay.channels.map((info) => new Channel(info));
    link.channelBits = 3;
    link.sent.nextNumber = 200;
    for (let packet = 0; packet < 50 && link.state === "open"; ++packet) {
      const frames = someFrames();
      const reader = new BitReader(random(2) === 0 ? frames : mutated(frames));
      try {
        if (random(3) === 0) link.readAcks(packet, packet, reader);
        link.readFrames(packet, reader);
        ++taken;
      } catch (error) {
        if (!(error instanceof WireError)) throw error;
        ++wrong;
      }
    }
    assert.ok(link.channels.every((each: any) => each.assemblies.size <= 16));
    assert.ok(link.channels.every(({ receiver }: any) => !receiver || (receiver.slots.size <= 512 && receiver.parities.length <= 8)));
  });
  assert.ok(taken > 20 && wrong > 100, `${taken} taken, ${wrong} refused`);
});

test("mutated messages of every type", () => {
  let [taken, refused] = [0, 0];
  const all = [chart, hails, quay, worldProtocol].flatMap((protocol: ProtocolInfo) =>
    [...protocol.messages, ...protocol.entities].flatMap((type) => protocol.versions.map(([version]) => fieldsCodec(type.fields, version))));
  forAWhile(0.2, () => {
    const codec = all[random(all.length)]!;
    const bytes = Uint8Array.from({ length: 1 + random(300) }, () => (random(3) === 0 ? 0 : random(256)));
    try {
      codec.read(new BitReader(bytes), { newestTick: random(100000) });
      ++taken;
    } catch (error) {
      if (!(error instanceof WireError)) throw error;
      ++refused;
    }
  });
  assert.ok(taken > 100 && refused > 100, `${taken} taken, ${refused} refused`);
});

test("a reason is cut between characters, and one that a peer wrote cannot move a cursor", () => {
  const harbour = "\u6e2f".repeat(40);  // three bytes each
  for (const ahead of ["", "x", "xx"]) {
    const bytes = bytesOfStart(ahead + harbour, 96);
    assert.equal(new TextDecoder("utf-8", { fatal: true }).decode(bytes), ahead + harbour.slice(0, Math.floor((96 - ahead.length) / 3)));
  }
  assert.equal(new TextDecoder().decode(bytesOfStart("short", 96)), "short");
  const written = Uint8Array.from([0x67, 0x1b, 0x5b, 0xc2, 0x9b, 0xff, 0xe2, 0x80, 0xae, 0xe6, 0xb8, 0xaf]);
  assert.equal(printable(written), "g\ufffd[\ufffd\ufffd\ufffd\u6e2f");
});
