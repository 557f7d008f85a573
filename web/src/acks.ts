// Acknowledgements: which packets arrived, as ranges with the delay of the newest (docs/wire-format.md).
import type { BitReader, BitWriter } from "./bits.js";
import { fail } from "./errors.js";

const ackSpan = 64;
/** A number so far below the newest is not accepted any more. */
const replayWindow = 512;
const delays = [0, 1, 2, 3, 4, 6, 8, 10, 13, 17, 22, 28, 36, 46, 60, 80];

export type AckRange = [first: number, last: number];

/** Reads an ack block, ranges newest first. Fails with `bad_ack` for what was never sent: `nextNumber` and later. */
export function readAckBlock(reader: BitReader, nextNumber: number, newestNarrow: number): { ranges: AckRange[]; delay: number } {
  const isShort = reader.bool();
  const isWide = !isShort && reader.bool();
  const low = reader.get(isWide ? 16 : 6);
  const delay = delays[reader.get(4)]!;
  const count = isShort ? 1 : reader.count(0) + 1;
  let last: number;
  if (isWide) {
    last = nextNumber - (nextNumber % 65536) + low;
    if (last > nextNumber + 32768) last -= 65536;
    else if (last <= nextNumber - 32768) last += 65536;
    if (last < 0) last += 65536;
  } else {
    const back = (newestNarrow - low) & 63;
    last = newestNarrow - back;
  }
  const badAck = (): never => fail("bad_ack", "the peer acknowledged a packet that was never sent");
  if (last < 0 || last >= nextNumber || count > 16) badAck();
  if (isShort) return { ranges: [[Math.max(0, last - 15), last]], delay };
  const ranges: AckRange[] = [];
  for (let i = 0; i < count; ++i) {
    const gap = i === 0 ? 0 : reader.count(0) + 2;
    const before = reader.count(2);
    if (gap > last || before > last - gap) badAck();
    last -= gap;
    ranges.push([last - before, last]);
    last -= before;
  }
  return { ranges, delay };
}

/** The numbers that arrived, of the newest 512; acknowledged are those of the newest 64. */
export class ReceivedPackets {
  newest = -1;
  private newestAt = 0;
  private newestWide = false;
  /** Bit `number % replayWindow`, in words of 32. */
  private readonly bits = new Uint32Array(replayWindow / 32);

  /** Whether a number may be new: neither seen nor too old to tell. */
  isNew(number: number): boolean {
    return number > this.newest || (this.newest - number < replayWindow && !this.arrived(this.newest - number));
  }
  /** Marks a number as arrived. True if others are missing before it. */
  note(number: number, at: number, isWide: boolean): boolean {
    const isNext = number === this.newest + 1;
    for (let passed = Math.max(this.newest + 1, number - replayWindow + 1); passed <= number; ++passed) this.set(passed, false);
    this.set(number, true);
    if (number > this.newest) {
      this.newest = number;
      this.newestAt = at;
      this.newestWide = isWide;
    }
    return !isNext;
  }
  private set(number: number, arrived: boolean): void {
    const at = number % replayWindow;
    if (arrived) this.bits[at >>> 5]! |= 1 << (at & 31);
    else this.bits[at >>> 5]! &= ~(1 << (at & 31));
  }
  /** Whether the number `back` before the newest arrived, 0 to 511. */
  arrived(back: number): boolean {
    const at = (this.newest - back) % replayWindow;
    return back <= this.newest && ((this.bits[at >>> 5]! >>> (at & 31)) & 1) === 1;
  }

  /** Writes what arrived, down to `ackFloor`: the peer knows of what is older. */
  write(now: number, out: BitWriter, ackFloor: number): void {
    const ranges: [first: number, last: number][] = [];
    const floor = Math.max(Math.min(ackFloor, this.newest), this.newest - ackSpan + 1, 0);
    for (let number = this.newest; number >= floor && ranges.length < 17; --number) {
      if (!this.arrived(this.newest - number)) continue;
      const range = ranges.at(-1);
      if (range && range[0] === number + 1) range[0] = number;
      else ranges.push([number, number]);
    }
    ranges.length = Math.min(ranges.length, 16);
    let whole = true;
    for (let back = 0; back < 16 && back <= this.newest; ++back) whole &&= this.arrived(back);
    const waited = now - this.newestAt;
    let step = delays.length - 1;
    while (delays[step]! > waited) --step;
    // The short form reports sixteen numbers: it would leave out what arrived before these.
    const isShort = whole && !this.newestWide && ranges.length === 1 && ranges[0]![0] >= Math.max(0, this.newest - 15);
    out.bool(isShort);
    if (!isShort) out.bool(this.newestWide);
    out.put(this.newest & (this.newestWide ? 0xffff : 0x3f), this.newestWide ? 16 : 6);
    out.put(Math.max(0, step), 4);
    if (isShort) return;
    out.count(ranges.length - 1, 0);
    ranges.forEach(([first, last], i) => {
      if (i > 0) out.count(ranges[i - 1]![0] - last - 2, 0);
      out.count(last - first, 2);
    });
  }
}
