// Bit reader and writer: values are packed from the lowest bit of the first byte upwards (docs/wire-format.md).
import { fail } from "./errors.js";

/** Least b with 2^b >= values: the bits of an index below `values`. */
export function bitsFor(values: number | bigint): number {
  if (typeof values === "bigint") return values <= 1n ? 0 : (values - 1n).toString(2).length;
  if (values <= 1) return 0;
  const last = values - 1;
  return last < 0x1_0000_0000 ? 32 - Math.clz32(last) : 64 - Math.clz32(Math.floor(last / 0x1_0000_0000));
}

const two32 = 0x1_0000_0000;

/** Reads bits. Throws WireError `truncated` past the end; never reads outside of its bytes. */
export class BitReader {
  private at: number;
  constructor(private readonly bytes: Uint8Array, private end: number = bytes.length * 8, start = 0) {
    this.at = start;
  }

  get left(): number {
    return this.end - this.at;
  }
  /** Position in bits from the start of the bytes. */
  get position(): number {
    return this.at;
  }

  bool(): boolean {
    if (this.at >= this.end) fail("truncated", "the datagram ends inside a field");
    const bit = (this.bytes[this.at >>> 3]! >>> (this.at & 7)) & 1;
    ++this.at;
    return bit === 1;
  }

  /** The next `bits` bits, 0 to 53. */
  get(bits: number): number {
    if (bits > 32) {
      const low = this.get(32);
      return low + this.get(bits - 32) * two32;
    }
    if (bits > this.end - this.at) fail("truncated", "the datagram ends inside a field");
    const value = this.peek(bits);
    this.at += bits;
    return value;
  }

  /** The next `bits` bits, 0 to 32, without passing over them. Zeros stand behind the end. */
  peek(bits: number): number {
    if (bits === 0) return 0;
    const { bytes, at } = this;
    const i = at >>> 3;
    const shift = at & 7;
    let value = (bytes[i]! | (bytes[i + 1]! << 8) | (bytes[i + 2]! << 16) | (bytes[i + 3]! << 24)) >>> shift;
    if (shift + bits > 32) value |= bytes[i + 4]! << (32 - shift);
    const left = this.end - at;
    const kept = bits < left ? bits : left;
    return kept >= 32 ? value >>> 0 : value & ((1 << kept) - 1);
  }

  /** Passes over bits that peek() showed. */
  skip(bits: number): void {
    if (bits > this.end - this.at) fail("truncated", "the datagram ends inside a field");
    this.at += bits;
  }

  /** The next `bits` bits, 0 to 64. */
  big(bits: number): bigint {
    if (bits <= 32) return BigInt(this.get(bits));
    const low = BigInt(this.get(32));
    return low | (BigInt(this.get(bits - 32)) << 32n);
  }

  /** Exp-Golomb code of order k: `count(k)` in docs/wire-format.md. Values of 2^32 and above are an error. */
  count(k: number): number {
    let zeros = 0;
    while (!this.bool()) {
      if (++zeros > 32) fail("value_range", "a count is larger than 32 bits");
    }
    const head = 2 ** zeros + this.get(zeros);
    const value = (head - 1) * 2 ** k + this.get(k);
    if (value >= two32) fail("value_range", "a count is larger than 32 bits");
    return value;
  }

  /** The next `bits` bits as bytes, the last one filled up with zeros. */
  bits(bits: number): Uint8Array {
    if (bits > this.left) fail("truncated", "the datagram ends inside a field");
    const out = new Uint8Array((bits + 7) >>> 3);
    if ((this.at & 7) === 0) {
      out.set(this.bytes.subarray(this.at >>> 3, (this.at >>> 3) + out.length));
      if (bits & 7) out[out.length - 1]! &= (1 << (bits & 7)) - 1;
      this.at += bits;
      return out;
    }
    let i = 0;
    let rest = bits;
    for (; rest >= 8; rest -= 8) out[i++] = this.get(8);
    if (rest > 0) out[i] = this.get(rest);
    return out;
  }
  bytesOf(count: number): Uint8Array {
    return this.bits(count * 8);
  }
  /** A reader of the next `bits` bits, which this one passes over. Shares the bytes. */
  part(bits: number): BitReader {
    if (bits > this.left) fail("truncated", "the datagram ends inside a field");
    const made = new BitReader(this.bytes, this.at + bits, this.at);
    this.at += bits;
    return made;
  }
}

/** Writes bits into bytes that grow. */
export class BitWriter {
  private bytes: Uint8Array;
  private at = 0;
  constructor(room = 64) {
    this.bytes = new Uint8Array(room);
  }

  /** Bits that were written. */
  get length(): number {
    return this.at;
  }

  clear(): void {
    this.bytes.fill(0, 0, (this.at + 7) >>> 3);
    this.at = 0;
  }

  bool(value: boolean): void {
    this.put(value ? 1 : 0, 1);
  }

  /** Writes the low `bits` bits, 0 to 53, of a whole number >= 0. */
  put(value: number, bits: number): void {
    if (bits > 32) {
      this.put(value % two32, 32);
      this.put(Math.floor(value / two32), bits - 32);
      return;
    }
    if (bits === 0) return;
    this.reserve(bits);
    let i = this.at >>> 3;
    const shift = this.at & 7;
    const { bytes } = this;
    const low = bits === 32 ? value >>> 0 : (value & ((1 << bits) - 1)) >>> 0;
    bytes[i]! |= low << shift;
    let done = 8 - shift;
    while (done < bits) {
      bytes[++i] = low >>> done;
      done += 8;
    }
    this.at += bits;
  }

  big(value: bigint, bits: number): void {
    if (bits > 32) {
      this.put(Number(value & 0xffff_ffffn), 32);
      this.put(Number(value >> 32n), bits - 32);
    } else {
      this.put(Number(value), bits);
    }
  }

  count(value: number, k: number): void {
    const head = Math.floor(value / 2 ** k) + 1;
    const width = bitsFor(head + 1);
    this.put(0, width - 1);
    this.put(1, 1);
    this.put(head - 2 ** (width - 1), width - 1);
    this.put(k === 0 ? 0 : value % 2 ** k, k);
  }

  /** The first `bits` bits of `from`. */
  bits(from: Uint8Array, bits: number): void {
    this.reserve(bits);
    if ((this.at & 7) === 0) {
      const whole = bits >>> 3;
      this.bytes.set(from.subarray(0, whole), this.at >>> 3);
      this.at += whole * 8;
      if (bits & 7) this.put(from[whole]! & ((1 << (bits & 7)) - 1), bits & 7);
      return;
    }
    let rest = bits;
    for (let i = 0; rest > 0; ++i, rest -= 8) {
      this.put(from[i]! & (rest < 8 ? (1 << rest) - 1 : 255), Math.min(8, rest));
    }
  }

  /** Zeros up to the next byte. */
  align(): void {
    this.at = (this.at + 7) & ~7;
    this.reserve(0);
  }

  /** A copy of what was written; the last byte is filled up with zeros. */
  finish(): Uint8Array {
    return this.bytes.slice(0, (this.at + 7) >>> 3);
  }
  /** What was written, without a copy: valid until the next write or clear(). */
  view(): Uint8Array {
    return this.bytes.subarray(0, (this.at + 7) >>> 3);
  }

  private reserve(bits: number): void {
    const need = ((this.at + bits + 7) >>> 3) + 1;
    if (need <= this.bytes.length) return;
    const grown = new Uint8Array(Math.max(need, this.bytes.length * 2));
    grown.set(this.bytes);
    this.bytes = grown;
  }
}

/** Bits of the Exp-Golomb code of order k. */
export function countBits(value: number, k: number): number {
  return 2 * bitsFor(Math.floor(value / 2 ** k) + 2) - 1 + k;
}
