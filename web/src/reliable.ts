// Reliable and ordered delivery: messages are kept until a packet with them is acknowledged, and sent again when all
// packets with them are lost; the receiver reorders, and drops what came twice. Large messages travel in chunks.
import { BitReader } from "./bits.js";
import { fail } from "./errors.js";

export const firstWindowBytes = 65536;
export const messageCost = 32;
export const maxMessageBytes = 1 << 20;
/** The window that a receiver grants: the largest message, and room beside it. */
export const windowBytes = maxMessageBytes + firstWindowBytes;
export const windowMessages = 512;
export const chunkBytes = 64;
export const maxWholeBytes = 1104;
/** Messages up to here are sent in several copies on a path that loses packets. */
export const smallBytes = 256;
const recentKept = 32;
const parityKept = 8;

/** The number nearest to `near` with these low 16 bits. */
export function expand16(near: number, low: number): number {
  const number = near - (near % 65536) + low;
  return number > near + 32768 ? number - 65536 : number <= near - 32768 ? number + 65536 : number;
}

export interface Message { readonly bytes: Uint8Array; readonly bits: number }
const sizeOf = (message: Message): number => (message.bits + 7) >>> 3;
const costOf = (message: Message): number => sizeOf(message) + messageCost;

/** Fate of a chunk: not sent, in flight, acknowledged, lost. */
type Chunk = 0 | 1 | 2 | 3;
interface InFlight extends Message {
  readonly number: number;
  /** Of a message in chunks. */
  readonly chunks: Chunk[] | undefined;
  /** Whether the whole message waits to be sent again. */
  isLost: boolean;
  wasLost: boolean;
  copies: number;
  /** Copies that are not known to be lost. */
  underWay: number;
  lastSent: number;
}

/** A whole message, or a run of its chunks. */
export interface Outgoing extends Message {
  readonly number: number;
  readonly isWhole: boolean;
  readonly first: number;
  readonly end: number;
}

export class ReliableSender {
  readonly queue: Message[] = [];
  /** What the peer permits to start in all, in bytes with messageCost for each message. */
  limit = firstWindowBytes;
  private started = 0;
  private next = 0;
  private readonly flight = new Map<number, InFlight>();
  /** Numbers in flight that have something to send: chunks, or themselves after a loss. */
  private readonly wanting = new Set<number>();

  get isIdle(): boolean {
    return this.queue.length === 0 && this.flight.size === 0;
  }

  /** What leaves next: lost before new. Nothing if nothing waits or the window is full. */
  peek(): Outgoing | undefined {
    if (this.wanting.size > 0) {
      const slot = this.flight.get(Math.min(...this.wanting))!;
      if (!slot.chunks) return { ...slot, isWhole: true, first: 0, end: 0 };
      // One run of chunks with the same fate: lost ones first.
      const wanted = slot.chunks.includes(3) ? 3 : 0;
      const first = slot.chunks.indexOf(wanted);
      let end = first;
      while (slot.chunks[end] === wanted) ++end;
      return { ...slot, isWhole: false, first, end };
    }
    const [message] = this.queue;
    const oldest = this.flight.keys().next().value ?? this.next;
    if (!message || this.next - oldest >= windowMessages || this.started + costOf(message) > this.limit) return undefined;
    const isWhole = sizeOf(message) <= maxWholeBytes;
    return { ...message, number: this.next, isWhole, first: 0, end: isWhole ? 0 : Math.ceil(sizeOf(message) / chunkBytes) };
  }

  /** What peek() gave is in a packet now; of chunks those before `end`. */
  sent({ number, first }: Outgoing, end: number, now: number): void {
    if (number === this.next) {
      const message = this.queue.shift()!;
      ++this.next;
      this.started += costOf(message);
      const chunks = sizeOf(message) <= maxWholeBytes ? undefined : new Array<Chunk>(Math.ceil(sizeOf(message) / chunkBytes)).fill(0);
      this.flight.set(number, { ...message, number, chunks, isLost: false, wasLost: false, copies: 0, underWay: 0, lastSent: now });
    }
    const slot = this.flight.get(number)!;
    slot.lastSent = now;
    if (slot.chunks) slot.chunks.fill(1, first, end);
    else {
      ++slot.copies;
      ++slot.underWay;
      slot.isLost = false;
    }
    this.note(slot);
  }

  private note(slot: InFlight): void {
    if (slot.isLost || slot.chunks?.some((chunk) => chunk === 0 || chunk === 3)) this.wanting.add(slot.number);
    else this.wanting.delete(slot.number);
  }

  private mayBeCopied(slot: InFlight, most: number): boolean {
    return !slot.chunks && !slot.isLost && sizeOf(slot) <= smallBytes && slot.copies < (slot.wasLost ? Math.max(3, most) : most);
  }
  /** A small message whose next copy is due: the last one left `gap` ago, and there are fewer than `most`. */
  peekCopy(now: number, gap: number, most: number): Outgoing | undefined {
    for (const slot of this.flight.values()) {
      if (now - slot.lastSent >= gap && this.mayBeCopied(slot, most)) return { ...slot, isWhole: true, first: 0, end: 0 };
    }
    return undefined;
  }
  /** When the next copy is worth a datagram of its own. */
  nextCopy(most: number, latest: number, latestAgain: number): number {
    let next = Infinity;
    for (const slot of this.flight.values()) {
      if (this.mayBeCopied(slot, most)) next = Math.min(next, slot.lastSent + (slot.wasLost ? latestAgain : latest));
    }
    return next;
  }

  acked(number: number, first: number, chunks: number): void {
    const slot = this.flight.get(number);
    if (!slot) return;
    slot.chunks?.fill(2, first, first + chunks);
    if (slot.chunks && !slot.chunks.every((chunk) => chunk === 2)) return this.note(slot);
    this.flight.delete(number);
    this.wanting.delete(number);
  }
  /** A packet with the message was lost. `force`, for a probe: it goes again, lost or not. */
  lost(number: number, first: number, chunks: number, force = false): void {
    const slot = this.flight.get(number);
    if (!slot) return;
    if (slot.chunks) {
      for (let i = first; i < first + chunks; ++i) if (slot.chunks[i] === 1) slot.chunks[i] = 3;
    } else {
      if (!force && slot.underWay > 0) --slot.underWay;
      if (!force && slot.underWay > 0) return;
      slot.isLost = slot.wasLost = true;
      slot.copies = 0;
    }
    this.note(slot);
  }
  setLimit(low32: number): void {
    const ahead = (low32 - this.limit) | 0;
    if (ahead > 0) this.limit += ahead;
  }
}

/** A message that arrives in chunks. */
export class Assembly {
  readonly bytes: Uint8Array;
  private readonly has: Uint8Array;
  private left: number;
  constructor(readonly bits: number) {
    this.bytes = new Uint8Array((bits + 7) >>> 3);
    this.left = Math.ceil(this.bytes.length / chunkBytes);
    this.has = new Uint8Array(this.left);
  }
  get isComplete(): boolean {
    return this.left === 0;
  }
  add(totalBits: number, first: number, chunks: number, bytes: Uint8Array): void {
    if (totalBits !== this.bits) fail("bad_piece", "pieces of a message contradict each other");
    this.bytes.set(bytes, first * chunkBytes);
    for (let i = first; i < first + chunks; ++i) {
      this.left -= 1 - this.has[i]!;
      this.has[i] = 1;
    }
  }
}

interface Parity { first: number; members: number[]; lengths: number; bits: number; bytes: Uint8Array }

export class ReliableReceiver {
  /** Number of the first message that is not delivered. */
  private base = 0;
  private started = 0;
  private readonly slots = new Map<number, { assembly?: Assembly; message?: Message; isDelivered: boolean }>();
  /** Bytes of the window that the program has taken, and that were granted. */
  consumed = 0;
  granted = firstWindowBytes;
  isGrantSent = false;
  duplicates = 0;
  recovered = 0;
  private recent: Map<number, Message> | undefined;
  private parities: Parity[] = [];

  constructor(private readonly isOrdered: boolean, private readonly deliver: (payload: BitReader, bits: number) => void) {}

  receive(low: number, payload: BitReader, bits: number): void {
    const number = this.numberOf(low);
    if (number === undefined) return;
    const slot = this.slotOf(number, bits);
    if (slot.assembly) fail("bad_piece", "a message in pieces comes whole");
    this.complete(number, { bytes: payload.bits(bits), bits });
    this.recover();
  }
  receivePiece(low: number, totalBits: number, first: number, chunks: number, bytes: Uint8Array): void {
    const number = this.numberOf(low);
    if (number === undefined) return;
    const slot = this.slotOf(number, totalBits);
    slot.assembly ??= new Assembly(totalBits);
    slot.assembly.add(totalBits, first, chunks, bytes);
    if (slot.assembly.isComplete) this.complete(number, { bytes: slot.assembly.bytes, bits: totalBits });
  }
  /** Parity over several small messages, which gives the one of them that is missing (docs/wire-format.md). */
  receiveParity(low: number, others: number, lengths: number, payload: BitReader, bits: number): void {
    this.recent ??= new Map();
    const first = expand16(this.base, low);
    const members = [first];
    for (let i = 0; i < 4; ++i) if ((others >> i) & 1) members.push(first + i + 1);
    this.parities.push({ first, members, lengths, bits, bytes: payload.bits(bits) });
    this.recover();
    if (this.parities.length > parityKept) this.parities.shift();
  }

  /** Whether messages that arrived wait for one of which nothing has. */
  get isStalled(): boolean {
    return this.slots.size > 0 && !this.slots.has(this.base);
  }

  /** Window frame that is due: the program has taken half of the window. */
  get wantsGrant(): boolean {
    return !this.isGrantSent || this.consumed + windowBytes - this.granted >= windowBytes / 2;
  }
  grant(): number {
    this.granted = this.consumed + windowBytes;
    this.isGrantSent = true;
    return this.granted;
  }

  /** The whole number of a message; nothing for one that was delivered before. */
  private numberOf(low: number): number | undefined {
    const number = expand16(this.base, low);
    if (number >= this.base + windowMessages) fail("window_exceeded", "the peer has more messages in flight than permitted");
    const slot = this.slots.get(number);
    if (number >= this.base && !slot?.message && !slot?.isDelivered) return number;
    ++this.duplicates;
    return undefined;
  }
  private slotOf(number: number, bits: number): { assembly?: Assembly; message?: Message; isDelivered: boolean } {
    let slot = this.slots.get(number);
    if (slot) return slot;
    this.started += ((bits + 7) >>> 3) + messageCost;
    if (this.started > this.granted) fail("window_exceeded", "the peer sent more than its window permits");
    this.slots.set(number, (slot = { isDelivered: false }));
    return slot;
  }

  private complete(number: number, message: Message): void {
    const slot = this.slots.get(number)!;
    delete slot.assembly;
    slot.message = message;
    if (this.recent && sizeOf(message) <= smallBytes) {
      this.recent.set(number, message);
      if (this.recent.size > recentKept) this.recent.delete(this.recent.keys().next().value!);
    }
    if (!this.isOrdered) this.handOver(slot);
    // The window moves over what is delivered; of an ordered channel messages that waited go now.
    for (let first = this.slots.get(this.base); first?.message || first?.isDelivered; first = this.slots.get(this.base)) {
      if (!first.isDelivered) this.handOver(first);
      this.slots.delete(this.base++);
    }
  }
  private handOver(slot: { message?: Message; isDelivered: boolean }): void {
    const { bytes, bits } = slot.message!;
    delete slot.message;
    slot.isDelivered = true;
    this.consumed += ((bits + 7) >>> 3) + messageCost;
    this.deliver(new BitReader(bytes, bits), bits);
  }

  /** Each round may complete a message, and that another parity. */
  private recover(): void {
    for (let again = this.parities.length > 0; again; ) {
      again = false;
      this.parities = this.parities.filter((parity) => {
        const missing = parity.members.filter((number) => !this.recent!.has(number));
        if (missing.length > 1 && missing.every((number) => this.isAbsent(number))) return true;
        const [number] = missing;
        if (missing.length !== 1 || !this.isAbsent(number!)) return false;
        again = this.rebuild(parity, number!) || again;
        return false;
      });
    }
  }
  private isAbsent(number: number): boolean {
    return number >= this.base && !this.slots.has(number);
  }
  private rebuild(parity: Parity, missing: number): boolean {
    const bytes = new Uint8Array(smallBytes);
    bytes.set(parity.bytes);
    let bits = parity.lengths;
    for (const number of parity.members) {
      const known = this.recent!.get(number);
      if (!known) continue;
      bits ^= known.bits;
      known.bytes.forEach((byte, i) => (bytes[i]! ^= byte));
    }
    if (bits > parity.bits) fail("bad_piece", "parity that fits no message");
    if (missing >= this.base + windowMessages) fail("window_exceeded", "the peer has more messages in flight than permitted");
    this.slotOf(missing, bits);
    ++this.recovered;
    this.complete(missing, { bytes: bytes.subarray(0, (bits + 7) >>> 3), bits });
    return true;
  }
}
