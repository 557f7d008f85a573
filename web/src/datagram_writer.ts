// Writes the frames of one datagram (docs/wire-format.md, "Frames"), and notes what it holds, for its acknowledgement
// or loss.
import { BitWriter, countBits } from "./bits.js";
import { maxPerDatagram, type Channel, type SentRef } from "./channel.js";
import { numberOf, type ErrorCode } from "./errors.js";
import { refusals } from "./link_types.js";
import { chunkBytes, type Message, type Outgoing } from "./reliable.js";
import { bytesOfStart } from "./text.js";

const maxReason = 96;
/** Copies leave two thirds of a datagram to what is new. */
const copiesShare = 1 / 3;

export class DatagramWriter {
  readonly refs: SentRef[] = [];
  private readonly start: number;
  /** By channel: messages here, the number that follows the last one, and sequenced messages that first leave here. */
  private readonly counts: number[];
  private readonly follows: number[];
  private readonly places: number[];

  constructor(
    private readonly out: BitWriter, private readonly number: number, private readonly channels: readonly Channel[],
    private readonly channelBits: number, private readonly max: number,
  ) {
    this.start = out.length;
    this.counts = channels.map(() => 0);
    this.follows = channels.map(() => -1);
    this.places = channels.map(() => 0);
  }

  get isEmpty(): boolean {
    return this.out.length === this.start;
  }
  private fits(bits: number): boolean {
    return this.out.length + bits <= this.max;
  }
  private control(type: number): void {
    this.out.put(6, 3);
    this.out.put(type, 3);
  }

  ping(): void {
    this.control(0);
  }
  response(bytes: Uint8Array): void {
    this.control(4);
    this.out.bits(bytes, 64);
  }
  /** Grants that are due on reliable channels. */
  windows(): void {
    for (const [index, channel] of this.channels.entries()) {
      if (!channel.receiver?.wantsGrant) continue;
      this.control(2);
      this.out.put(index, this.channelBits);
      this.out.put(channel.receiver.grant() % 0x1_0000_0000, 32);
      this.refs.push({ what: "window", channel });
    }
  }
  /** False: it does not fit. */
  payload({ bytes, bits }: Message): boolean {
    if (!this.fits(3 + countBits(bits, 6) + bits)) return false;
    this.out.put(4, 3);
    this.out.count(bits, 6);
    this.out.bits(bytes, bits);
    return true;
  }
  close({ code, reason }: { code: ErrorCode; reason: string }): boolean {
    if (!this.fits(13 + 8 + maxReason * 8)) return false;
    const bytes = bytesOfStart(reason, maxReason);
    this.control(1);
    this.out.put(refusals.has(code) ? numberOf(code) : 0, 8);
    this.out.put(bytes.length, 7);
    this.out.bits(bytes, bytes.length * 8);
    this.refs.push({ what: "close" });
    return true;
  }

  /** Copies of small messages in flight that no loss was seen of. Returns their number. */
  copies(now: number, gap: number, most: number): number {
    let written = 0;
    const max = this.out.length + (this.max - this.out.length) * copiesShare;
    for (const [index, channel] of this.channels.entries()) {
      const { sender } = channel;
      if (!sender) continue;
      for (let copy = sender.peekCopy(now, gap, most); copy; copy = sender.peekCopy(now, gap, most)) {
        if (this.out.length + copy.bits > max || !this.reliable(index, channel, copy)) break;
        sender.sent(copy, 0, now);
        ++written;
      }
    }
    return written;
  }

  /** What waits on the channels, the urgent first. */
  messages(now: number, isStream: boolean): void {
    const order = [...this.channels.entries()].sort(([, a], [, b]) => b.urgency - a.urgency);
    for (const [index, channel] of order) {
      if (channel.sender) this.reliables(now, index, channel);
      else this.unreliables(index, channel, isStream ? 1 : channel.info.repeat ?? 1);
    }
  }

  private reliables(now: number, index: number, channel: Channel): void {
    const sender = channel.sender!;
    for (let next = sender.peek(); next; next = sender.peek()) {
      if (next.isWhole) {
        if (!this.reliable(index, channel, next)) return;
        sender.sent(next, 0, now);
      } else {
        const end = this.chunks(index, channel, next);
        if (end === next.first) return;
        sender.sent(next, end, now);
      }
    }
  }
  private reliable(index: number, channel: Channel, { number, bytes, bits }: Outgoing): boolean {
    const isNext = this.follows[index] === number;
    if (this.counts[index]! >= maxPerDatagram || !this.fits(1 + this.channelBits + (isNext ? 1 : 17) + countBits(bits, 6) + bits)) return false;
    this.head(index);
    this.out.bool(isNext);
    if (!isNext) this.out.put(number & 0xffff, 16);
    this.follows[index] = number + 1;
    this.body(bytes, bits);
    this.refs.push({ what: "message", channel, number, first: 0, chunks: 0 });
    return true;
  }
  private head(index: number): void {
    ++this.counts[index]!;
    this.out.bool(true);
    this.out.put(index, this.channelBits);
  }
  private body(bytes: Uint8Array, bits: number): void {
    this.out.count(bits, 6);
    this.out.bits(bytes, bits);
  }
  /** Writes as many chunks as fit. Returns the one behind the last. */
  private chunks(index: number, channel: Channel, { number, bytes, bits, first, end }: Outgoing): number {
    const size = (bits + 7) >>> 3;
    const heads = 3 + this.channelBits + 16 + countBits(bits, 10) + countBits(first, 4) + countBits(end - first, 3);
    const fitting = Math.floor((this.max - this.out.length - heads) / (chunkBytes * 8));
    const chunks = Math.min(end - first, Math.max(0, fitting));
    if (chunks === 0 || this.counts[index]! >= maxPerDatagram) return first;
    ++this.counts[index]!;
    this.out.put(2, 3);
    this.out.put(index, this.channelBits);
    this.out.put(number & 0xffff, 16);
    this.out.count(bits, 10);
    this.out.count(first, 4);
    this.out.count(chunks - 1, 3);
    const part = bytes.subarray(first * chunkBytes, Math.min(size, (first + chunks) * chunkBytes));
    this.out.bits(part, part.length * 8);
    this.refs.push({ what: "message", channel, number, first, chunks });
    return first + chunks;
  }

  /** Of a sequenced channel with `repeat n` each datagram carries the newest n that are not acknowledged; copies first. */
  private unreliables(index: number, channel: Channel, repeat: number): void {
    const { queue } = channel;
    const isSequenced = channel.info.delivery === "sequenced";
    const fresh = Math.min(queue.length, repeat);
    if (queue.length === 0 && this.isEmpty) return;
    for (const { bytes, bits, packet, place } of repeat > 1 ? channel.recent.slice(-Math.max(1, repeat - fresh)) : []) {
      const back = this.number - packet - 1;
      if (fresh >= repeat || this.counts[index]! >= maxPerDatagram) break;
      if (!this.fits(2 + this.channelBits + countBits(back, 1) + countBits(place, 0) + countBits(bits, 6) + bits)) break;
      this.head(index);
      this.out.bool(false);
      this.out.count(back, 1);
      this.out.count(place, 0);
      this.body(bytes, bits);
      this.refs.push({ what: "copy", channel, packet, place });
    }
    while (queue[0] && this.counts[index]! < maxPerDatagram) {
      const { bytes, bits } = queue[0];
      if (!this.fits(1 + this.channelBits + (isSequenced ? 1 : 0) + countBits(bits, 6) + bits)) break;
      queue.shift();
      this.head(index);
      if (isSequenced) this.out.bool(true);
      this.body(bytes, bits);
      if (repeat < 2) continue;
      const origin = { packet: this.number, place: this.places[index]!++ };
      channel.recent.push({ bytes, bits, ...origin });
      if (channel.recent.length > repeat) channel.recent.shift();
      this.refs.push({ what: "copy", channel, ...origin });
    }
  }
}
