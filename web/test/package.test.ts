// Sizes that a page pays for, and errors of the tables' parser.
import { test } from "node:test";
import assert from "node:assert/strict";
import { gzipSync } from "node:zlib";
import { readFileSync } from "node:fs";
import { codeTablesDigest, Link, PlayoutClock, WireError } from "kestrel-wind";
import { derive, NoiseInitiator, seal } from "../src/crypto.js";
import { harbour } from "../build/generated/harbour.js";
import { harbour_world } from "../build/generated/harbour_world.js";

const read = (path: string): Buffer => readFileSync(new URL(`../../${path}`, import.meta.url));

test("the package with cryptography is at most 60 kB gzip, generated code of the harbour at most 6 kB", () => {
  const size = gzipSync(read("dist/kestrel-wind.js"), { level: 9 }).length;
  console.log(`# kestrel-wind.js: ${size} bytes gzip`);
  assert.ok(size <= 60_000, `${size} bytes`);
  assert.ok(read("build/generated/harbour.ts").length <= 6000);
});

test("trained code tables are read, and their digest is that of kwind train", () => {
  const text = read("../examples/harbour/harbour_world.codes").toString();
  const digest = /^digest (\S+)$/m.exec(text)![1];
  assert.equal(codeTablesDigest(text, harbour_world), digest);
  assert.throws(() => codeTablesDigest(text.replace(/^digest .*$/m, "digest 0011223344556677"), harbour_world), /line 2: the digest is/);
  assert.throws(() => codeTablesDigest(text.replace(/^Gull continuing 1 /m, "Gull continuing 1 0 "), harbour_world), /complete prefix code/);
  assert.throws(() => codeTablesDigest("nonsense", harbour_world), /line 1/);
});

test("a ticket that is too long, and a key that no server has, are errors before anything is sent", () => {
  const events = { opened() {}, message() {}, payload() {}, closed() {} };
  const options = { protocol: harbour, serverKey: new Uint8Array(32).fill(9), seed: new Uint8Array(32).fill(1) };
  assert.throws(() => new Link({ ...options, ticket: "x".repeat(701) }, 0, events), (error) => error instanceof WireError && error.code === "ticket_invalid");
  assert.throws(() => new Link({ ...options, serverKey: new Uint8Array(32) }, 0, events), (error) => error instanceof WireError && error.code === "bad_key");
});

test("a server that started anew sets the drawn tick back", () => {
  const clock = new PlayoutClock(20);
  clock.onSnapshot(1000, 500);
  assert.ok(clock.tickAt(1000)! > 490);
  clock.onSnapshot(2000, 10);
  assert.ok(clock.tickAt(2000)! <= 15);
});

test("the worked handshake of docs/wire-format.md", () => {
  const bytes = (first: number): Uint8Array => Uint8Array.from({ length: 32 }, (_, i) => first + i);
  const unhex = (text: string): Uint8Array => new Uint8Array(Buffer.from(text.replace(/\s/g, ""), "hex"));
  const blocks = [...read("../docs/wire-format.md").toString().matchAll(/```hex\n([\s\S]*?)```/g)].map((match) => unhex(match[1]!));
  const starting = (text: string): Uint8Array => blocks.find((block) => Buffer.from(block).toString("hex").startsWith(text))!;
  const serverKey = starting("358072d6");
  const payload = new Uint8Array(1123);
  payload.set(starting("04bab2393a08"));
  const noise = new NoiseInitiator(starting("6b65737472656c"), serverKey, bytes(0x40));
  const first = noise.writeFirst(payload);
  const begin = starting("06050008070605040302010200c0c1").subarray(29);
  assert.deepEqual(first.subarray(0, begin.length), begin);
  assert.deepEqual(first.subarray(first.length - 16), starting("4c16b0f6"));
  const answer = noise.readSecond(starting("08050008070605040302016").subarray(11));
  assert.deepEqual(answer, starting("01000200006060"));
  const { up, down } = noise.split();
  assert.deepEqual(up, starting("e108ea42"));
  assert.deepEqual(down, starting("280c2da9"));
  assert.deepEqual(derive(up, "next datagram key"), starting("53279e7e"));
  // The client's first datagram: a ping.
  const plain = starting("010010000006");
  const sealed = starting("0100100000ed69");
  assert.deepEqual(seal(up, 0, plain.subarray(0, 5), plain.subarray(5)), sealed.subarray(5));
});
