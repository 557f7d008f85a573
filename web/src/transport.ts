// What carries the datagrams of a connection: a web socket (RFC 6455), or a WebTransport session over HTTP/3, whose
// datagrams may be lost, and do not wait for each other.
import { baseDatagramBytes } from "./handshake.js";

/** The part of the WebSocket interface that this package uses. */
export interface WebSocketLike {
  binaryType: string;
  readyState: number;
  send(data: Uint8Array): void;
  close(code?: number, reason?: string): void;
  onopen: ((event: any) => void) | null;
  onmessage: ((event: any) => void) | null;
  onclose: ((event: any) => void) | null;
  onerror: ((event: any) => void) | null;
}
export type WebSocketConstructor = new (url: string, protocols: string | string[]) => WebSocketLike;

/** The part of the WebTransport interface that this package uses. */
export interface WebTransportLike {
  readonly ready: Promise<unknown>;
  readonly closed: Promise<unknown>;
  readonly datagrams: {
    readonly maxDatagramSize: number;
    incomingHighWaterMark?: number;
    readonly readable: ReadableStream<Uint8Array>;
    readonly writable: WritableStream<Uint8Array>;
  };
  close(info?: { closeCode?: number; reason?: string }): void;
}
export type WebTransportConstructor = new (
  url: string, options: { serverCertificateHashes?: { algorithm: string; value: Uint8Array }[]; congestionControl?: string },
) => WebTransportLike;

/** Where a server listens for WebTransport. */
export interface WebTransportAddress {
  /** `https://HOST:PORT/PATH`. */
  url: string;
  /** SHA-256 of certificates that are accepted although no authority signed them: 64 hexadecimal digits each. */
  certificateHashes?: readonly string[];
}

export type TransportName = "web socket" | "web transport";
export interface Transport {
  readonly name: TransportName;
  /** Whether datagrams can be sent now. */
  readonly isOpen: boolean;
  send(datagram: Uint8Array): void;
  /** No event follows. */
  close(): void;
}
export interface TransportEvents {
  open(): void;
  receive(datagram: Uint8Array): void;
  ended(): void;
}

/** Datagrams that may wait for the page: a page that is busy for longer gets the newest. */
const datagramsKept = 256;

export function overWebSocket(WebSocket: WebSocketConstructor, url: string, events: TransportEvents): Transport {
  const socket = new WebSocket(url, "kestrel-wind");
  socket.binaryType = "arraybuffer";
  socket.onopen = () => events.open();
  socket.onmessage = ({ data }) => typeof data !== "string" && events.receive(new Uint8Array(data));
  socket.onclose = () => events.ended();
  socket.onerror = () => {};
  return {
    name: "web socket",
    get isOpen() { return socket.readyState === 1; },
    send: (datagram) => socket.send(datagram),
    close() {
      socket.onopen = socket.onmessage = socket.onclose = null;
      if (socket.readyState <= 1) socket.close(1000);
    },
  };
}

function bytesOfHex(text: string): Uint8Array {
  if (!/^[0-9a-fA-F]{64}$/.test(text)) throw new TypeError("a certificate hash has 64 hexadecimal digits");
  return Uint8Array.from({ length: 32 }, (_, i) => parseInt(text.slice(2 * i, 2 * i + 2), 16));
}

export function overWebTransport(
  WebTransport: WebTransportConstructor, { url, certificateHashes = [] }: WebTransportAddress, events: TransportEvents,
): Transport {
  const session = new WebTransport(url, {
    congestionControl: "low-latency",
    ...(certificateHashes.length > 0 && { serverCertificateHashes: certificateHashes.map((text) => ({ algorithm: "sha-256", value: bytesOfHex(text) })) }),
  });
  const { datagrams } = session;
  let [isOpen, isOver] = [false, false];
  let writer: WritableStreamDefaultWriter<Uint8Array> | undefined;
  const over = (): void => {
    if (isOver) return;
    isOver = true;
    isOpen = false;
    events.ended();
  };
  const read = async (): Promise<void> => {
    const reader = datagrams.readable.getReader();
    for (let next = await reader.read(); !next.done && !isOver; next = await reader.read()) events.receive(next.value);
  };
  session.ready.then(() => {
    // A path that takes no whole hello is none for the link.
    if (datagrams.maxDatagramSize < baseDatagramBytes) throw new RangeError("the path takes no datagrams of 1200 bytes");
    if (isOver) return;
    datagrams.incomingHighWaterMark = datagramsKept;
    writer = datagrams.writable.getWriter();
    isOpen = true;
    events.open();
    return read();
  }).catch(() => {
    over();
    session.close();
  });
  session.closed.then(over, over);
  return {
    name: "web transport",
    get isOpen() { return isOpen; },
    // A datagram that the browser cannot send yet waits there, or is dropped: the link sees it as lost.
    send: (datagram) => void writer?.write(datagram).catch(() => {}),
    close() {
      [isOver, isOpen] = [true, false];
      // Before it is ready closing fails in some browsers; the session then ends with its attempt.
      session.ready.then(() => session.close(), () => {});
    },
  };
}
