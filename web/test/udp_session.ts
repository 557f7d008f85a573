// A stand-in for a browser's WebTransport in Node: the datagrams of a session travel as UDP datagrams to the server's UDP
// address, whose datagrams are the same, over a path that loses, delays and reorders some of them.
import { createSocket } from "node:dgram";
import type { WebTransportConstructor, WebTransportLike } from "kestrel-wind";

export interface BadPath {
  /** Share of datagrams that are lost, each way. */
  loss: number;
  /** One-way delay in milliseconds, and how much is added at random: datagrams overtake each other. */
  delay: number;
  jitter: number;
  /** Share of datagrams that arrive twice. */
  twice: number;
}
export const goodPath: BadPath = { loss: 0, delay: 0, jitter: 0, twice: 0 };

/** Numbers from a seed: mulberry32. */
export function random(seed: number): () => number {
  let state = seed >>> 0;
  return () => {
    state = (state + 0x6d2b79f5) >>> 0;
    let mixed = Math.imul(state ^ (state >>> 15), state | 1);
    mixed ^= mixed + Math.imul(mixed ^ (mixed >>> 7), mixed | 61);
    return ((mixed ^ (mixed >>> 14)) >>> 0) / 0x1_0000_0000;
  };
}

/** Sessions over UDP to `address`, HOST:PORT. `cut()` ends the newest as a broken network does. */
export function sessionsOver(address: string, path: BadPath, seed = 1): { WebTransport: WebTransportConstructor; cut(): void } {
  let newest: { end(): void } | undefined;
  const next = random(seed);
  const [host, port] = [address.slice(0, address.lastIndexOf(":")), Number(address.slice(address.lastIndexOf(":") + 1))];
  class Session implements WebTransportLike {
    readonly ready = Promise.resolve();
    readonly closed: Promise<void>;
    readonly datagrams: WebTransportLike["datagrams"];
    private readonly socket = createSocket("udp4");
    private isOpen = true;
    private resolve!: () => void;
    constructor() {
      this.closed = new Promise((resolve) => (this.resolve = resolve));
      const { socket } = this;
      this.datagrams = {
        maxDatagramSize: 1200,
        readable: new ReadableStream<Uint8Array>({
          start: (to) => void socket.on("message", (bytes) => this.over(() => this.isOpen && to.enqueue(Uint8Array.from(bytes)))),
        }),
        writable: new WritableStream<Uint8Array>({
          write: (bytes) => {
            const copy = bytes.slice();
            this.over(() => this.isOpen && socket.send(copy, port, host));
          },
        }),
      };
      newest = { end: () => this.close() };
    }
    private over(arrive: () => void): void {
      if (next() < path.loss) return;
      for (let copies = next() < path.twice ? 2 : 1; copies > 0; --copies) setTimeout(arrive, path.delay + next() * path.jitter);
    }
    private isClosing = false;
    close(): void {
      if (this.isClosing) return;
      this.isClosing = true;
      // What was sent before leaves first.
      setTimeout(() => {
        this.isOpen = false;
        this.socket.close();
      }, path.delay + path.jitter + 5);
      this.resolve();
    }
  }
  return { WebTransport: Session as never, cut: () => newest!.end() };
}
