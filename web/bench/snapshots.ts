// Applying snapshots of about 50 changed entities: records them from the C++ server of the tests, applies them here, and
// writes them for build/release/bench/kwind_snapshot_apply. `node build/bench_snapshots.mjs FILE`.
import { writeFileSync } from "node:fs";
import { spawn } from "node:child_process";
import { createInterface } from "node:readline";
import WebSocket from "ws";
import { BitReader, connect, ReplicatedWorld } from "kestrel-wind";
import { ClientWorld } from "../src/snapshots.js";
import { quay } from "../build/generated/quay.js";

const file = process.argv[2] ?? "build/snapshots.bin";
const built = process.env.KWIND_BUILD ?? "../build/dev";
const server = spawn(`${built}/tests/web_peer`, ["--entities", "120"], { stdio: ["ignore", "pipe", "inherit"] });
const { url, key } = JSON.parse(await new Promise<string>((resolve) => createInterface(server.stdout).once("line", resolve)));
const recorded: { bytes: Uint8Array; bits: number }[] = [];
let changed = 0;
const original = ClientWorld.prototype.receive;
ClientWorld.prototype.receive = function (payload) {
  const copy = new BitReader((payload as any).bytes, (payload as any).end, payload.position);
  const bits = copy.left;
  recorded.push({ bytes: copy.bits(bits), bits });
  const code = original.call(this, payload);
  changed += (this as any).stagedIds.length;
  return code;
};
const client = await connect(url, { key, protocol: quay, WebSocket: WebSocket as never });
new ReplicatedWorld(client);
while (recorded.length < 400) await new Promise((resolve) => setTimeout(resolve, 100));
ClientWorld.prototype.receive = original;
client.close();
server.kill();
const parts = recorded.flatMap(({ bytes, bits }) => [Uint8Array.of(bits & 255, (bits >> 8) & 255, bits >> 16, 0), bytes]);
writeFileSync(file, Buffer.concat(parts));
const rounds: number[] = [];
for (let round = 0; round < 30; ++round) {
  const world = new ClientWorld(quay);
  const begun = performance.now();
  for (const { bytes, bits } of recorded) {
    world.receive(new BitReader(bytes, bits));
    world.takeEvents();
  }
  rounds.push(((performance.now() - begun) * 1000) / recorded.length);
}
rounds.sort((a, b) => a - b);
console.log(`Node: ${recorded.length} snapshots of ${(changed / recorded.length).toFixed(1)} updates, ${rounds[15]!.toFixed(1)} us each median, ${rounds.at(-1)!.toFixed(1)} worst round`);
process.exit(0);
