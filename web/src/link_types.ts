// The options, events and counters of a link.
import type { BitReader } from "./bits.js";
import type { ErrorCode } from "./errors.js";
import type { TransportKind } from "./handshake.js";
import type { ProtocolInfo } from "./protocol.js";

/** Times in milliseconds. */
export interface LinkOptions {
  protocol: ProtocolInfo;
  /** The server's public key, 32 bytes. */
  serverKey: Uint8Array;
  /** 32 random bytes, new for each attempt. */
  seed: Uint8Array;
  ticket?: string | undefined;
  /** Token of an earlier connection, instead of a ticket. */
  resume?: Uint8Array | undefined;
  /** Digests of the code tables that are held, best first, 16 hexadecimal digits each. */
  codeTables?: readonly string[];
  /** Silence that ends the connection. */
  timeout?: number;
  /** Silence that ends the attempt. */
  handshakeTimeout?: number;
  /** Longest pause between datagrams. */
  keepalive?: number;
  /** What carries the datagrams; default: a stream, such as a web socket. */
  transport?: TransportKind;
}

export interface LinkEvents {
  opened(): void;
  message(channel: number, payload: BitReader): void;
  /** What the server's replication wrote. */
  payload(payload: BitReader): void;
  closed(code: ErrorCode, text: string): void;
}

export interface LinkStats {
  datagramsSent: number;
  datagramsReceived: number;
  bytesSent: number;
  bytesReceived: number;
  messagesSent: number;
  messagesReceived: number;
  messagesStale: number;
  /** Messages that parity gave, of which every packet was lost. */
  messagesRecovered: number;
  /** Packets to the server that were lost, and copies of small messages that were sent in case of it. */
  packetsLost: number;
  copiesSent: number;
  /** Datagrams, or parts of them, that were not accepted, by cause. */
  drops: Partial<Record<ErrorCode, number>>;
  /** Smoothed round trip and its variation (RFC 6298), and the newest sample. */
  roundTrip: number;
  roundTripVariation: number;
  latestRoundTrip: number;
  /** State and messages, in bytes, with their frame heads. */
  payloadBytesReceived: number;
}

export type LinkState = "connecting" | "open" | "closing" | "closed";

/** Errors after which a connection cannot go on (docs/errors.md). */
export const closing: ReadonlySet<ErrorCode> = new Set(["unknown_frame", "unknown_channel", "bad_ack", "window_exceeded", "split_too_large", "bad_piece"]);
/** Errors whose number a close frame names. */
export const refusals: ReadonlySet<ErrorCode> = new Set(["server_full", "replaced", "too_many_faults", "queue_full", "code_tables", "state_version"]);
