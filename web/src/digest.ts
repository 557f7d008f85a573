// Digests of entities, by which both ends find that they differ (docs/state-format.md).
import type { BitWriter } from "./bits.js";
import type { EntityModel, Row } from "./columns.js";
import type { State } from "./world_state.js";

/** mix() of the digest, in two halves of 64 bits. */
export class Digest {
  private low: number;
  private high = 0;
  constructor(from = 0x85a308d3) {
    this.low = from >>> 0;
  }
  add(word: number): void {
    const { low, high } = this;
    const a = (low ^ word) >>> 0;
    // (high:a) * 0x9e3779b9:7f4a7c15 modulo 2^64.
    const [a0, a1] = [a & 0xffff, a >>> 16];
    const [b0, b1] = [0x7c15, 0x7f4a];
    const p00 = a0 * b0;
    const middle = a1 * b0 + (p00 >>> 16);
    const middle2 = a0 * b1 + (middle & 0xffff);
    const productLow = ((middle2 << 16) | (p00 & 0xffff)) >>> 0;
    const productHigh = (a1 * b1 + Math.floor(middle / 65536) + Math.floor(middle2 / 65536)) >>> 0;
    const newHigh = (productHigh + Math.imul(high, 0x7f4a7c15) + Math.imul(a, 0x9e3779b9)) >>> 0;
    // ^ (s >> 29)
    this.low = (productLow ^ ((low >>> 29) | (high << 3))) >>> 0;
    this.high = (newHigh ^ (high >>> 29)) >>> 0;
  }
  get value(): number {
    return (this.low ^ this.high) >>> 0;
  }
}

export function addColumn(to: Digest, model: EntityModel, row: Row, c: number, isOwner: boolean): void {
  const column = model.columns[c]!;
  if (column.ownerOnly && !isOwner) return;
  if (column.form !== "varying") return to.add(row.numbers[c]!);
  const held = row.varying[c];
  to.add(held?.bits ?? 0);
  if (!held) return;
  const { bytes } = held;
  for (let i = 0; i < bytes.length; i += 4) {
    to.add((bytes[i]! | ((bytes[i + 1] ?? 0) << 8) | ((bytes[i + 2] ?? 0) << 16) | ((bytes[i + 3] ?? 0) << 24)) >>> 0);
  }
}

/** Writes what this end has of each entity: a hash of each column, as far as `room` bits go. */
export function writeReport(to: BitWriter, room: number, known: readonly (readonly [id: number, state: State])[], models: readonly EntityModel[]): void {
  let before = 0;
  for (const [id, last] of known) {
    const model = models[last.type]!;
    if (to.length + 80 + model.columns.length * 8 > room) break;
    to.bool(true);
    to.count(id - before - 1, 3);
    before = id;
    to.put(last.generation, 4);
    to.put(last.tick & 0xffff, 16);
    to.count(model.columns.length, 3);
    for (let c = 0; c < model.columns.length; ++c) {
      const hash = new Digest();
      addColumn(hash, model, last.row, c, last.owner);
      to.put(hash.value & 255, 8);
    }
  }
  to.bool(false);
}
