// A client of one server: outlives its connections. It resumes a connection that broke, and otherwise connects again
// with exponential back-off. Handlers stay.
import { BitReader, BitWriter, bitsFor } from "./bits.js";
import { parseKey, randomBytes } from "./crypto.js";
import { RequestRefused, WireError, fail, type ErrorCode } from "./errors.js";
import { Link } from "./link.js";
import type { LinkStats } from "./link_types.js";
import { isAlive, type MessageType, type ProtocolInfo, type RequestType } from "./protocol.js";
import { fieldsCodec, type Codec } from "./schema.js";
import {
  overWebSocket, overWebTransport, type Transport, type TransportEvents, type TransportName, type WebSocketConstructor, type WebTransportAddress, type WebTransportConstructor,
} from "./transport.js";

/** Where a client stands. `waiting`: the back-off runs before the next attempt. */
export type ConnectionState = "connecting" | "connected" | "resuming" | "waiting" | "closed";

/** Takes the snapshots of a connection: see world.ts. */
export interface PayloadReceiver {
  connected(client: Client, resumed: boolean): void;
  payload(payload: BitReader): void;
  ended(): void;
}

/** Times in milliseconds. */
export interface ConnectOptions {
  protocol: ProtocolInfo;
  /** The server's public key: 43 characters, as `kwind keys` and the server print it. */
  key: string;
  /** A ticket, or a function that gets one from the login: it is asked for each attempt that needs one. */
  ticket?: string | (() => string | Promise<string>);
  /** Ends the attempts, or the connection. */
  signal?: AbortSignal;
  /** False: the first end is the end. */
  reconnect?: boolean;
  firstRetry?: number;
  longestRetry?: number;
  /** Silence that ends a connection. */
  timeout?: number;
  /** Longest pause between datagrams to the server: it notices a server that hangs. */
  keepalive?: number;
  handshakeTimeout?: number;
  /** Called at each change of state, with the cause where there is one. */
  onState?: (state: ConnectionState, error?: WireError) => void;
  /** Gets what handlers throw. By default they are reported as uncaught errors. */
  onError?: (error: unknown) => void;
  /** Where there is no global one: the `WebSocket` of the package `ws`. */
  WebSocket?: WebSocketConstructor;
  /**
   * Where the server takes WebTransport, or a function that finds it out for each attempt. It is tried first, where the
   * browser has it; after two seconds the web socket is used.
   */
  webTransport?: WebTransportAddress | (() => WebTransportAddress | undefined | Promise<WebTransportAddress | undefined>);
  /** Another implementation than the global one. */
  WebTransport?: WebTransportConstructor;
  codeTables?: readonly string[];
}

export interface RequestOptions {
  /** Default 5000. */
  timeout?: number;
  signal?: AbortSignal;
}

export interface ClientStats extends LinkStats {
  /** Connections that were begun. */
  attempts: number;
}

/** Another attempt would get the same answer. */
const finals: ReadonlySet<ErrorCode> = new Set([
  "closed_here", "closed_by_peer", "replaced", "wrong_key", "protocol_name", "schema_mismatch", "link_version", "state_version",
  "mode_differs", "ticket_missing", "ticket_invalid", "ticket_expired", "ticket_used", "not_loopback", "too_many_faults", "bad_key",
]);
const renewable: ReadonlySet<ErrorCode> = new Set(["ticket_expired", "ticket_used"]);

/** How long WebTransport may take to open; where it failed, for how long it is left out. In milliseconds. */
const webTransportPatience = 2000;
const webTransportPause = 60_000;

interface OpenRequest {
  answer: MessageType<unknown>;
  resolve(reply: any): void;
  reject(error: unknown): void;
  timer: ReturnType<typeof setTimeout>;
}

/** Message types by channel and code, and codes by type, in one direction of one version. */
class TypeCodes {
  private readonly byChannel: MessageType<unknown>[][];
  private readonly codes = new Map<MessageType<unknown>, number>();
  constructor(protocol: ProtocolInfo, direction: "client" | "server", version: number) {
    this.byChannel = protocol.channels.map(() => []);
    for (const type of protocol.messages) {
      if ((type.from !== "both" && type.from !== direction) || !isAlive(type.life, version)) continue;
      this.codes.set(type, this.byChannel[type.channel]!.length);
      this.byChannel[type.channel]!.push(type);
    }
  }
  has(type: MessageType<unknown>): boolean {
    return this.codes.has(type);
  }
  write(to: BitWriter, type: MessageType<unknown>): void {
    to.put(this.codes.get(type)!, bitsFor(this.byChannel[type.channel]!.length));
  }
  read(from: BitReader, channel: number): MessageType<unknown> {
    const types = this.byChannel[channel]!;
    if (types.length === 0) fail("wrong_direction", "the message type is not sent in this direction");
    return types[from.get(bitsFor(types.length))] ?? fail("unknown_kind", "the message type is not in the protocol");
  }
}

export class Client {
  /** Where the client stands. */
  connection: ConnectionState = "connecting";
  /** Agreed version of the protocol; 0 before the first connection. */
  version = 0;
  /** The newest tick that `tick` values are near to: replication sets it. */
  newestTick = 0;

  private link: Link | undefined;
  private carrier: Transport | undefined;
  private patience: ReturnType<typeof setTimeout> | undefined;
  private noWebTransportUntil = 0;
  private timer: ReturnType<typeof setTimeout> | undefined;
  private retryTimer: ReturnType<typeof setTimeout> | undefined;
  private isFlushQueued = false;
  private backOff = 0;
  private attemptsBegun = 0;
  private generation = 0;
  private resumeToken: { token: Uint8Array; until: number } | undefined;
  private readonly handlers = new Map<MessageType<unknown>, ((message: any) => void)[]>();
  private readonly responders = new Map<MessageType<unknown>, (fields: any) => any>();
  private readonly requests = new Map<number, OpenRequest>();
  private nextRequest = 1;
  private readonly buckets = new Map<MessageType<unknown>, { tokens: number; at: number }>();
  private readonly codecs = new Map<MessageType<unknown>, Codec>();
  private toServer: TypeCodes | undefined;
  private fromServer: TypeCodes | undefined;
  private readonly writer = new BitWriter(256);
  private receiver: PayloadReceiver | undefined;
  private readonly context: { newestTick: number };
  private readonly key: Uint8Array;
  private readonly WebSocket: WebSocketConstructor;
  private readonly onAbort = (): void => this.close("aborted");
  private settle: { resolve(client: Client): void; reject(error: unknown): void } | undefined;

  /** Use connect(). */
  constructor(readonly url: string, readonly options: ConnectOptions) {
    const key = parseKey(options.key);
    if (!key) fail("bad_key", "a key is 43 characters of base64url");
    this.key = key;
    const Global = options.WebSocket ?? (globalThis as { WebSocket?: WebSocketConstructor }).WebSocket;
    if (!Global) throw new TypeError("there is no WebSocket here: pass the one of the package `ws` as the option WebSocket");
    this.WebSocket = Global;
    const self = this;
    this.context = { get newestTick() { return self.newestTick; } };
  }

  /** Starts. The promise settles with the first connection, or with the end of all attempts. */
  start(): Promise<Client> {
    const { signal } = this.options;
    if (signal?.aborted) return Promise.reject(abortError(signal));
    signal?.addEventListener("abort", this.onAbort, { once: true });
    return new Promise((resolve, reject) => {
      this.settle = { resolve, reject };
      void this.attempt(undefined);
    });
  }

  /** What carries the present connection, or the attempt; nothing while there is neither. */
  get transport(): TransportName | undefined {
    return this.carrier?.name;
  }
  get stats(): ClientStats {
    const none: LinkStats = {
      datagramsSent: 0, datagramsReceived: 0, bytesSent: 0, bytesReceived: 0, messagesSent: 0, messagesReceived: 0,
      messagesStale: 0, messagesRecovered: 0, packetsLost: 0, copiesSent: 0, drops: {}, roundTrip: 0, roundTripVariation: 0,
      latestRoundTrip: 0, payloadBytesReceived: 0,
    };
    return { ...(this.link?.stats ?? none), attempts: this.attemptsBegun };
  }
  /** Agreed code tables of the present connection: 0 the built-in ones, else index in the list plus one. */
  get codeTables(): number {
    return this.link?.codeTables ?? 0;
  }

  // ---- messages ----

  /** Calls `handler` for each message of the type. The function that comes back ends that. */
  on<T>(type: MessageType<T>, handler: (message: T) => void): () => void {
    if (!this.options.protocol.messages.includes(type) || type.from === "client" || type.role !== "message") {
      throw new TypeError(`${type.name} is no message that the server sends`);
    }
    const all = this.handlers.get(type) ?? [];
    this.handlers.set(type, [...all, handler]);
    return () => this.handlers.set(type, (this.handlers.get(type) ?? []).filter((each) => each !== handler));
  }

  /**
   * Sends a message. Throws WireError: `closed`; `out_of_range`, with the field; `rate_limited`; `unknown_to_peer`;
   * `queue_full`.
   */
  send<T>(type: MessageType<T>, message: T): void {
    if (type.role !== "message") throw new TypeError(`${type.name} is a request: use request()`);
    this.checkRate(type);
    this.write(type, message);
  }

  /**
   * Asks the server. Rejects with RequestRefused; with WireError `request_timeout`, `request_abandoned`, or the cause of
   * an end of the connection; with an AbortError.
   */
  request<T, R, Reason extends string>(type: RequestType<T, R, Reason>, fields: T, options: RequestOptions = {}): Promise<R> {
    return new Promise((resolve, reject) => {
      const { signal, timeout = 5000 } = options;
      if (signal?.aborted) return reject(abortError(signal));
      const index = this.options.protocol.messages.indexOf(type);
      const answer = this.options.protocol.messages[index + 1];
      if (type.role !== "request" || !answer) throw new TypeError(`${type.name} is no request of this protocol`);
      if (this.requests.size >= 1024) fail("too_many_requests", "1024 requests are open");
      this.checkRate(type);
      while (this.nextRequest === 0 || this.requests.has(this.nextRequest)) this.nextRequest = (this.nextRequest + 1) & 0xffff;
      const id = this.nextRequest;
      this.nextRequest = (id + 1) & 0xffff;
      this.write(type, fields, id);
      const done = (): void => {
        clearTimeout(open.timer);
        signal?.removeEventListener("abort", onAbort);
        this.requests.delete(id);
      };
      const onAbort = (): void => {
        done();
        reject(abortError(signal!));
      };
      const open: OpenRequest = {
        answer,
        resolve: (reply) => { done(); resolve(reply); },
        reject: (error) => { done(); reject(error); },
        timer: setTimeout(() => open.reject(new WireError("request_timeout", `no answer to ${type.name} in ${timeout} ms`)), timeout),
      };
      signal?.addEventListener("abort", onAbort, { once: true });
      this.requests.set(id, open);
    });
  }

  /** Answers requests of the server: the handler gives the reply, or throws RequestRefused. */
  onRequest<T, R, Reason extends string>(type: RequestType<T, R, Reason>, handler: (fields: T) => R | Promise<R>): () => void {
    if (type.role !== "request" || type.from === "client") throw new TypeError(`${type.name} is no request that the server sends`);
    this.responders.set(type, handler);
    return () => void this.responders.delete(type);
  }

  /** Closes the connection after its reliable and ordered messages are delivered, and ends all attempts. */
  close(reason = ""): void {
    if (this.connection === "closed") return;
    clearTimeout(this.retryTimer);
    if (this.link && this.link.state !== "closed") {
      this.link.close(now(), reason);
      this.flush();
      if ((this.link.state as string) !== "closed") return;
    }
    this.finish(new WireError("closed_here", reason || "closed here"));
  }

  // ---- for replication ----

  /** Takes the payload frames of all connections. One receiver for a client. */
  setPayloadReceiver(receiver: PayloadReceiver): void {
    if (this.receiver) throw new TypeError("the client has a replicated world already");
    this.receiver = receiver;
    if (this.connection === "connected") receiver.connected(this, false);
  }
  sendPayload(bytes: Uint8Array, bits: number): void {
    if (this.connection !== "connected") return;
    this.link!.sendPayload(bytes, bits);
    this.queueFlush();
  }

  // ---- inside ----

  private checkRate(type: MessageType<unknown>): void {
    if (!type.rate) return;
    const most = 1 + type.rate * 0.1;
    const at = now();
    const bucket = this.buckets.get(type) ?? { tokens: most, at };
    bucket.tokens = Math.min(most, bucket.tokens + ((at - bucket.at) * type.rate) / 1000);
    bucket.at = at;
    this.buckets.set(type, bucket);
    if (bucket.tokens < 1) fail("rate_limited", `${type.name} goes at most ${type.rate} times a second`);
    bucket.tokens -= 1;
  }

  private codecFor(type: MessageType<unknown>): Codec {
    let codec = this.codecs.get(type);
    if (!codec) {
      codec = fieldsCodec(type.fields, this.version, this.options.protocol.versions.map(([version]) => version));
      this.codecs.set(type, codec);
    }
    return codec;
  }

  private write(type: MessageType<unknown>, fields: unknown, id?: number, abandoned = false): void {
    if (this.connection !== "connected") fail("closed", "the connection is not open");
    if (!this.options.protocol.messages.includes(type) || type.from === "server") throw new TypeError(`${type.name} is no message that a client sends`);
    if (!this.toServer!.has(type)) fail("unknown_to_peer", `version ${this.version} of the protocol does not have ${type.name}`);
    const { writer } = this;
    writer.clear();
    this.toServer!.write(writer, type);
    if (id !== undefined) writer.put(abandoned ? 0 : id, 16);
    if (abandoned) writer.put(id!, 16);
    else this.codecFor(type).write(writer, fields);
    this.link!.send(type.channel, writer.finish(), writer.length);
    this.queueFlush();
  }

  private receiveMessage(channel: number, payload: BitReader): void {
    try {
      const type = this.fromServer!.read(payload, channel);
      const id = type.role === "message" ? 0 : payload.get(16);
      if (type.role === "answer" && id === 0) {
        this.requests.get(payload.get(16))?.reject(new WireError("request_abandoned", "the server dropped the request without an answer"));
        return;
      }
      const fields = this.codecFor(type).read(payload, this.context);
      if (payload.left > 0) fail("trailing_bits", "bits are left over after the last field");
      if (type.role === "message") {
        for (const handler of this.handlers.get(type) ?? []) this.guard(() => handler(fields));
      } else if (type.role === "answer") {
        this.receiveAnswer(type, id, fields);
      } else {
        void this.answer(type, id, fields);
      }
    } catch (error) {
      if (!(error instanceof WireError)) throw error;
      const { drops } = this.link!.stats;
      drops[error.code] = (drops[error.code] ?? 0) + 1;
    }
  }

  private receiveAnswer(type: MessageType<unknown>, id: number, fields: any): void {
    const open = this.requests.get(id);
    if (!open || open.answer !== type) fail("stray_answer", "an answer to no open request");
    const { outcome } = fields;
    if (outcome.case === "reply") open.resolve(outcome.value ?? {});
    else open.reject(new RequestRefused(outcome.value.reason, outcome.value.words));
  }

  private async answer(type: MessageType<unknown>, id: number, fields: unknown): Promise<void> {
    const { messages } = this.options.protocol;
    const answer = messages[messages.indexOf(type) + 1]!;
    const { generation } = this;
    const handler = this.responders.get(type);
    let outcome: unknown;
    try {
      if (handler) {
        const value = await handler(fields);
        outcome = { case: "reply", value };
      }
    } catch (error) {
      if (error instanceof RequestRefused) outcome = { case: "refused", value: { reason: error.reason, words: error.words } };
      else this.report(error);
    }
    if (generation !== this.generation || this.connection !== "connected") return;
    this.guard(() => this.write(answer, { outcome }, id, outcome === undefined));
  }

  private guard(work: () => void): void {
    try {
      work();
    } catch (error) {
      this.report(error);
    }
  }
  private report(error: unknown): void {
    if (this.options.onError) this.options.onError(error);
    else setTimeout(() => { throw error; });
  }

  private setState(state: ConnectionState, error?: WireError): void {
    if (state === this.connection && state !== "waiting") return;
    this.connection = state;
    this.guard(() => this.options.onState?.(state, error));
  }

  private async attempt(token: Uint8Array | undefined): Promise<void> {
    const generation = ++this.generation;
    ++this.attemptsBegun;
    let ticket: string | undefined;
    if (!token) {
      try {
        ticket = typeof this.options.ticket === "function" ? await this.options.ticket() : this.options.ticket;
      } catch (error) {
        return this.ended(new WireError("ticket_missing", `the login gave no ticket: ${String(error)}`), true);
      }
      if (generation !== this.generation || this.connection === "closed") return;
    }
    const address = await this.webTransportAddress();
    if (generation !== this.generation || this.connection === "closed") return;
    const WebTransport = this.options.WebTransport ?? (globalThis as { WebTransport?: WebTransportConstructor }).WebTransport;
    if (!address || !WebTransport) return this.open(ticket, token);
    // A fall-back is part of the attempt: only the end of the web socket ends it.
    const fallBack = (): void => {
      if (generation !== this.generation || this.link?.state !== "connecting") return;
      this.noWebTransportUntil = now() + webTransportPause;
      this.dropTransport();
      this.open(ticket, token);
    };
    this.open(ticket, token, (events) => overWebTransport(WebTransport, address, { ...events, ended: () => (this.link?.state === "connecting" ? fallBack() : events.ended()) }));
    if (this.connection !== ("closed" as ConnectionState)) this.patience = setTimeout(fallBack, webTransportPatience);
  }

  private async webTransportAddress(): Promise<WebTransportAddress | undefined> {
    const { webTransport } = this.options;
    if (!webTransport || now() < this.noWebTransportUntil) return undefined;
    try {
      return typeof webTransport === "function" ? await webTransport() : webTransport;
    } catch {
      return undefined;
    }
  }

  /** Begins a connection with a link of its own: over the web socket, or what `carry` makes. */
  private open(ticket: string | undefined, token: Uint8Array | undefined, carry?: (events: TransportEvents) => Transport): void {
    const { protocol, timeout, keepalive, handshakeTimeout, codeTables } = this.options;
    let link: Link;
    try {
      link = new Link({
        protocol, serverKey: this.key, seed: randomBytes(32), ticket, resume: token, codeTables: codeTables ?? [],
        transport: carry ? "datagrams" : "stream",
        ...(timeout !== undefined && { timeout }), ...(keepalive !== undefined && { keepalive }),
        ...(handshakeTimeout !== undefined && { handshakeTimeout }),
      }, now(), {
        opened: () => this.opened(),
        message: (channel, payload) => this.receiveMessage(channel, payload),
        payload: (payload) => this.receivePayload(payload),
        closed: (code, text) => link === this.link && this.ended(new WireError(code, text)),
      });
      this.link = link;
      // Of another connection, events come too late.
      const ifCurrent = <A extends unknown[]>(work: (...args: A) => void) => (...args: A): void => {
        if (link !== this.link) return;
        work(...args);
        this.flush();
      };
      const events = {
        open: ifCurrent(() => {}),
        receive: ifCurrent((datagram: Uint8Array) => link.receive(now(), datagram)),
        ended: ifCurrent(() => link.transportEnded()),
      };
      this.carrier = carry ? carry(events) : overWebSocket(this.WebSocket, this.url, events);
    } catch (error) {
      return this.finish(error instanceof WireError ? error : new WireError("unexpected", String(error)));
    }
    this.flush();
  }

  private receivePayload(payload: BitReader): void {
    if (!this.receiver) {
      const { drops } = this.link!.stats;
      drops.payload_not_taken = (drops.payload_not_taken ?? 0) + 1;
      return;
    }
    this.receiver.payload(payload);
  }

  private opened(): void {
    const link = this.link!;
    clearTimeout(this.patience);
    this.backOff = 0;
    this.version = link.version;
    this.codecs.clear();
    this.toServer = new TypeCodes(this.options.protocol, "client", this.version);
    this.fromServer = new TypeCodes(this.options.protocol, "server", this.version);
    this.setState("connected");
    this.receiver?.connected(this, link.resumed);
    this.settle?.resolve(this);
    this.settle = undefined;
  }

  /** The connection, or the attempt, ended. */
  private ended(error: WireError, isLogin = false): void {
    const wasConnected = this.connection === "connected";
    const wasResuming = this.connection === "resuming";
    if (wasConnected) {
      const resume = this.link?.resume;
      this.resumeToken = resume && { token: resume.token, until: now() + resume.window };
    }
    this.receiver?.ended();
    this.dropTransport();
    for (const request of [...this.requests.values()]) request.reject(error);
    const isOver = finals.has(error.code) && !(renewable.has(error.code) && typeof this.options.ticket === "function") && !isLogin;
    if (isOver || this.options.reconnect === false) return this.finish(error);
    if (wasConnected && this.resumeToken && now() < this.resumeToken.until) {
      this.setState("resuming", error);
      const { token } = this.resumeToken;
      return void this.attempt(token);
    }
    const { firstRetry = 500, longestRetry = 8000 } = this.options;
    this.backOff = this.backOff === 0 ? firstRetry : Math.min(this.backOff * 2, longestRetry);
    this.setState("waiting", error);
    // A server that restarts may remember: the right to resume stays until it is refused or expires.
    const keeps = wasResuming && error.code !== "resume_unknown" && this.resumeToken && now() < this.resumeToken.until;
    if (!keeps) this.resumeToken = undefined;
    this.retryTimer = setTimeout(() => {
      const token = this.resumeToken?.token;
      this.setState(token ? "resuming" : "connecting");
      void this.attempt(token);
    }, this.backOff);
  }

  private finish(error: WireError): void {
    ++this.generation;
    this.dropTransport();
    clearTimeout(this.retryTimer);
    for (const request of [...this.requests.values()]) request.reject(error);
    this.options.signal?.removeEventListener("abort", this.onAbort);
    this.setState("closed", error);
    const { signal } = this.options;
    this.settle?.reject(signal?.aborted ? abortError(signal) : error);
    this.settle = undefined;
  }

  private dropTransport(): void {
    clearTimeout(this.timer);
    clearTimeout(this.patience);
    this.carrier?.close();
    this.carrier = undefined;
  }

  private queueFlush(): void {
    if (this.isFlushQueued) return;
    this.isFlushQueued = true;
    queueMicrotask(() => {
      this.isFlushQueued = false;
      this.flush();
    });
  }

  private flush(): void {
    const { link, carrier } = this;
    if (!link) return;
    const at = now();
    link.wake(at);
    if (carrier?.isOpen) {
      for (let datagram = link.poll(at); datagram; datagram = link.poll(at)) carrier.send(datagram);
    }
    if (link !== this.link || link.state === "closed") return;
    clearTimeout(this.timer);
    const wait = link.nextWakeup() - now();
    if (wait < Infinity) this.timer = setTimeout(() => this.flush(), Math.max(1, wait));
  }
}

/** Milliseconds of a steady clock. */
export function now(): number {
  return performance.now();
}

function abortError(signal: AbortSignal): unknown {
  return signal.reason ?? new DOMException("aborted", "AbortError");
}

/**
 * Connects to a server at a `ws:` or `wss:` URL. Resolves with the first connection; while the server is not there it
 * tries again, which `onState` shows. Rejects with WireError if the server refuses for good, with an AbortError through
 * `signal`.
 */
export function connect(url: string, options: ConnectOptions): Promise<Client> {
  return new Client(url, options).start();
}
