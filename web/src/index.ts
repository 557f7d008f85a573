export { connect, Client } from "./client.js";
export type { ClientStats, ConnectOptions, ConnectionState, RequestOptions, WebSocketConstructor, WebSocketLike } from "./client.js";
export * from "./bits.js";
export * from "./errors.js";
export * from "./schema.js";
export { Link, type LinkOptions, type LinkEvents, type LinkStats } from "./link.js";
export { codeTablesDigest, ReplicatedWorld, Predicted, PlayoutClock, type WorldOptions, type PlayoutOptions } from "./world.js";
export type { WorldCounts } from "./snapshots.js";
