// Loss detection, round-trip times and congestion control over the packets in flight (RFC 9002). Over a stream nothing
// is lost: only acknowledgements and times count there. Pure; times in milliseconds.
import type { AckRange } from "./acks.js";
import type { SentRef } from "./channel.js";

const reorderingPackets = 3;
const slowestProbe = 1000;
const initialWindow = 12_000;
const minWindow = 2400;
const packetBytes = 1200;
const priorPackets = 50;
const lookBackPackets = 250;
/** Until so many packets have met their fate, the path is taken to lose two of a hundred. */
const packetsToMeasure = 300;
const assumedLoss = 0.02;
/** Milliseconds: what took longer waited for a program that stood still, and says nothing of the path. */
const longestSample = 3000;

/** Round-trip time estimation (RFC 9002, 5). */
export class RoundTrip {
  smoothed = 0;
  variation = 0;
  latest = 0;
  private min = Infinity;

  sample(latest: number, ackDelay: number): void {
    const isFirst = this.min === Infinity;
    this.min = Math.min(this.min, latest);
    this.latest = latest;
    const adjusted = Math.max(latest - ackDelay, this.min);
    if (isFirst) {
      this.smoothed = latest;
      this.variation = latest / 2;
      return;
    }
    this.variation += (Math.abs(this.smoothed - adjusted) - this.variation) / 4;
    this.smoothed += (adjusted - this.smoothed) / 8;
  }
  /** How long an end may wait with an ack. */
  get ackDelay(): number {
    return Math.min(100, Math.max(25, this.smoothed));
  }
  get probeTimeout(): number {
    return this.min === Infinity ? slowestProbe : this.smoothed + Math.max(4 * this.variation, 1) + this.ackDelay;
  }
  get lossDelay(): number {
    return Math.max(1, (Math.max(this.smoothed, this.latest) * 9) / 8);
  }
}

export interface SentPacket {
  readonly number: number;
  readonly at: number;
  readonly bytes: number;
  /** Newest number that its ack block reported; -1: it had none. */
  readonly acked: number;
  readonly refs: readonly SentRef[];
}

export class SentPackets {
  nextNumber = 0;
  largestAcked = -1;
  bytesInFlight = 0;
  /** Bytes that may be in flight: NewReno (RFC 9002, 7). A stream has a fixed window, as TCP has its own. */
  window: number;
  private threshold = Infinity;
  private recoverySince = -Infinity;
  /** By number, ascending, as they were sent. */
  private readonly packets = new Map<number, SentPacket>();
  private lossDeadline = Infinity;
  private lastAsking = 0;
  private probes = 0;
  private settled = 0;
  private loss = 0;

  constructor(private readonly roundTrip: RoundTrip, private readonly streamWindow: number | undefined) {
    this.window = streamWindow ?? initialWindow;
  }
  private get isStream(): boolean {
    return this.streamWindow !== undefined;
  }

  /** Notes a packet that asks for an ack. */
  sent(packet: SentPacket): void {
    this.packets.set(packet.number, packet);
    this.bytesInFlight += packet.bytes;
    this.lastAsking = packet.at;
  }

  /** Share of the packets lost of late; what is assumed before enough have met their fate. */
  get lossShare(): number {
    return this.settled < packetsToMeasure ? Math.max(this.loss, assumedLoss) : this.loss;
  }
  private noteFate(lost: number): void {
    ++this.settled;
    this.loss += (lost - this.loss) / Math.min(this.settled + priorPackets, lookBackPackets);
  }

  /** Settles what the ranges, newest first, acknowledge, and what is lost by that. */
  onAck(now: number, ranges: readonly AckRange[], delay: number): { acked: SentPacket[]; lost: SentPacket[] } {
    const newest = ranges[0]![1];
    const acked: SentPacket[] = [];
    for (const packet of this.packets.values()) {
      if (packet.number > newest) break;
      if (ranges.some(([first, last]) => packet.number >= first && packet.number <= last)) acked.push(packet);
    }
    for (const packet of acked) {
      this.settle(packet, 0);
      if (packet.number === newest && now - packet.at <= longestSample) this.roundTrip.sample(Math.max(0, now - packet.at), delay);
      this.grow(packet);
      this.probes = 0;
    }
    this.largestAcked = Math.max(this.largestAcked, newest);
    return { acked, lost: this.detectLosses(now) };
  }

  /** Packets whose time is up. */
  onTimer(now: number): SentPacket[] {
    return now >= this.lossDeadline ? this.detectLosses(now) : [];
  }

  /** RFC 9002, 6.1: by packets that overtook, and by time. */
  private detectLosses(now: number): SentPacket[] {
    const lost: SentPacket[] = [];
    this.lossDeadline = Infinity;
    if (this.isStream) return lost;
    for (const packet of this.packets.values()) {
      if (packet.number >= this.largestAcked) break;
      const deadline = packet.at + this.roundTrip.lossDelay;
      if (this.largestAcked - packet.number >= reorderingPackets || deadline <= now) lost.push(packet);
      else this.lossDeadline = Math.min(this.lossDeadline, deadline);
    }
    for (const packet of lost) {
      this.settle(packet, 1);
      this.shrink(packet, now);
    }
    return lost;
  }

  private settle(packet: SentPacket, lost: number): void {
    this.packets.delete(packet.number);
    this.bytesInFlight -= packet.bytes;
    this.noteFate(lost);
  }
  private grow(packet: SentPacket): void {
    if (this.isStream || packet.at <= this.recoverySince || this.bytesInFlight + packet.bytes < this.window / 2) return;
    this.window += this.window < this.threshold ? packet.bytes : (packetBytes * packet.bytes) / this.window;
  }
  private shrink(packet: SentPacket, now: number): void {
    if (packet.at <= this.recoverySince) return;
    this.recoverySince = now;
    this.threshold = this.window = Math.max(minWindow, this.window / 2);
  }

  get hasRoom(): boolean {
    return this.bytesInFlight < this.window;
  }
  /** When a probe is due (RFC 9002, 6.2): nothing was acknowledged for long. */
  get probeDeadline(): number {
    if (this.isStream || this.packets.size === 0) return Infinity;
    const first = this.roundTrip.probeTimeout;
    return this.lastAsking + Math.min(first * 2 ** this.probes, Math.max(first, slowestProbe));
  }
  probeSent(): void {
    ++this.probes;
  }
  get deadline(): number {
    return Math.min(this.lossDeadline, this.probeDeadline);
  }
  get oldest(): SentPacket | undefined {
    return this.packets.values().next().value;
  }
}
