// Compares test vectors of `kwind gen --vectors` with the codecs of this package.
import assert from "node:assert/strict";
import { BitReader, BitWriter, fieldsCodec, type ProtocolInfo } from "kestrel-wind";
import { difference, fieldsToJson, unhex } from "./json.js";

/** How many vectors were compared. */
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
