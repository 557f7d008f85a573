// What a snapshot may edit has a limit: an edit of a few bits takes the time of the whole value.
import assert from "node:assert/strict";
import { test } from "node:test";
import { Chart, quay } from "../build/generated/quay.js";
import { BitReader, BitWriter } from "../src/bits.js";
import { builtInTables } from "../src/codes.js";
import { EntityModel, type Bits, type Row } from "../src/columns.js";
import { maxEditedSize, readChange } from "../src/delta.js";
import { writeGrid } from "../src/grid.js";

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
