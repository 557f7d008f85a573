// The bits of every type in every version are those of the C++ codec: vectors of all example descriptions.
import { test } from "node:test";
import assert from "node:assert/strict";
import { readFileSync } from "node:fs";
import { BitReader, BitWriter, fieldsCodec, type ProtocolInfo } from "kestrel-wind";
import { chart } from "../build/generated/chart.js";
import { hails } from "../build/generated/hails.js";
import { manifest } from "../build/generated/manifest.js";
import { world } from "../build/generated/world.js";
import { difference, fieldsToJson, unhex } from "./json.js";

export function checkVectors(protocol: ProtocolInfo, text: string): number {
  const file = JSON.parse(text);
  for (const { version, digest } of file.versions) {
    assert.equal(protocol.versions.find(([v]) => v === version)?.[1], digest);
  }
  const versions = protocol.versions.map(([version]) => version);
  let compared = 0;
  for (const vector of file.vectors) {
    const type = [...protocol.messages, ...protocol.entities].find((each) => each.name === vector.message)!;
    const codec = fieldsCodec(type.fields, vector.version, versions);
    const reader = new BitReader(unhex(vector.hex), vector.bits);
    const value = codec.read(reader, { newestTick: 0 });
    assert.equal(reader.left, 0);
    assert.equal(difference(fieldsToJson(type.fields, value), vector.value, `${vector.message} ${vector.version}`), undefined);
    const writer = new BitWriter();
    codec.write(writer, value);
    assert.equal(writer.length, vector.bits, `bits of ${vector.message}`);
    assert.equal(Buffer.from(writer.finish()).toString("hex"), vector.hex, `${vector.message} in version ${vector.version}`);
    ++compared;
  }
  return compared;
}

for (const protocol of [chart, hails, manifest, world]) {
  test(`vectors of ${protocol.name}`, () => {
    const path = new URL(`../../../examples/descriptions/vectors/${protocol.name}.json`, import.meta.url);
    assert.ok(checkVectors(protocol, readFileSync(path, "utf8")) >= 5);
  });
}
