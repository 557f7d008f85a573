// Starts the C++ server of the tests, and connects to it.
import { spawn, type ChildProcess } from "node:child_process";
import { createInterface } from "node:readline";
import { test } from "node:test";
import WebSocket from "ws";
import { connect, type Client, type ConnectOptions, type ProtocolInfo } from "kestrel-wind";

const built = process.env.KWIND_BUILD ?? new URL("../../../build/dev", import.meta.url).pathname;

export const toolPath = `${built}/tool/kwind`;

export interface Peer {
  url: string;
  key: string;
  udp: string;
  process: ChildProcess;
  kill(signal?: NodeJS.Signals): Promise<void>;
}

const running = new Set<ChildProcess>();
const clients = new Set<Client>();

/** A test whose servers and clients end with it, however it ends. */
export function peerTest(name: string, work: () => Promise<void>): void {
  test(name, { timeout: 60_000 }, async () => {
    try {
      await work();
    } finally {
      for (const each of clients) each.close();
      for (const each of running) each.kill("SIGKILL");
      clients.clear();
      running.clear();
    }
  });
}

export async function startPeer(...options: string[]): Promise<Peer> {
  const process = spawn(`${built}/tests/web_peer`, options, { stdio: ["ignore", "pipe", "inherit"] });
  running.add(process);
  const line: string = await new Promise((resolve, reject) => {
    createInterface(process.stdout!).once("line", resolve);
    process.once("exit", (code) => reject(new Error(`the server ended with ${code}`)));
  });
  const exited = new Promise<void>((resolve) => process.once("exit", () => resolve()));
  return {
    ...JSON.parse(line),
    process,
    kill: async (signal = "SIGTERM") => {
      running.delete(process);
      process.kill(signal);
      await exited;
    },
  };
}

export async function connectTo(peer: Peer, protocol: ProtocolInfo, options: Partial<ConnectOptions> = {}): Promise<Client> {
  const client = await connect(peer.url, { key: peer.key, protocol, WebSocket: WebSocket as never, ...options });
  clients.add(client);
  return client;
}

export const pause = (ms: number): Promise<void> => new Promise((resolve) => setTimeout(resolve, ms));

/** Waits until a condition holds. */
export async function until(what: string, holds: () => boolean, ms = 10_000): Promise<void> {
  const end = performance.now() + ms;
  while (!holds()) {
    if (performance.now() > end) throw new Error(`not within ${ms} ms: ${what}`);
    await pause(10);
  }
}
