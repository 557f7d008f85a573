// The state of one channel: messages that wait to leave for the server, and messages that came from it.
import type { ChannelInfo } from "./protocol.js";

export const firstWindowBytes = 65536;
export const messageCost = 32;
export const maxMessageBytes = 1 << 20;
/** The window that a receiver grants: the largest message, and room beside it. */
export const windowBytes = maxMessageBytes + firstWindowBytes;
export const chunkBytes = 64;
export const maxPerDatagram = 48;

export interface Pending {
  readonly bytes: Uint8Array;
  readonly bits: number;
  /** Chunks of a large message that have left. */
  chunks: number;
  number: number;
}

/** One channel of a connection, for tests of the link. */
export class Channel {
  // To the server.
  readonly queue: Pending[] = [];
  nextNumber = 0;
  started = 0;
  mayStart = firstWindowBytes;
  inFlight = 0;
  // From the server.
  received = 0;
  consumed = 0;
  granted = firstWindowBytes;
  grantedOnce = false;
  lastPacket = -1;
  lastPlace = -1;
  readonly assemblies = new Map<string, { bytes: Uint8Array; has: Uint8Array; left: number; bits: number }>();
  constructor(readonly info: ChannelInfo) {}
  get isReliable(): boolean {
    return this.info.delivery === "reliable" || this.info.delivery === "ordered";
  }
}

/** Channels of higher urgency leave first. */
export const urgency = (channel: ChannelInfo): number =>
  channel.priority === "bulk" ? 0 : channel.priority === "high" || channel.delivery === "sequenced" || channel.delivery === "unreliable" ? 2 : 1;
