// What the link knows of a path and of a missing message: the parts that need no peer.
import assert from "node:assert/strict";
import { test } from "node:test";
import { BitReader } from "../src/bits.js";
import { ReliableReceiver } from "../src/reliable.js";
import { RoundTrip, SentPackets } from "../src/sent_packets.js";

test("what waited for a program that stood still is no sample of the path", () => {
  const roundTrip = new RoundTrip();
  const packets = new SentPackets(roundTrip, undefined);
  const send = (number: number, at: number): void => packets.sent({ number, at, bytes: 100, acked: -1, refs: [] });
  send(0, 0);
  packets.onAck(40, [[0, 0]], 0);
  assert.equal(roundTrip.smoothed, 40);
  send(1, 100);
  const { acked } = packets.onAck(60_100, [[0, 1]], 0);
  assert.deepEqual(acked.map(({ number }) => number), [1], "it has arrived all the same");
  assert.equal(roundTrip.smoothed, 40);
  // A path may be slow: up to three seconds count.
  send(2, 60_200);
  packets.onAck(63_200, [[0, 2]], 0);
  assert.equal(roundTrip.latest, 3000);
});

test("a receiver is stalled while messages wait for one that is missing", () => {
  const heard: number[] = [];
  const receiver = new ReliableReceiver(true, (payload) => heard.push(payload.get(8)));
  const receive = (number: number): void => receiver.receive(number, new BitReader(Uint8Array.of(number), 8), 8);
  assert.equal(receiver.isStalled, false, "nothing has come");
  receive(0);
  assert.equal(receiver.isStalled, false);
  receive(2);
  receive(3);
  assert.equal(receiver.isStalled, true, "the second message is missing");
  receive(1);
  assert.equal(receiver.isStalled, false);
  assert.deepEqual(heard, [0, 1, 2, 3]);
});
