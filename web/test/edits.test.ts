// Snapshots that are written here bit by bit: what one may edit, and one that a full resync overtook.
import assert from "node:assert/strict";
import { test } from "node:test";
import { Chart, quay } from "../build/generated/quay.js";
import { BitReader, BitWriter } from "../src/bits.js";
import { builtInTables } from "../src/codes.js";
import { EntityModel, type Bits, type Row } from "../src/columns.js";
import { maxEditedSize, readChange } from "../src/delta.js";
import { writeGrid } from "../src/grid.js";
import { ClientWorld } from "../src/snapshots.js";

// An edit of a few bits takes the time of the whole value.
test("an edit is read as far as the snapshot may edit", () => {
  const models = quay.entities.map((type, index) => new EntityModel(type, index, 20));
  const model = models[quay.entities.indexOf(Chart)]!;
  const codes = builtInTables(models).types[model.index]!;
  const varying = model.columns.map(({ grid }): Bits | null => {
    if (!grid) return null;
    const to = new BitWriter(64);
    writeGrid(to, grid.width, grid.height, grid.count, grid.named, new Array<number>(grid.width * grid.height).fill(0));
    return { bits: to.length, bytes: to.finish() };
  });
  const row: Row = { numbers: model.columns.map(() => 0), varying };
  const ink = model.columns.findIndex((column) => column.grid?.width === 64);
  const cells = 64 * 64;
  // The mask says that the ink changed; then: an edit, of one cell, the sixth, to the first other value.
  const { shift } = model.changing.find((each) => each.column === ink)!;
  const to = new BitWriter(64);
  if (model.hasRest) to.bool(false);
  to.bool(true);
  to.count(0, 1);
  to.count(5, 3);
  to.put(0, 8);
  const length = to.length;
  const bytes = to.finish();
  const read = (left: number): number => {
    const edits = { left };
    const changed = readChange(new BitReader(bytes, length), model, codes, [{ tick: 1, row }], 2, 1 << shift, false, edits, undefined);
    assert.notDeepEqual(changed.varying[ink], varying[ink]);
    return edits.left;
  };
  assert.equal(read(maxEditedSize), maxEditedSize - cells);
  assert.equal(read(cells), 0);
  assert.throws(() => read(cells - 1), { code: "value_range" });
});

test("a delta that a full resync overtook is old, and nothing is asked for", () => {
  const world = new ClientWorld(quay);
  const models = quay.entities.map((type, index) => new EntityModel(type, index, 20));
  // Full snapshots without entities: one that begins the first history, one that begins the next.
  const full = (snapshot: number): BitReader => {
    const to = new BitWriter(64);
    to.bool(true);
    to.put(snapshot, 32);
    to.put(snapshot, 32);
    to.put(20 * 16, 16);
    to.put(builtInTables(models).lowDigest, 16);
    to.bool(false);
    to.count(0, 3);
    for (let i = 0; i < 4; ++i) to.bool(false); // no input, no digest, nobody arrives, no fragments
    return new BitReader(to.finish(), to.length);
  };
  // Whatever base the head of zeros names, it is one of the time before the resync.
  const delta = (snapshot: number): BitReader => {
    const to = new BitWriter(64);
    to.bool(false);
    to.put(snapshot & 127, 7);
    to.put(0, 32);
    return new BitReader(to.finish(), to.length);
  };
  assert.equal(world.receive(full(20)), "none");
  assert.equal(world.receive(full(40)), "none");
  assert.equal(world.receive(delta(39)), "replayed");
  assert.equal(world.blocked, undefined);
  assert.equal(world.receive(delta(60)), "base_missing");
  assert.equal(world.blocked, 60);
});
