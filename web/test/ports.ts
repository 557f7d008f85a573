// A port that a server can be started anew on: below those that the system gives to outgoing connections.
import { createServer } from "node:net";

export async function lastingPort(): Promise<number> {
  for (;;) {
    const port = 20_000 + Math.floor(Math.random() * 10_000);
    const server = createServer();
    const isFree = await new Promise<boolean>((resolve) => {
      server.once("error", () => resolve(false));
      server.listen(port, "127.0.0.1", () => resolve(true));
    });
    await new Promise((resolve) => server.close(resolve));
    if (isFree) return port;
  }
}
