// Cells of a grid as indexes below `count`: whole grids as runs, and the difference of one cell.
import { BitReader, BitWriter, bitsFor } from "./bits.js";
import { valueRange } from "./errors.js";

/** The differences of a grid's cells, for whole grids and for deltas: indexes below `count`. */
export function readDifference(from: BitReader, count: number, named: boolean, before: number): number {
  if (count < 2) valueRange();
  if (named) {
    const index = from.get(bitsFor(count - 1));
    if (index >= count - 1) valueRange();
    return index >= before ? index + 1 : index;
  }
  const code = from.count(1);
  const distance = Math.floor(code / 2) + 1;
  const index = code % 2 === 1 ? before - distance : before + distance;
  return index < 0 || index >= count ? valueRange() : index;
}
export function writeDifference(to: BitWriter, count: number, named: boolean, before: number, index: number): void {
  if (named) to.put(index > before ? index - 1 : index, bitsFor(count - 1));
  else to.count(index > before ? 2 * (index - before - 1) : 2 * (before - index - 1) + 1, 1);
}
/** Indexes of a grid's cells. */
export function readGrid(from: BitReader, width: number, height: number, count: number, named: boolean): number[] {
  const cells = new Array<number>(width * height);
  let [before, above, run, at] = [0, 0, 0, 0];
  let isRunKnown = false;
  for (let y = 0; y < height; ++y) {
    for (let x = 0; x < width; ++x, ++at) {
      if (!isRunKnown) {
        run = from.count(0);
        if (run > cells.length - at) valueRange();
        isRunKnown = true;
      }
      if (x === 0) before = above;
      if (run > 0) {
        --run;
      } else {
        before = readDifference(from, count, named, before);
        isRunKnown = false;
      }
      if (x === 0) above = before;
      cells[at] = before;
    }
  }
  return cells;
}
export function writeGrid(to: BitWriter, width: number, height: number, count: number, named: boolean, cells: readonly number[]): void {
  let [before, above, run, at] = [0, 0, 0, 0];
  for (let y = 0; y < height; ++y) {
    for (let x = 0; x < width; ++x, ++at) {
      const index = cells[at]!;
      if (x === 0) [before, above] = [above, index];
      if (index === before) {
        ++run;
        continue;
      }
      to.count(run, 0);
      run = 0;
      writeDifference(to, count, named, before, index);
      before = index;
    }
  }
  if (run > 0) to.count(run, 0);
}
