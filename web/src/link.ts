// The client's end of one connection over a web socket: handshake, encrypted datagrams, acks, channels. It follows
// docs/wire-format.md, "Over a stream": nothing is lost and nothing is repeated. A state machine without sockets or
// clock: bytes and times in milliseconds go in, bytes and events come out.
import { ReceivedPackets, readAckBlock } from "./acks.js";
import { BitReader, BitWriter, bitsFor, countBits } from "./bits.js";
import { Channel, chunkBytes, maxMessageBytes, maxPerDatagram, messageCost, urgency, windowBytes } from "./channel.js";
import { NoiseInitiator, derive, joined, open, seal, tagBytes } from "./crypto.js";
import { WireError, codeOf, numberOf, fail, type ErrorCode } from "./errors.js";
import { readFrames } from "./frames.js";
import { acceptHeadBytes, baseDatagramBytes, connectHead, connectPayload, linkVersion, readWelcome } from "./handshake.js";
import { closing, refusals, type LinkEvents, type LinkOptions, type LinkState, type LinkStats } from "./link_types.js";
import { isAlive } from "./protocol.js";
import { bytesOfStart, bytesOfText, printable } from "./text.js";


const maxInFlight = 512;
/** Bytes beyond what was acknowledged that a stream may hold. */
const maxUnacked = 128 * 1024;
const narrowSpan = 62;
const keyDatagrams = 2 ** 20;
const keyTime = 3_600_000;
const maxForged = 2 ** 16;

interface SentDatagram {
  readonly number: number;
  readonly at: number;
  readonly bytes: number;
  /** Newest number that its ack block reported; -1: it had none. */
  readonly acked: number;
  readonly messages: readonly [Channel, number][];
}

export class Link {
  state: LinkState = "connecting";
  version = 0;
  /** Agreed code tables: 0 the built-in ones, else index in the list plus one. */
  codeTables = 0;
  resumed = false;
  /** Token and window in milliseconds with which a later connection continues this one. */
  resume: { token: Uint8Array; window: number } | undefined;
  readonly stats: LinkStats = {
    datagramsSent: 0, datagramsReceived: 0, bytesSent: 0, bytesReceived: 0, messagesSent: 0, messagesReceived: 0,
    messagesStale: 0, drops: {}, roundTrip: 0, roundTripVariation: 0, latestRoundTrip: 0, payloadBytesReceived: 0,
  };

  private readonly options: Required<Omit<LinkOptions, "ticket" | "resume">> & Pick<LinkOptions, "ticket" | "resume">;
  private readonly nonce: Uint8Array;
  private readonly noise: NoiseInitiator;
  private connect: Uint8Array | undefined;
  private id = 0;
  private channels: Channel[] = [];
  private channelBits = 0;

  // Keys.
  private sendKey = new Uint8Array(0) as Uint8Array;
  private sendPhase = false;
  private sendKeySince = 0;
  private sendKeyFirst = 0;
  private receiveKey = new Uint8Array(0) as Uint8Array;
  private nextReceiveKey = new Uint8Array(0) as Uint8Array;
  private receivePhase = false;
  private forged = 0;

  // Numbers.
  private nextNumber = 0;
  private largestAcked = -1;
  private newestNarrow = 0;
  private unackedBytes = 0;
  private readonly sent = new Map<number, SentDatagram>();
  private oldestSent = 0;
  private readonly received = new ReceivedPackets();
  private ackFloor = 0;
  private unackedPackets = 0;
  private unackedReceived = 0;
  private ackDue = Infinity;

  private pingDue = false;
  private closeDue: { code: ErrorCode; reason: string } | undefined;
  private closingSince = 0;
  private readonly payloads: { bytes: Uint8Array; bits: number }[] = [];
  private heardAt: number;
  private spokeAt: number;

  constructor(options: LinkOptions, now: number, private readonly events: LinkEvents) {
    this.options = {
      codeTables: [], timeout: 10_000, handshakeTimeout: 5000, keepalive: 1000, ...options,
    } as Link["options"];
    this.heardAt = this.spokeAt = now;
    this.nonce = derive(options.seed, "client nonce").subarray(0, 8);
    const headBytes = connectHead(this.nonce);
    this.noise = new NoiseInitiator(joined(bytesOfText("kestrel wind 3"), headBytes), options.serverKey,
      derive(options.seed, "client ephemeral"));
    let message: Uint8Array;
    try {
      message = this.noise.writeFirst(connectPayload(this.options));
    } catch (error) {
      if (error instanceof WireError) throw error;
      fail("bad_key", "the server's key is none that a server can have");
    }
    this.connect = joined(headBytes, message);
  }

  // ---- what a program does ----

  /** Queues a message. Throws WireError `closed`, `message_too_large`, `queue_full`. */
  send(channel: number, bytes: Uint8Array, bits: number): void {
    const to = this.channels[channel];
    if (this.state !== "open" || !to) fail("closed", "the connection is not open");
    const size = (bits + 7) >>> 3;
    if (size > (to.isReliable ? maxMessageBytes : 1104)) fail("message_too_large", `a message of ${size} bytes is larger than its channel carries`);
    if (to.isReliable && to.queue.length >= 4096) fail("queue_full", `4096 messages wait on channel ${to.info.name}`);
    // Of state only the newest is worth waiting for.
    if (!to.isReliable && to.queue.length >= 64) to.queue.shift();
    to.queue.push({ bytes, bits, chunks: 0, number: to.isReliable ? to.nextNumber++ : 0 });
    ++this.stats.messagesSent;
  }

  /** Queues a payload frame: inputs and reports of replication. */
  sendPayload(bytes: Uint8Array, bits: number): void {
    if (this.payloads.length < 16) this.payloads.push({ bytes, bits });
  }

  /** Delivers the messages queued on reliable channels, for a second at most, then ends the connection. */
  close(now: number, reason: string, code: ErrorCode = "closed_here"): void {
    if (this.state === "closed" || this.state === "closing") return;
    if (this.state === "connecting") return this.end(code, reason);
    this.state = "closing";
    this.closingSince = now;
    this.closeDue = { code, reason };
  }

  /** The web socket ended. */
  transportEnded(): void {
    const { closeDue } = this;
    if (this.state === "closing") this.end(closeDue?.code ?? "closed_here", closeDue?.reason ?? "");
    else if (this.state !== "closed") this.end("transport_ended", "the web socket ended");
  }

  private end(code: ErrorCode, text: string): void {
    if (this.state === "closed") return;
    this.state = "closed";
    this.events.closed(code, text);
  }

  /** Lets timers act. */
  wake(now: number): void {
    if (this.state === "connecting") {
      if (now - this.heardAt >= this.options.handshakeTimeout) this.end("handshake_timeout", "the server did not answer");
      return;
    }
    if (this.state === "closed") return;
    if (now - this.heardAt >= this.options.timeout) this.end("timeout", "nothing was heard from the server for the stated time");
    if (now - this.spokeAt >= this.options.keepalive) this.pingDue = true;
  }

  /** When wake() or poll() has something to do without further input. */
  nextWakeup(): number {
    if (this.state === "closed") return Infinity;
    if (this.state === "connecting") return this.heardAt + this.options.handshakeTimeout;
    return Math.min(this.ackDue, this.spokeAt + this.options.keepalive, this.heardAt + this.options.timeout,
      this.state === "closing" ? this.closingSince + 1000 : Infinity);
  }

  // ---- from the server ----

  receive(now: number, bytes: Uint8Array): void {
    if (this.state === "closed" || bytes.length === 0) return;
    try {
      if ((bytes[0]! & 1) === 0) this.receiveHandshake(now, bytes);
      else this.receiveData(now, bytes);
    } catch (error) {
      if (!(error instanceof WireError)) throw error;
      this.drop(error.code);
      if (closing.has(error.code) && this.state === "open") this.close(now, error.message, error.code);
    }
  }

  private drop(code: ErrorCode): void {
    this.stats.drops[code] = (this.stats.drops[code] ?? 0) + 1;
  }

  private receiveHandshake(now: number, bytes: Uint8Array): void {
    if (bytes[0]! >> 5 !== 0) fail("unknown_form", "no datagram form of this link version");
    const form = bytes[0]! >> 1;
    const reader = new BitReader(bytes);
    reader.get(8);
    if (form < 1 || form > 8) fail("unknown_form", "no datagram form of this link version");
    if (this.state !== "connecting" || form === 1 || form === 3 || form === 2 || form >= 7) {
      fail("unexpected", "the datagram does not fit the state of the connection");
    }
    reader.get(16);
    const nonce = reader.bytesOf(8);
    if (nonce.some((byte, i) => byte !== this.nonce[i])) fail("unexpected", "an answer to another attempt");
    if (form === 4) return this.receiveAccept(now, bytes);
    if (form === 5) {
      const code = codeOf(reader.get(8));
      return this.end(code, `the server refused: ${code}`);
    }
    const known = Array.from({ length: reader.get(4) }, () => reader.get(16));
    this.end("link_version", `the server knows link versions ${known.join(", ")}, this client ${linkVersion}`);
  }

  private receiveAccept(now: number, bytes: Uint8Array): void {
    const payload = this.noise.readSecond(bytes.subarray(acceptHeadBytes));
    if (payload === undefined) fail("bad_check", "the accept is not from the server that has the key");
    const reader = new BitReader(payload);
    if (!reader.bool()) {
      const code = codeOf(reader.get(8));
      const text = printable(reader.bytesOf(reader.get(8)));
      return this.end(code, text || `the server refused: ${code}`);
    }
    const { id, versionIndex, cipher, codeTables, resumed, window, token } = readWelcome(reader);
    const { protocol } = this.options;
    const version = protocol.versions[versionIndex];
    if (!version || cipher !== 0 || codeTables > this.options.codeTables.length) {
      fail("unexpected", "the server chose what was not offered");
    }
    this.id = id;
    this.version = version[0];
    this.codeTables = codeTables;
    this.resumed = resumed;
    if (window > 0) this.resume = { token, window: window * 1000 };
    this.channels = protocol.channels.filter((channel) => isAlive(channel.life, this.version)).map((info) => new Channel(info));
    this.channelBits = bitsFor(this.channels.length);
    const { up, down } = this.noise.split();
    this.sendKey = up;
    this.receiveKey = down;
    this.nextReceiveKey = derive(down, "next datagram key");
    this.sendKeySince = now;
    this.connect = undefined;
    this.heardAt = now;
    this.state = "open";
    this.pingDue = true;
    this.sampleRoundTrip(now - this.spokeAt);
    this.events.opened();
  }

  private receiveData(now: number, bytes: Uint8Array): void {
    if (this.state === "connecting") fail("unexpected", "data before the accept");
    const head = new BitReader(bytes);
    head.get(1);
    const phase = head.bool();
    const hasAcks = head.bool();
    const wide = head.bool();
    if (head.get(4) !== 0) fail("unknown_form", "no datagram form of this link version");
    const low = head.get(wide ? 16 : 8);
    const headBytes = wide ? 3 : 2;
    const expected = this.received.newest + 1;
    const span = wide ? 65536 : 256;
    let number = expected - (expected % span) + low;
    if (number > expected + span / 2) number -= span;
    else if (number <= expected - span / 2) number += span;
    if (number < 0) number += span;
    if (number <= this.received.newest) fail("replayed", "the packet number was seen before");
    const associated = bytes.subarray(0, headBytes);
    const sealed = bytes.subarray(headBytes);
    const isNext = phase !== this.receivePhase;
    const plain = open(isNext ? this.nextReceiveKey : this.receiveKey, number, associated, sealed);
    if (plain === undefined) {
      if (++this.forged > maxForged) this.end("key_exhausted", "too many forged datagrams for one key");
      fail("bad_check", "the datagram's tag does not match");
    }
    if (isNext) {
      this.receivePhase = phase;
      this.receiveKey = this.nextReceiveKey;
      this.nextReceiveKey = derive(this.receiveKey, "next datagram key");
    }
    this.heardAt = now;
    ++this.stats.datagramsReceived;
    this.stats.bytesReceived += bytes.length;
    this.received.note(number, now, wide);
    const reader = new BitReader(plain);
    if (hasAcks) this.readAcks(now, reader);
    if (this.state === "closed") return;
    if (this.readFrames(number, reader, now)) {
      ++this.unackedPackets;
      this.unackedReceived += bytes.length;
      const wait = Math.min(100, Math.max(25, this.stats.roundTrip));
      this.ackDue = Math.min(this.ackDue, this.unackedReceived >= 4800 || this.unackedPackets >= 24 ? now : now + wait);
    }
  }

  private readAcks(now: number, reader: BitReader): void {
    const block = readAckBlock(reader, this.nextNumber, this.newestNarrow);
    const newest = block.ranges[0]![1];
    for (const [first, last] of block.ranges) this.acknowledge(now, first, last, newest, block.delay);
  }

  private acknowledge(now: number, first: number, last: number, newest: number, delay: number): void {
    for (let number = Math.max(first, this.oldestSent); number <= last; ++number) {
      const datagram = this.sent.get(number);
      if (!datagram) continue;
      this.sent.delete(number);
      this.unackedBytes -= datagram.bytes;
      if (datagram.acked >= 0) this.ackFloor = Math.max(this.ackFloor, datagram.acked + 1);
      for (const [channel, count] of datagram.messages) channel.inFlight -= count;
      if (number === newest) this.sampleRoundTrip(Math.max(0, now - datagram.at - delay));
    }
    this.largestAcked = Math.max(this.largestAcked, last);
    while (this.oldestSent < this.nextNumber && !this.sent.has(this.oldestSent)) ++this.oldestSent;
  }

  private sampleRoundTrip(sample: number): void {
    const { stats } = this;
    stats.latestRoundTrip = sample;
    if (stats.roundTrip === 0) {
      stats.roundTrip = sample;
      stats.roundTripVariation = sample / 2;
    } else {
      stats.roundTripVariation += (Math.abs(stats.roundTrip - sample) - stats.roundTripVariation) / 4;
      stats.roundTrip += (sample - stats.roundTrip) / 8;
    }
  }

  /** Reads all frames before any has an effect, then lets them act. True if one of them asks for an ack. */
  private readFrames(packet: number, reader: BitReader, now: number): boolean {
    const { asks, effects } = readFrames(packet, reader, this.channels, {
      message: (index, origin, number, payload, bits) => this.receiveMessage(index, this.channels[index]!, origin, number, payload, bits, now),
      piece: (index, origin, number, totalBits, first, chunks, bytes) =>
        this.receivePiece(index, this.channels[index]!, origin, number, totalBits, first, chunks, bytes, now),
      payload: (payload) => {
        this.stats.payloadBytesReceived += payload.left / 8;
        this.events.payload(payload);
      },
      close: (code, text) => {
        const name = codeOf(code);
        this.end(code === 0 || name === "unknown" ? "closed_by_peer" : name, text);
      },
      window: (index, low) => {
        const channel = this.channels[index]!;
        const ahead = (low - channel.mayStart) | 0;
        if (ahead > 0) channel.mayStart += ahead;
      },
    });
    for (const effect of effects) {
      if (this.state === "closed") break;
      effect();
    }
    return asks;
  }

  private receiveMessage(index: number, channel: Channel, origin: [number, number], number: number, payload: BitReader, bits: number, now: number): void {
    if (channel.isReliable) {
      if (number !== (channel.received & 0xffff)) return this.drop("replayed");
      ++channel.received;
      this.consume(channel, bits, now);
    } else if (channel.info.delivery === "sequenced") {
      const [packet, place] = origin;
      if (packet < channel.lastPacket || (packet === channel.lastPacket && place <= channel.lastPlace)) {
        ++this.stats.messagesStale;
        return;
      }
      channel.lastPacket = packet;
      channel.lastPlace = place;
    }
    ++this.stats.messagesReceived;
    this.events.message(index, payload);
  }

  private receivePiece(index: number, channel: Channel, origin: [number, number], number: number, totalBits: number, first: number, chunks: number, bytes: Uint8Array, now: number): void {
    const name = channel.isReliable ? String(number) : origin.join();
    let assembly = channel.assemblies.get(name);
    if (!assembly) {
      const size = (totalBits + 7) >>> 3;
      // Unfinished messages of a stream are few: a peer that starts more is no sane one.
      if (channel.assemblies.size >= 16) channel.assemblies.delete(channel.assemblies.keys().next().value!);
      assembly = { bytes: new Uint8Array(size), has: new Uint8Array(Math.ceil(size / chunkBytes)), left: Math.ceil(size / chunkBytes), bits: totalBits };
      channel.assemblies.set(name, assembly);
    }
    if (assembly.bits !== totalBits) fail("bad_piece", "pieces of a message contradict each other");
    assembly.bytes.set(bytes, first * chunkBytes);
    for (let i = first; i < first + chunks; ++i) {
      if (assembly.has[i] === 0) --assembly.left;
      assembly.has[i] = 1;
    }
    if (assembly.left > 0) return;
    channel.assemblies.delete(name);
    this.receiveMessage(index, channel, origin, number, new BitReader(assembly.bytes, totalBits), totalBits, now);
  }

  /** The program takes each message at once: its room in the window is free again. */
  private consume(channel: Channel, bits: number, now: number): void {
    channel.consumed += ((bits + 7) >>> 3) + messageCost;
    if (channel.consumed + windowBytes - channel.granted >= windowBytes / 2) this.ackDue = Math.min(this.ackDue, now);
  }

  // ---- to the server ----

  private wantsWindow(channel: Channel): boolean {
    return channel.isReliable && (!channel.grantedOnce || channel.consumed + windowBytes - channel.granted >= windowBytes / 2);
  }

  private mayLeave(channel: Channel): boolean {
    const [first] = channel.queue;
    if (!first) return false;
    if (!channel.isReliable || first.chunks > 0) return true;
    return channel.inFlight < maxInFlight && channel.started + ((first.bits + 7) >>> 3) + messageCost <= channel.mayStart;
  }

  /** The next datagram to send, or nothing. Call it until nothing comes. */
  poll(now: number): Uint8Array | undefined {
    if (this.state === "connecting") {
      const { connect } = this;
      this.connect = undefined;
      if (connect) {
        this.spokeAt = now;
        this.stats.bytesSent += connect.length;
        ++this.stats.datagramsSent;
      }
      return connect;
    }
    if (this.state === "closed") return undefined;
    const hasRoom = this.unackedBytes < maxUnacked;
    const messages = hasRoom && (this.payloads.length > 0 || this.channels.some((channel) => this.mayLeave(channel)));
    const windows = this.channels.some((channel) => this.wantsWindow(channel));
    const waits = this.channels.some((channel) => channel.isReliable && (channel.queue.length > 0 || channel.inFlight > 0));
    const closes = this.closeDue !== undefined && (!waits || now - this.closingSince >= 1000);
    const acks = now >= this.ackDue;
    if (!messages && !windows && !closes && !acks && !this.pingDue) return undefined;
    return this.writeDatagram(now, closes);
  }

  private writeDatagram(now: number, closes: boolean): Uint8Array {
    const number = this.nextNumber++;
    if (number - this.sendKeyFirst >= keyDatagrams || now - this.sendKeySince >= keyTime) {
      if (this.largestAcked >= this.sendKeyFirst) {
        this.sendKey = derive(this.sendKey, "next datagram key");
        this.sendPhase = !this.sendPhase;
        this.sendKeyFirst = number;
        this.sendKeySince = now;
      }
    }
    const wide = number - (this.largestAcked + 1) >= narrowSpan;
    if (!wide) this.newestNarrow = number;
    const hasAcks = this.unackedPackets > 0;
    const out = new BitWriter(256);
    out.bool(true);
    out.bool(this.sendPhase);
    out.bool(hasAcks);
    out.bool(wide);
    out.put(this.id, 28);
    out.put(number & (wide ? 0xffff : 0xff), wide ? 16 : 8);
    const headBytes = out.length / 8;
    let acked = -1;
    if (hasAcks) {
      this.received.write(now, out, this.ackFloor);
      acked = this.received.newest;
      this.unackedPackets = this.unackedReceived = 0;
      this.ackDue = Infinity;
    }
    const before = out.length;
    const max = (baseDatagramBytes - tagBytes) * 8;
    for (const [index, channel] of this.channels.entries()) {
      if (!this.wantsWindow(channel)) continue;
      channel.granted = channel.consumed + windowBytes;
      channel.grantedOnce = true;
      out.put(6, 3);
      out.put(2, 3);
      out.put(index, this.channelBits);
      out.put(channel.granted % 0x1_0000_0000, 32);
    }
    const messages: [Channel, number][] = [];
    while (this.payloads.length > 0) {
      const { bytes, bits } = this.payloads[0]!;
      if (out.length + 3 + countBits(bits, 6) + bits > max) break;
      this.payloads.shift();
      out.put(4, 3);
      out.count(bits, 6);
      out.bits(bytes, bits);
    }
    const order = [...this.channels.entries()].sort(([, a], [, b]) => urgency(b.info) - urgency(a.info));
    for (const [index, channel] of order) this.writeMessages(index, channel, out, max, messages);
    if (closes && out.length + 13 + 8 + 96 * 8 < max) {
      const { code, reason } = this.closeDue!;
      const bytes = bytesOfStart(reason, 96);
      out.put(6, 3);
      out.put(1, 3);
      out.put(refusals.has(code) ? numberOf(code) : 0, 8);
      out.put(bytes.length, 7);
      out.bits(bytes, bytes.length * 8);
    }
    if (this.pingDue && out.length === before) {
      out.put(6, 3);
      out.put(0, 3);
    }
    const asks = out.length > before;
    if (asks) this.pingDue = false;
    out.align();
    const plain = out.finish();
    const head = plain.subarray(0, headBytes);
    const datagram = joined(head, seal(this.sendKey, number, head, plain.subarray(headBytes)));
    if (asks) {
      this.sent.set(number, { number, at: now, bytes: datagram.length, acked, messages });
      this.unackedBytes += datagram.length;
    }
    this.spokeAt = now;
    ++this.stats.datagramsSent;
    this.stats.bytesSent += datagram.length;
    if (closes && asks) {
      const { code, reason } = this.closeDue!;
      // The web socket delivers it: nothing is left to wait for.
      queueMicrotask(() => this.end(code, reason));
      this.closeDue = undefined;
    }
    return datagram;
  }

  private writeMessages(index: number, channel: Channel, out: BitWriter, max: number, messages: [Channel, number][]): void {
    let follows = -1;
    let count = 0;
    let startedHere = 0;
    while (this.mayLeave(channel) && count < maxPerDatagram) {
      const message = channel.queue[0]!;
      const size = (message.bits + 7) >>> 3;
      const isWhole = message.chunks === 0 && size <= 1104;
      if (isWhole) {
        const named = channel.isReliable ? (follows === message.number ? 1 : 17) : channel.info.delivery === "sequenced" ? 1 : 0;
        if (out.length + 1 + this.channelBits + named + countBits(message.bits, 6) + message.bits > max) break;
        out.bool(true);
        out.put(index, this.channelBits);
        if (channel.isReliable) {
          out.bool(named === 1);
          if (named === 17) out.put(message.number & 0xffff, 16);
          follows = message.number + 1;
        } else if (named === 1) {
          out.bool(true);
        }
        out.count(message.bits, 6);
        out.bits(message.bytes, message.bits);
      } else {
        const all = Math.ceil(size / chunkBytes);
        const heads = 3 + this.channelBits + 16 + countBits(message.bits, 10) + countBits(message.chunks, 4) + countBits(all, 3);
        const chunks = Math.min(all - message.chunks, Math.floor((max - out.length - heads) / (chunkBytes * 8)));
        if (chunks <= 0) break;
        out.put(2, 3);
        out.put(index, this.channelBits);
        out.put(message.number & 0xffff, 16);
        out.count(message.bits, 10);
        out.count(message.chunks, 4);
        out.count(chunks - 1, 3);
        const part = message.bytes.subarray(message.chunks * chunkBytes, Math.min(size, (message.chunks + chunks) * chunkBytes));
        out.bits(part, part.length * 8);
        if (message.chunks === 0) channel.started += size + messageCost;
        if (message.chunks === 0) ++channel.inFlight, ++startedHere;
        message.chunks += chunks;
        ++count;
        if (message.chunks === all) channel.queue.shift();
        continue;
      }
      channel.queue.shift();
      ++count;
      if (channel.isReliable) {
        channel.started += size + messageCost;
        ++channel.inFlight;
        ++startedHere;
      }
    }
    if (startedHere > 0) messages.push([channel, startedHere]);
  }

}
