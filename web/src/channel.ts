// The state of one channel: messages that wait to leave for the server, and messages that came from it.
import { BitReader } from "./bits.js";
import { fail } from "./errors.js";
import type { ChannelInfo } from "./protocol.js";
import { Assembly, ReliableReceiver, ReliableSender, maxWholeBytes, type Message } from "./reliable.js";

export { chunkBytes, maxMessageBytes } from "./reliable.js";
/** Messages of a channel in one datagram. */
export const maxPerDatagram = 48;
const maxQueued = 4096;
const maxUnreliable = 64;
/** Unfinished messages that are kept: a peer that starts more is no sane one. */
const maxAssemblies = 16;

/** What a packet held: acknowledged with it, or lost. */
export type SentRef =
  | { readonly what: "message"; readonly channel: Channel; readonly number: number; readonly first: number; readonly chunks: number }
  | { readonly what: "copy"; readonly channel: Channel; readonly packet: number; readonly place: number }
  | { readonly what: "window"; readonly channel: Channel }
  | { readonly what: "close" };

/** A sequenced message of which later datagrams carry copies, with its origin. */
interface Recent extends Message { readonly packet: number; readonly place: number }

export class Channel {
  readonly sender: ReliableSender | undefined;
  readonly receiver: ReliableReceiver | undefined;
  /** Unreliable and sequenced messages that were not sent. */
  readonly queue: Message[] = [];
  recent: Recent[] = [];
  /** Old sequenced messages that were dropped. */
  stale = 0;
  private lastPacket = -1;
  private lastPlace = -1;
  private readonly assemblies = new Map<string, Assembly>();

  constructor(readonly info: ChannelInfo, private readonly deliver: (payload: BitReader, bits: number) => void = () => {}) {
    if (info.delivery !== "reliable" && info.delivery !== "ordered") return;
    this.sender = new ReliableSender();
    this.receiver = new ReliableReceiver(info.delivery === "ordered", deliver);
  }
  get isReliable(): boolean {
    return this.sender !== undefined;
  }
  /** Channels of higher urgency leave first. */
  get urgency(): number {
    return this.info.priority === "bulk" ? 0 : this.info.priority === "high" || !this.isReliable ? 2 : 1;
  }

  /** Queues a message. Throws WireError `message_too_large`, `queue_full`. */
  push(message: Message): void {
    const size = (message.bits + 7) >>> 3;
    if (size > (this.sender ? 1 << 20 : maxWholeBytes)) fail("message_too_large", `a message of ${size} bytes is larger than its channel carries`);
    const queue = this.sender?.queue ?? this.queue;
    if (this.sender && queue.length >= maxQueued) fail("queue_full", `${maxQueued} messages wait on channel ${this.info.name}`);
    // Of state only the newest is worth waiting for.
    if (!this.sender && queue.length >= maxUnreliable) queue.shift();
    queue.push(message);
  }

  receive(origin: readonly [packet: number, place: number], number: number, payload: BitReader, bits: number): void {
    if (this.receiver) return this.receiver.receive(number, payload, bits);
    if (this.info.delivery === "sequenced") {
      const [packet, place] = origin;
      if (packet < this.lastPacket || (packet === this.lastPacket && place <= this.lastPlace)) {
        ++this.stale;
        return;
      }
      this.lastPacket = packet;
      this.lastPlace = place;
    }
    this.deliver(payload, bits);
  }
  receivePiece(
    origin: readonly [packet: number, place: number], number: number, totalBits: number, first: number, chunks: number, bytes: Uint8Array,
  ): void {
    if (this.receiver) return this.receiver.receivePiece(number, totalBits, first, chunks, bytes);
    const name = origin.join();
    let assembly = this.assemblies.get(name);
    if (!assembly) {
      if (this.assemblies.size >= maxAssemblies) this.assemblies.delete(this.assemblies.keys().next().value!);
      this.assemblies.set(name, (assembly = new Assembly(totalBits)));
    }
    assembly.add(totalBits, first, chunks, bytes);
    if (!assembly.isComplete) return;
    this.assemblies.delete(name);
    this.receive(origin, 0, new BitReader(assembly.bytes, totalBits), totalBits);
  }
}
