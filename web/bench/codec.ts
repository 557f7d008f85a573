// Encoding and decoding of 50 entities beside JSON of the same values, in turns within one run. `npm run bench`.
import { BitReader, BitWriter, fieldsCodec } from "kestrel-wind";
import { Fleet } from "../build/generated/harbour.js";

const codec = fieldsCodec(Fleet.fields, 1);
const writer = new BitWriter(1024);
codec.write(writer, {
  tick: 1234,
  tugs: Array.from({ length: 50 }, (_, i) => ({ number: i + 1, x: i * 3.7 - 80, y: 40 - i * 1.3, bearing: (i * 17) % 360, speed: (i % 20) / 2 })),
});
const bytes = writer.finish();
const bits = writer.length;
const context = { newestTick: 0 };
const value = codec.read(new BitReader(bytes, bits), context) as Fleet;
const json = JSON.stringify(value);

const works: Record<string, () => unknown> = {
  encode: () => {
    writer.clear();
    codec.write(writer, value);
    return writer.finish();
  },
  "JSON.stringify": () => JSON.stringify(value),
  decode: () => codec.read(new BitReader(bytes, bits), context),
  "JSON.parse": () => JSON.parse(json),
};
const times: Record<string, number[]> = Object.fromEntries(Object.keys(works).map((name) => [name, []]));
for (let round = 0; round < 40; ++round) {
  for (const [name, work] of Object.entries(works)) {
    const begun = performance.now();
    for (let i = 0; i < 500; ++i) work();
    if (round >= 10) times[name]!.push(((performance.now() - begun) / 500) * 1000);
  }
}
const median = (all: number[]): number => [...all].sort((a, b) => a - b)[all.length >> 1]!;
console.log(`bytes: ${bytes.length}, JSON ${json.length}: ${(json.length / bytes.length).toFixed(1)} times`);
for (const [name, all] of Object.entries(times)) console.log(`${name}: ${median(all).toFixed(1)} us median, ${Math.max(...all).toFixed(1)} worst`);
console.log(`encode / JSON.stringify ${(median(times.encode!) / median(times["JSON.stringify"]!)).toFixed(2)}, decode / JSON.parse ${(median(times.decode!) / median(times["JSON.parse"]!)).toFixed(2)}`);
