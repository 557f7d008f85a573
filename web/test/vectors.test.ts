// The bits of every type in every version are those of the C++ codec: vectors of all example descriptions.
import { test } from "node:test";
import assert from "node:assert/strict";
import { readFileSync } from "node:fs";
import { chart } from "../build/generated/chart.js";
import { hails } from "../build/generated/hails.js";
import { manifest } from "../build/generated/manifest.js";
import { world } from "../build/generated/world.js";
import { checkVectors } from "./vectors.js";

for (const protocol of [chart, hails, manifest, world]) {
  test(`vectors of ${protocol.name}`, () => {
    const path = new URL(`../../../examples/descriptions/vectors/${protocol.name}.json`, import.meta.url);
    assert.ok(checkVectors(protocol, readFileSync(path, "utf8")) >= 5);
  });
}
