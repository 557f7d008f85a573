// What a client keeps of entities and snapshots.
import type { BitReader } from "./bits.js";
import type { Row } from "./columns.js";
import { window } from "./snapshot_history.js";

export const recordsKept = 2 * window;
export const longestMemory = 24;
export const fragmentBits = 128;
export const maxEvents = 65536;
/** Ticks beyond the newest that are drawn, and ticks between two states that are blended. */
export const maxAhead = 5;
export const longestBlend = 4;

export type Update = "full" | "delta" | "despawn";
export interface State {
  snapshot: number;
  /** Tick of the snapshot, and of the values. */
  at: number;
  tick: number;
  update: Update;
  generation: number;
  type: number;
  owner: boolean;
  row: Row;
}
export interface EntitySlot {
  received: State[];
  isThere: boolean;
  generation: number;
  type: number;
  owner: boolean;
  at: number;
  tick: number;
  row: Row;
}
export interface Sections { continuing: boolean; unexpected: boolean; spawns: boolean; fragments: boolean }

export interface WorldEvent {
  what: "spawned" | "updated" | "despawned";
  id: number;
  generation: number;
  type: number;
}
export interface WorldCounts {
  /** Snapshots that were read, that wait for others, and that could not be read in the end. */
  snapshots: number;
  waiting: number;
  unread: number;
  /** Digests that were compared, and that differed. */
  digests: number;
  desyncs: number;
  eventsLost: number;
}

export const emptyRow: Row = { numbers: [], varying: [] };
export const unfolded = (code: number): number => (code % 2 === 0 ? code / 2 : -(code + 1) / 2);

/** Drops states before the newest one up to `snapshot`. */
export function trim(received: State[], snapshot: number): void {
  const half = received.length >> 1;
  if (received[half]!.snapshot > snapshot) return;
  let keep = half;
  while (keep + 1 < received.length && received[keep + 1]!.snapshot <= snapshot) ++keep;
  received.splice(0, keep);
}

export function sameRow(a: Row, b: Row): boolean {
  if (a === b) return true;
  for (let c = 0; c < b.numbers.length; ++c) {
    if (a.numbers[c] !== b.numbers[c]) return false;
    const [left, right] = [a.varying[c], b.varying[c]];
    if (left === right) continue;
    if (!left || !right || left.bits !== right.bits || left.bytes.some((byte, i) => byte !== right.bytes[i])) return false;
  }
  return a.numbers.length === b.numbers.length;
}

/** Puts a number into an ascending list, or takes it out. */
export function setMember(list: number[], id: number, has: boolean): void {
  let [low, high] = [0, list.length];
  while (low < high) {
    const middle = (low + high) >> 1;
    if (list[middle]! < id) low = middle + 1;
    else high = middle;
  }
  if (has && list[low] !== id) list.splice(low, 0, id);
  if (!has && list[low] === id) list.splice(low, 1);
}

export function readSections(from: BitReader): Sections {
  let listed = from.get(3);
  const fragments = listed === 1;
  if (fragments) listed = from.get(3);
  return { continuing: (listed & 1) !== 0, unexpected: (listed & 2) !== 0, spawns: (listed & 4) !== 0, fragments };
}
