// The client's end of one connection: handshake, encrypted datagrams, acks, channels (docs/wire-format.md). Over a web
// socket, a stream, nothing is lost and nothing is repeated; over WebTransport datagrams may be lost, double or overtake
// each other. A state machine without sockets or clock: bytes and times in milliseconds go in, bytes and events come out.
import { ReceivedPackets, readAckBlock } from "./acks.js";
import { BitReader, BitWriter, bitsFor } from "./bits.js";
import { Channel, type SentRef } from "./channel.js";
import { NoiseInitiator, derive, joined, tagBytes } from "./crypto.js";
import { DatagramWriter } from "./datagram_writer.js";
import { WireError, codeOf, fail, type ErrorCode } from "./errors.js";
import { readFrames } from "./frames.js";
import { acceptHeadBytes, baseDatagramBytes, connectHead, connectPayload, hello, linkVersion, readWelcome } from "./handshake.js";
import { ReceiveKeys, SendKey } from "./keys.js";
import { closing, type LinkEvents, type LinkOptions, type LinkState, type LinkStats } from "./link_types.js";
import { isAlive } from "./protocol.js";
import { RoundTrip, SentPackets, type SentPacket } from "./sent_packets.js";
import { bytesOfText, printable } from "./text.js";

/** Bytes beyond what was acknowledged that a stream may hold. */
const streamWindow = 128 * 1024;
const narrowSpan = 62;
const firstRepeat = 250;
const nextRepeat = 350;
const linger = 1000;
const maxCloseCopies = 3;
/** A copy of a small message leaves no sooner than this after the last one, and no later; after a loss sooner. */
const copyGap = 4;
const latestCopy = 20;
const latestCopyAgain = 5;

/** In how many copies a small message is sent, for one in 50,000 to lose all of them; see docs/wire-format.md. */
function copiesFor(loss: number): number {
  return loss < 0.002 ? 1 : loss * loss < 0.00002 ? 2 : 3;
}

export class Link {
  state: LinkState = "connecting";
  version = 0;
  /** Agreed code tables: 0 the built-in ones, else index in the list plus one. */
  codeTables = 0;
  resumed = false;
  /** Token and window in milliseconds with which a later connection continues this one. */
  resume: { token: Uint8Array; window: number } | undefined;

  private readonly counts: LinkStats = {
    datagramsSent: 0, datagramsReceived: 0, bytesSent: 0, bytesReceived: 0, messagesSent: 0, messagesReceived: 0,
    messagesStale: 0, messagesRecovered: 0, packetsLost: 0, copiesSent: 0, drops: {}, roundTrip: 0, roundTripVariation: 0,
    latestRoundTrip: 0, payloadBytesReceived: 0,
  };
  private readonly options: Required<Omit<LinkOptions, "ticket" | "resume">> & Pick<LinkOptions, "ticket" | "resume">;
  private readonly nonce: Uint8Array;
  private noise: NoiseInitiator | undefined;
  /** A hello or a connect, and when it is to be sent (again). */
  private greeting: Uint8Array;
  private greetAt: number;
  private greetings = 0;
  private id = 0;
  private channels: Channel[] = [];
  private channelBits = 0;
  private sendKey: SendKey | undefined;
  private receiveKeys: ReceiveKeys | undefined;

  private readonly roundTrip = new RoundTrip();
  private readonly sent: SentPackets;
  private newestNarrow = 0;
  private readonly received = new ReceivedPackets();
  /** Packet of the newest ack block that was read. */
  private newestBlock = -1;
  private ackFloor = 0;
  private unackedPackets = 0;
  private unackedReceived = 0;
  private ackDue = Infinity;

  private pingDue = false;
  private probeDue = false;
  private challenge: Uint8Array | undefined;
  private closeWanted: { code: ErrorCode; reason: string } | undefined;
  private closeDue = false;
  private closeCopies = 0;
  private closingSince = 0;
  private readonly payloads: { bytes: Uint8Array; bits: number }[] = [];
  private heardAt: number;
  private spokeAt: number;

  constructor(options: LinkOptions, now: number, private readonly events: LinkEvents) {
    this.options = {
      codeTables: [], timeout: 10_000, handshakeTimeout: 5000, keepalive: 1000, transport: "stream", ...options,
    } as Link["options"];
    this.heardAt = this.spokeAt = this.greetAt = now;
    this.sent = new SentPackets(this.roundTrip, this.isStream ? streamWindow : undefined);
    this.nonce = derive(options.seed, "client nonce").subarray(0, 8);
    // A bad key or ticket is an error here, whatever the transport.
    const connect = this.connectWith(undefined);
    this.greeting = this.isStream ? connect : hello(this.nonce);
  }
  private get isStream(): boolean {
    return this.options.transport === "stream";
  }

  private connectWith(cookie: Uint8Array | undefined): Uint8Array {
    const { options } = this;
    const head = connectHead(this.nonce, options.transport, cookie);
    this.noise = new NoiseInitiator(joined(bytesOfText("kestrel wind 3"), head), options.serverKey, derive(options.seed, "client ephemeral"));
    try {
      return joined(head, this.noise.writeFirst(connectPayload(options)));
    } catch (error) {
      if (error instanceof WireError) throw error;
      fail("bad_key", "the server's key is none that a server can have");
    }
  }

  get stats(): LinkStats {
    const { counts, roundTrip } = this;
    counts.roundTrip = roundTrip.smoothed;
    counts.roundTripVariation = roundTrip.variation;
    counts.latestRoundTrip = roundTrip.latest;
    counts.messagesStale = counts.messagesRecovered = 0;
    for (const { stale, receiver } of this.channels) {
      counts.messagesStale += stale;
      counts.messagesRecovered += receiver?.recovered ?? 0;
    }
    return counts;
  }

  // ---- what a program does ----

  /** Queues a message. Throws WireError `closed`, `message_too_large`, `queue_full`. */
  send(channel: number, bytes: Uint8Array, bits: number): void {
    const to = this.channels[channel];
    if (this.state !== "open" || !to) fail("closed", "the connection is not open");
    to.push({ bytes, bits });
    ++this.counts.messagesSent;
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
    this.closeWanted = { code, reason };
    this.continueClosing(now);
  }

  /** What carries the datagrams ended. */
  transportEnded(): void {
    if (this.state === "closing") this.endClosing();
    else if (this.state !== "closed") this.end("transport_ended", "the connection below the link ended");
  }

  private endClosing(): void {
    this.end(this.closeWanted?.code ?? "closed_here", this.closeWanted?.reason ?? "");
  }
  private end(code: ErrorCode, text: string): void {
    if (this.state === "closed") return;
    this.state = "closed";
    this.events.closed(code, text);
  }

  /** Two steps, each with a time limit: deliver what is reliable, then say the end until it is acknowledged. */
  private continueClosing(now: number): void {
    const isLate = now - this.closingSince >= linger;
    if (this.closeCopies === 0) {
      if (!isLate && !this.channels.every(({ sender }) => sender?.isIdle ?? true)) return;
      this.closeDue = true;
      this.closeCopies = 1;
      this.closingSince = now;
    } else if (isLate) {
      this.endClosing();
    }
  }

  /** Lets timers act. */
  wake(now: number): void {
    const { options } = this;
    if (this.state === "connecting") {
      if (now - this.heardAt >= options.handshakeTimeout) this.end("handshake_timeout", "the server did not answer");
      return;
    }
    if (this.state === "closed") return;
    if (now - this.heardAt >= options.timeout) return this.end("timeout", "nothing came from the server for the stated time");
    if (now - this.spokeAt >= options.keepalive) this.pingDue = true;
    this.lose(this.sent.onTimer(now));
    if (now >= this.sent.probeDeadline) this.probe();
    if (this.state === "closing") this.continueClosing(now);
  }

  /** When wake() or poll() has something to do without further input. */
  nextWakeup(): number {
    const { options } = this;
    if (this.state === "closed") return Infinity;
    if (this.state === "connecting") return Math.min(this.greetAt, this.heardAt + options.handshakeTimeout);
    return Math.min(this.ackDue, this.spokeAt + options.keepalive, this.heardAt + options.timeout, this.sent.deadline, this.nextCopy(),
      this.state === "closing" ? this.closingSince + linger : Infinity);
  }
  private get copies(): number {
    return this.isStream ? 1 : copiesFor(this.sent.lossShare);
  }
  private nextCopy(): number {
    const { copies } = this;
    if (this.isStream || !this.sent.hasRoom) return Infinity;
    return Math.min(...this.channels.map(({ sender }) => sender?.nextCopy(copies, latestCopy, latestCopyAgain) ?? Infinity), Infinity);
  }

  // ---- what is lost ----

  private lose(packets: readonly SentPacket[]): void {
    this.counts.packetsLost += packets.length;
    for (const packet of packets) for (const ref of packet.refs) this.resend(ref, false);
  }
  /** Sends the content of the oldest packet in flight again, lost or not (RFC 9002, 6.2.4). */
  private probe(): void {
    for (const ref of this.sent.oldest?.refs ?? []) this.resend(ref, true);
    this.probeDue = true;
    this.sent.probeSent();
  }
  private resend(ref: SentRef, isProbe: boolean): void {
    if (ref.what === "message") ref.channel.sender!.lost(ref.number, ref.first, ref.chunks, isProbe);
    else if (ref.what === "window") ref.channel.receiver!.isGrantSent = false;
    else if (ref.what === "close" && this.closeCopies < maxCloseCopies && this.state === "closing") {
      this.closeDue = true;
      ++this.closeCopies;
    }
  }
  private acked(ref: SentRef): void {
    if (ref.what === "message") ref.channel.sender!.acked(ref.number, ref.first, ref.chunks);
    else if (ref.what === "copy") ref.channel.recent = ref.channel.recent.filter(({ packet, place }) => packet !== ref.packet || place !== ref.place);
    else if (ref.what === "close") this.endClosing();
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
    const { drops } = this.counts;
    drops[code] = (drops[code] ?? 0) + 1;
  }

  private receiveHandshake(now: number, bytes: Uint8Array): void {
    if (bytes[0]! >> 5 !== 0) fail("unknown_form", "no datagram form of this link version");
    const form = bytes[0]! >> 1;
    const reader = new BitReader(bytes);
    reader.get(8);
    if (form < 1 || form > 8) fail("unknown_form", "no datagram form of this link version");
    const isExpected = form === 4 || form === 5 || form === 6 || (form === 2 && !this.isStream);
    if (this.state !== "connecting" || !isExpected) fail("unexpected", "the datagram does not fit the state of the connection");
    reader.get(16);
    const nonce = reader.bytesOf(8);
    if (nonce.some((byte, i) => byte !== this.nonce[i])) fail("unexpected", "an answer to another attempt");
    if (form === 2) {
      // The connect takes the place of the hello; copies of the cookie change nothing.
      const cookie = reader.bytesOf(16);
      if (this.greeting[0] !== 2) return;
      this.greeting = this.connectWith(cookie);
      this.greetings = 0;
      this.greetAt = now;
      return;
    }
    if (form === 4) return this.receiveAccept(now, bytes);
    if (form === 5) {
      const code = codeOf(reader.get(8));
      return this.end(code, `the server refused: ${code}`);
    }
    const known = Array.from({ length: reader.get(4) }, () => reader.get(16));
    this.end("link_version", `the server knows link versions ${known.join(", ")}, this client ${linkVersion}`);
  }

  private receiveAccept(now: number, bytes: Uint8Array): void {
    if (this.greeting[0] !== 6) fail("unexpected", "an accept before the connect");
    const payload = this.noise!.readSecond(bytes.subarray(acceptHeadBytes));
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
    this.channels = protocol.channels.filter((channel) => isAlive(channel.life, this.version)).map((info, index) =>
      new Channel(info, (message) => {
        ++this.counts.messagesReceived;
        this.events.message(index, message);
      }));
    this.channelBits = bitsFor(this.channels.length);
    const { up, down } = this.noise!.split();
    this.sendKey = new SendKey(up, now);
    this.receiveKeys = new ReceiveKeys(down);
    this.heardAt = now;
    this.state = "open";
    this.pingDue = true;
    if (this.greetings === 1) this.roundTrip.sample(now - this.spokeAt, 0);
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
    if (!this.received.isNew(number)) fail("replayed", "the packet number was seen before");
    const keys = this.receiveKeys!;
    const plain = keys.open(number, phase, bytes.subarray(0, headBytes), bytes.subarray(headBytes), now, 3 * this.roundTrip.probeTimeout);
    if (plain === undefined) {
      if (keys.isExhausted) this.end("key_exhausted", "too many forged datagrams for one key");
      fail("bad_check", "the datagram's tag does not match");
    }
    this.heardAt = now;
    ++this.counts.datagramsReceived;
    this.counts.bytesReceived += bytes.length;
    const isGap = this.received.note(number, now, wide);
    // A packet that comes late is reported, whatever was reported before.
    this.ackFloor = Math.min(this.ackFloor, number);
    const reader = new BitReader(plain);
    if (hasAcks) this.readAcks(now, number, reader);
    if ((this.state as LinkState) === "closed") return;
    if (this.readFrames(number, reader)) {
      ++this.unackedPackets;
      this.unackedReceived += bytes.length;
      // While a message is missing, several acks go in a round trip: a lost one must not prolong the stall.
      const isStalled = this.channels.some(({ receiver }) => receiver?.isStalled);
      const patience = isStalled ? Math.min(this.roundTrip.ackDelay, Math.max(5, this.roundTrip.smoothed / 4)) : this.roundTrip.ackDelay;
      const wait = this.unackedReceived >= 4800 || this.unackedPackets >= 24 ? 0 : isGap ? 5 : patience;
      this.ackDue = Math.min(this.ackDue, now + wait);
    }
    if (this.channels.some(({ receiver }) => receiver?.isGrantSent && receiver.wantsGrant)) this.ackDue = Math.min(this.ackDue, now);
  }

  /** Of blocks that overtake each other only the newest counts. */
  private readAcks(now: number, packet: number, reader: BitReader): void {
    const block = readAckBlock(reader, this.sent.nextNumber, this.newestNarrow);
    if (packet < this.newestBlock) return;
    this.newestBlock = packet;
    const { acked, lost } = this.sent.onAck(now, block.ranges, block.delay);
    for (const each of acked) {
      if (each.acked >= 0) this.ackFloor = Math.max(this.ackFloor, each.acked + 1);
      for (const ref of each.refs) this.acked(ref);
    }
    this.lose(lost);
    if (this.state === "closing") this.continueClosing(now);
  }

  /** Reads all frames before any has an effect, then lets them act. True if one of them asks for an ack. */
  private readFrames(packet: number, reader: BitReader): boolean {
    const { asks, effects } = readFrames(packet, reader, this.channels, {
      message: (index, origin, number, payload, bits) => this.channels[index]!.receive(origin, number, payload, bits),
      piece: (index, ...piece) => this.channels[index]!.receivePiece(...piece),
      payload: (payload) => {
        this.counts.payloadBytesReceived += payload.left / 8;
        this.events.payload(payload);
      },
      close: (code, text) => {
        const name = codeOf(code);
        this.end(code === 0 || name === "unknown" ? "closed_by_peer" : name, text);
      },
      window: (index, low) => this.channels[index]!.sender!.setLimit(low),
      challenge: (bytes) => (this.challenge = bytes),
      parity: (index, ...parity) => this.channels[index]!.receiver!.receiveParity(...parity),
    });
    for (const effect of effects) {
      if (this.state === "closed") break;
      effect();
    }
    return asks;
  }

  // ---- to the server ----

  /** The next datagram to send, or nothing. Call it until nothing comes. */
  poll(now: number): Uint8Array | undefined {
    if (this.state === "connecting") return this.greet(now);
    if (this.state === "closed") return undefined;
    const mayFill = this.sent.hasRoom || this.probeDue;
    const copies = mayFill && now >= this.nextCopy();
    const messages = mayFill && (copies || this.payloads.length > 0 ||
      this.channels.some(({ sender, queue }) => (sender ? sender.peek() !== undefined : queue.length > 0)));
    const windows = this.channels.some(({ receiver }) => receiver?.wantsGrant);
    const asks = messages || windows || this.closeDue || this.pingDue || this.probeDue || this.challenge !== undefined;
    return asks || now >= this.ackDue ? this.writeDatagram(now, mayFill) : undefined;
  }

  /** A stream delivers a greeting; as a datagram it is repeated until it is answered. */
  private greet(now: number): Uint8Array | undefined {
    if (now < this.greetAt) return undefined;
    this.greetAt = this.isStream ? Infinity : now + (this.greetings === 0 ? firstRepeat : nextRepeat);
    ++this.greetings;
    this.spokeAt = now;
    this.counts.bytesSent += this.greeting.length;
    ++this.counts.datagramsSent;
    return this.greeting;
  }

  private writeDatagram(now: number, mayFill: boolean): Uint8Array {
    const { sent } = this;
    const number = sent.nextNumber++;
    const phase = this.sendKey!.phaseOf(number, now, sent.largestAcked);
    const wide = number - (sent.largestAcked + 1) >= narrowSpan;
    if (!wide) this.newestNarrow = number;
    const hasAcks = this.unackedPackets > 0;
    const out = new BitWriter(256);
    out.bool(true);
    out.bool(phase);
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
    const body = new DatagramWriter(out, number, this.channels, this.channelBits, (baseDatagramBytes - tagBytes) * 8);
    if (this.challenge) body.response(this.challenge);
    this.challenge = undefined;
    body.windows();
    if (mayFill) {
      const { copies } = this;
      if (copies > 1) this.counts.copiesSent += body.copies(now, copyGap, copies);
      while (this.payloads[0] && body.payload(this.payloads[0])) this.payloads.shift();
      body.messages(now, this.isStream);
    }
    if (this.closeDue && body.close(this.closeWanted!)) this.closeDue = false;
    if ((this.pingDue || this.probeDue) && body.isEmpty) body.ping();
    const asks = !body.isEmpty;
    if (asks) this.pingDue = this.probeDue = false;
    out.align();
    const plain = out.finish();
    const head = plain.subarray(0, headBytes);
    const datagram = joined(head, this.sendKey!.seal(number, head, plain.subarray(headBytes)));
    if (asks) sent.sent({ number, at: now, bytes: datagram.length, acked, refs: body.refs });
    this.spokeAt = now;
    ++this.counts.datagramsSent;
    this.counts.bytesSent += datagram.length;
    // A stream delivers it: nothing is left to wait for.
    if (this.isStream && this.state === "closing" && this.closeCopies > 0 && !this.closeDue) queueMicrotask(() => this.endClosing());
    return datagram;
  }
}
