// Reads the columns of an entity as changes against what is known: residuals, edits of lists, cells of grids.
import { BitReader, BitWriter, bitsFor } from "./bits.js";
import { firstClass, firstClassBits, wholeValue, type TypeCodes } from "./codes.js";
import type { Bits, EntityModel, Known, Row } from "./columns.js";
import { fail } from "./errors.js";
import { readDifference, readGrid, writeGrid } from "./grid.js";

/**
 * What a snapshot may edit of varying values in all: cells of grids, bytes of other values. An edit of a few bits takes
 * the time of the whole value.
 */
export const maxEditedSize = 1 << 17;
/** What the snapshot that is read may still edit. */
export interface EditBudget {
  left: number;
}

export function readBits(from: BitReader, most: number): Bits {
  const bits = from.count(5);
  if (bits > most) fail("value_range", "a field has more bits than it can have");
  return { bits, bytes: from.bits(bits) };
}

export function readChange(from: BitReader, model: EntityModel, codes: TypeCodes, known: readonly Known[], tick: number, mask: number, isOwner: boolean, edits: EditBudget, bitsBy: Map<string, number> | undefined): Row {
  const base = known[0]!.row;
  const row: Row = { numbers: base.numbers.slice(), varying: base.varying };
  const age = Math.min(Math.max(tick - known[0]!.tick, 1), 4) - 1;
  const hasRest = model.hasRest && from.bool();
  const wrong = (): never => fail("value_range", "a change that cannot be");
  for (const each of model.changing) {
    const c = each.column;
    const maskState = each.width > 0 ? (mask >>> each.shift) & ((1 << each.width) - 1) : 0;
    if (each.ownerOnly && !isOwner) {
      if (maskState !== 0) wrong();
      continue;
    }
    if (each.moves !== "no") model.predict(each, codes.predictors, known, row.numbers, tick);
    if (each.width > 0 ? maskState === 0 : !(hasRest && from.bool())) continue;
    const { numbers } = row;
    const start = from.position;
    if (each.width > 1 && maskState !== 3) {
      numbers[c] = model.atResidual(c, numbers[c]!, maskState === 1 ? 1 : -1);
      if (numbers[c]! < 0) wrong();
    } else if (each.varies) {
      if (row.varying === base.varying) row.varying = base.varying.slice();
      row.varying[c] = readVarying(from, model, c, base.varying[c] ?? null, edits);
    } else if (each.byResidual) {
      const column = model.columns[c]!;
      let symbol = codes.residuals[c]![age]!.read(from);
      if (symbol === wholeValue) {
        numbers[c] = from.get(column.bits);
        if (numbers[c]! > column.last) wrong();
      } else {
        if (symbol >= firstClass) {
          const width = symbol - firstClass + firstClassBits;
          symbol = firstClass + 2 ** width - 2 ** firstClassBits + from.get(width);
        }
        const size = Math.floor(symbol / 2) + 1;
        numbers[c] = model.atResidual(c, numbers[c]!, symbol % 2 === 0 ? size : -size);
        if (numbers[c]! < 0) wrong();
      }
    } else {
      numbers[c] = from.get(each.bits);
      if (numbers[c]! > model.columns[c]!.last) wrong();
    }
    if (bitsBy) {
      const name = `${model.type.name} ${model.type.fields[model.columns[c]!.field]!.name}`;
      bitsBy.set(name, (bitsBy.get(name) ?? 0) + from.position - start);
    }
  }
  return row;
}

const scratch = new BitWriter(4096);
function copyBits(from: BitReader, to: BitWriter, count: number): void {
  for (; count > 32; count -= 32) to.put(from.get(32), 32);
  to.put(from.get(count), count);
}

function readVarying(from: BitReader, model: EntityModel, c: number, before: Bits | null, edits: EditBudget): Bits {
  const column = model.columns[c]!;
  if (!from.bool()) return readBits(from, column.last);
  const wrong = (): never => fail("value_range", "a change that cannot be");
  if (!before) return wrong();
  edits.left -= column.grid ? column.grid.width * column.grid.height : (before.bits + 7) >>> 3;
  if (edits.left < 0) wrong();
  const old = new BitReader(before.bytes, before.bits);
  scratch.clear();
  if (column.grid) {
    const { width, height, count, named } = column.grid;
    const cells = readGrid(old, width, height, count, named);
    const changed = from.count(1) + 1;
    if (changed > cells.length) wrong();
    let cell = 0;
    for (let i = 0; i < changed; ++i, ++cell) {
      cell += from.count(3);
      if (cell >= cells.length) wrong();
      cells[cell] = readDifference(from, count, named, cells[cell]!);
    }
    writeGrid(scratch, width, height, count, named, cells);
  } else if (column.maxItems > 0) {
    const lengthBits = bitsFor(column.maxItems + 1);
    const size = old.get(lengthBits);
    if (size > column.maxItems || size * column.itemBits !== old.left) wrong();
    const edits = from.count(0) + 1;
    if (edits > 2 * column.maxItems) wrong();
    const items = new BitWriter(before.bytes.length + 16);
    let [next, made] = [0, 0];
    const keep = (count: number): void => {
      if (count > size - next || count > column.maxItems - made) wrong();
      copyBits(old, items, count * column.itemBits);
      next += count;
      made += count;
    };
    for (let i = 0; i < edits; ++i) {
      keep(from.count(2));
      const isReplaced = !from.bool();
      const isRemoved = !isReplaced && from.bool();
      const run = from.count(0) + 1;
      if (isReplaced || isRemoved) {
        if (run > size - next) wrong();
        for (let rest = run * column.itemBits; rest > 0; rest -= 32) old.skip(Math.min(32, rest));
        next += run;
      }
      if (isRemoved) continue;
      if (run > column.maxItems - made || run * column.itemBits > from.left) wrong();
      copyBits(from, items, run * column.itemBits);
      made += run;
    }
    keep(size - next);
    scratch.put(made, lengthBits);
    scratch.bits(items.view(), items.length);
  } else {
    const head = from.count(5);
    const tail = from.count(5);
    const middle = from.count(5);
    if (head > before.bits || tail > before.bits - head || middle > from.left || head + tail + middle > column.last) wrong();
    copyBits(old, scratch, head);
    copyBits(from, scratch, middle);
    for (let rest = before.bits - tail - head; rest > 0; rest -= 32) old.skip(Math.min(32, rest));
    copyBits(old, scratch, tail);
  }
  return { bits: scratch.length, bytes: scratch.finish() };
}
