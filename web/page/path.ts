// The visitor's own path, made worse. A web socket's messages wait for their delay, and a lost one for a retransmission;
// the order stays, as it does over TCP. Datagrams of WebTransport are lost, and overtake each other.
import type { WebSocketLike, WebTransportConstructor, WebTransportLike } from "kestrel-wind";

export interface Path { delay: number; jitter: number; loss: number }

export function socketOver(path: Path) {
  return class implements WebSocketLike {
    onopen: WebSocketLike["onopen"] = null;
    onmessage: WebSocketLike["onmessage"] = null;
    onclose: WebSocketLike["onclose"] = null;
    onerror: WebSocketLike["onerror"] = null;
    private readonly socket: WebSocket;
    private readonly free = { up: 0, down: 0 };
    constructor(url: string, protocols: string | string[]) {
      this.socket = new WebSocket(url, protocols);
      this.socket.binaryType = "arraybuffer";
      this.socket.onopen = (event) => this.onopen?.(event);
      this.socket.onmessage = (event) => this.later("down", () => this.onmessage?.(event));
      this.socket.onclose = (event) => this.onclose?.(event);
      this.socket.onerror = (event) => this.onerror?.(event);
    }
    get binaryType(): string { return this.socket.binaryType; }
    set binaryType(type: string) { this.socket.binaryType = type as BinaryType; }
    get readyState(): number { return this.socket.readyState; }
    send(data: Uint8Array): void {
      const copy = data.slice();
      this.later("up", () => this.socket.readyState === 1 && this.socket.send(copy));
    }
    close(code?: number, reason?: string): void { this.socket.close(code, reason); }
    private later(way: "up" | "down", work: () => void): void {
      const now = performance.now();
      let wait = path.delay + Math.random() * path.jitter;
      if (Math.random() * 100 < path.loss) wait += Math.max(200, 3 * path.delay);
      const at = Math.max(this.free[way], now + wait);
      this.free[way] = at;
      if (at <= now) work();
      else setTimeout(work, at - now);
    }
  };
}

/** Nothing where the browser has no WebTransport. */
export function sessionOver(path: Path): WebTransportConstructor | undefined {
  const Native = (globalThis as { WebTransport?: WebTransportConstructor }).WebTransport;
  if (!Native) return undefined;
  const Known = Native;
  const over = (arrive: () => void): void => {
    if (Math.random() * 100 < path.loss) return;
    const wait = path.delay + Math.random() * path.jitter;
    if (wait > 0) setTimeout(arrive, wait);
    else arrive();
  };
  return class implements WebTransportLike {
    readonly ready: Promise<unknown>;
    readonly closed: Promise<unknown>;
    readonly datagrams: WebTransportLike["datagrams"];
    private readonly session: WebTransportLike;
    constructor(...options: ConstructorParameters<WebTransportConstructor>) {
      this.session = new Known(...options);
      this.ready = this.session.ready;
      this.closed = this.session.closed;
      const { datagrams } = this.session;
      const reader = datagrams.readable.getReader();
      const writer = datagrams.writable.getWriter();
      const read = async (to: ReadableStreamDefaultController<Uint8Array>): Promise<void> => {
        for (let next = await reader.read(); !next.done; next = await reader.read()) {
          const { value } = next;
          over(() => to.enqueue(value));
        }
      };
      this.datagrams = {
        get maxDatagramSize() { return datagrams.maxDatagramSize; },
        set incomingHighWaterMark(count: number) { datagrams.incomingHighWaterMark = count; },
        readable: new ReadableStream<Uint8Array>({ start: (to) => void read(to).catch(() => {}) }),
        writable: new WritableStream<Uint8Array>({ write: (bytes) => over(() => void writer.write(bytes).catch(() => {})) }),
      };
    }
    close(info?: { closeCode?: number; reason?: string }): void { this.session.close(info); }
  };
}
