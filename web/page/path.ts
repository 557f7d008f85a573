// A web socket whose messages travel over a path that is made worse: each waits for its delay, and a lost one for a
// retransmission; the order stays, as it does over TCP.
import type { WebSocketLike } from "kestrel-wind";

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
