// The client's copy of a replicated world: snapshots, play-out, inputs, prediction. The joint of the link and the
// decoder of snapshots.
import { BitWriter, type BitReader } from "./bits.js";
import { now as clock, type Client } from "./client.js";
import { parseTables, type CodeTables } from "./codes.js";
import { EntityModel } from "./columns.js";
import type { EntityType, MessageType, Position, ProtocolInfo, Ref } from "./protocol.js";
import { fieldsCodec } from "./schema.js";
import { ClientWorld } from "./snapshots.js";
import { worldPosition } from "./world_position.js";
import { maxAhead, type EntitySlot, type WorldCounts } from "./world_state.js";

const inputsKept = 64;
const maxInDatagram = 8;
const laterSnapshots = 4;
const laterTicks = 3;
const jump = 10;
const latenessKept = 64;

/** The digest of a file of `kwind train`, for ConnectOptions.codeTables. Throws WireError `code_tables`. */
export function codeTablesDigest(text: string, protocol: ProtocolInfo): string {
  return parseTables(text, protocol.entities.map((type, i) => new EntityModel(type, i, 20))).digest;
}

export interface PlayoutOptions {
  /** Ticks behind the newest snapshot, at least and at most. */
  minTicks?: number;
  maxTicks?: number;
  /** Share by which the drawn time may run faster or slower. */
  maxHaste?: number;
}

/** Picks the play-out delay from the 95th percentile of the lateness of snapshots. Ticks and milliseconds. */
export class PlayoutClock {
  /** Present delay and jitter in ticks. */
  delay = 1;
  jitter = 0;
  drawn = 0;
  private late: number[] = [];
  private earliest = 0;
  private shift: number | undefined;
  private newest = 0;
  private drawnAt = 0;
  private laterCount = 0;
  private laterSince = 0;
  private readonly options: Required<PlayoutOptions>;
  constructor(private readonly ticksPerSecond: number, options: PlayoutOptions = {}) {
    this.options = { minTicks: 1, maxTicks: 20, maxHaste: 0.05, ...options };
  }

  onSnapshot(now: number, tick: number): void {
    if (tick === this.newest) return;
    const at = (now / 1000) * this.ticksPerSecond;
    if (tick < this.newest) {
      // The server started anew.
      this.restart();
      this.drawn = 0;
    }
    this.newest = tick;
    const late = at - tick;
    if (this.late.length > 0 && (late < this.earliest - jump || this.isLater(at, late))) this.restart();
    this.late.push(late);
    if (this.late.length > latenessKept) this.late.shift();
    const sorted = [...this.late].sort((a, b) => a - b);
    this.earliest = sorted[0]!;
    this.jitter = sorted[Math.floor(((sorted.length - 1) * 95) / 100)]! - this.earliest;
    const { minTicks, maxTicks } = this.options;
    this.delay = Math.min(maxTicks, minTicks + this.jitter);
  }
  private restart(): void {
    this.late = [];
    this.shift = undefined;
  }
  private isLater(at: number, late: number): boolean {
    if (late <= this.earliest + jump) {
      this.laterCount = 0;
      return false;
    }
    if (this.laterCount++ === 0) this.laterSince = at;
    if (this.laterCount < laterSnapshots || at - this.laterSince < laterTicks) return false;
    this.laterCount = 0;
    return true;
  }
  /** The tick to draw; nothing before the first snapshot. */
  tickAt(now: number): number | undefined {
    if (this.late.length === 0) return undefined;
    const at = (now / 1000) * this.ticksPerSecond;
    const wanted = this.earliest + this.delay;
    if (this.shift === undefined || Math.abs(this.shift - wanted) > jump) {
      this.shift = wanted;
    } else {
      const most = Math.max(at - this.drawnAt, 0) * this.options.maxHaste;
      this.shift += Math.max(-most, Math.min(most, wanted - this.shift));
    }
    this.drawnAt = at;
    this.drawn = Math.max(this.drawn, Math.min(at - this.shift, this.newest + maxAhead));
    return this.drawn;
  }
}

export interface WorldOptions {
  playout?: PlayoutOptions;
  /** In how many datagrams each input travels; default: 3, and 1 over a web socket, where nothing is lost. */
  inputCopies?: number;
  /** Texts of files that `kwind train` made; name their digests in ConnectOptions.codeTables too. */
  codeTables?: readonly string[];
}

type Handlers = Map<EntityType<unknown>, Record<"spawned" | "updated" | "despawned", ((ref: Ref<any>, value: any) => void)[]>>;
interface PackedInput { bytes: Uint8Array; bits: number; shown: number | undefined }

/** Make it before, or right after, the client connects. One for a client. */
export class ReplicatedWorld {
  /** Bits of snapshots that arrived. */
  bitsReceived = 0;
  private world: ClientWorld;
  private playout: PlayoutClock | undefined;
  private readonly handlers: Handlers = new Map();
  private readonly snapshotHandlers: (() => void)[] = [];
  private readonly sets: CodeTables[];
  private readonly protocol: ProtocolInfo;
  // Inputs.
  private readonly inputs = new Map<number, PackedInput>();
  private newestInput = 0;
  /** Newest input in each of the last datagrams, as many as each input travels in. */
  private sentBefore: number[] = [0];
  private readonly writer = new BitWriter(256);
  private readonly codecs = new Map<MessageType<unknown>, ReturnType<typeof fieldsCodec>>();
  // Resyncs.
  private resyncPause = 0;
  private nextResync = 0;
  private blindRequests = 0;
  private blindSince: number | undefined;
  private blindTimer: ReturnType<typeof setInterval> | undefined;

  constructor(private readonly client: Client, private readonly options: WorldOptions = {}) {
    this.protocol = client.options.protocol;
    if (this.protocol.entities.length === 0) throw new TypeError(`protocol ${this.protocol.name} has no entities`);
    const models = this.protocol.entities.map((type, i) => new EntityModel(type, i, 20));
    this.sets = (options.codeTables ?? []).map((text) => parseTables(text, models));
    this.world = new ClientWorld(this.protocol);
    client.setPayloadReceiver({
      connected: (_, resumed) => this.connected(resumed),
      payload: (payload) => this.receive(payload),
      ended: () => clearInterval(this.blindTimer),
    });
  }

  // ---- what a program reads ----

  /** The newest tick that arrived; 0 before the first. */
  get tick(): number { return this.world.tick; }
  /** Ticks per second of the server's world; 0 before the first snapshot. */
  get tickRate(): number { return this.world.tick > 0 ? this.world.rate / 16 : 0; }
  /** Entities in view. */
  get size(): number { return this.world.size; }
  get counts(): WorldCounts { return this.world.counts; }
  /** Ticks that are drawn behind the newest snapshot, and the jitter that this is for; in ticks. */
  get playoutDelay(): number { return this.playout?.delay ?? 0; }
  get playoutJitter(): number { return this.playout?.jitter ?? 0; }
  /** Starts to account bits of snapshots by entity type and field; the map grows from then on. */
  accountBits(): Map<string, number> {
    this.world.bitsBy ??= this.bitsBy;
    return this.bitsBy;
  }
  private readonly bitsBy = new Map<string, number>();
  /** Number of the newest input that the server had processed in the newest snapshot; 0: none. */
  get lastProcessedInput(): number {
    const low = this.world.lastProcessedInput;
    if (low === undefined || this.newestInput === 0) return 0;
    const ahead = (low - this.newestInput) & 0xffff;
    const number = ahead < 0x8000 ? this.newestInput + ahead : this.newestInput + ahead - 0x10000;
    return number <= this.newestInput ? Math.max(0, number) : 0;
  }

  /** Called when an entity of the type comes into view. The function that comes back ends that. */
  onSpawn<T>(type: EntityType<T>, handler: (ref: Ref<T>, value: T) => void): () => void {
    return this.add(type, "spawned", handler);
  }
  /** Called when a field, or the owner, changed. */
  onUpdate<T>(type: EntityType<T>, handler: (ref: Ref<T>, value: T) => void): () => void {
    return this.add(type, "updated", handler);
  }
  /** Called when an entity despawned or left the view. */
  onDespawn<T>(type: EntityType<T>, handler: (ref: Ref<T>) => void): () => void {
    return this.add(type, "despawned", handler);
  }
  /** Called after each snapshot. */
  onSnapshot(handler: () => void): () => void {
    this.snapshotHandlers.push(handler);
    return () => void this.snapshotHandlers.splice(this.snapshotHandlers.indexOf(handler), 1);
  }

  /** The newest values that arrived; nothing if the entity is not in view. */
  get<T>(ref: Ref<T>): T | undefined {
    const slot = this.world.find(ref);
    return slot && this.world.valueOf(slot);
  }
  /** The values to draw at a time of performance.now(), interpolated at the play-out clock's tick. */
  sample<T>(ref: Ref<T>, now: number): T | undefined {
    const tick = this.playout?.tickAt(now);
    return tick === undefined ? undefined : this.world.sample(ref, tick);
  }
  /** The world position of an entity at a time of performance.now(), also of one that is attached to a carrier. */
  position(ref: Ref, now: number, field = "at"): Position | undefined {
    const tick = this.playout?.tickAt(now);
    return tick === undefined ? undefined : worldPosition(this.world, ref, tick, field);
  }
  /** Every entity of the type in view with its newest values. */
  all<T>(type: EntityType<T>): { ref: Ref<T>; value: T }[] {
    const index = this.indexOf(type);
    return [...this.world.entities()].filter(({ slot }) => slot.type === index).map(({ ref, slot }) => ({ ref, value: this.world.valueOf(slot) }));
  }
  /** Calls `draw` with every entity of the type in view, as sample() gives it. */
  each<T>(type: EntityType<T>, now: number, draw: (ref: Ref<T>, value: T) => void): void {
    const tick = this.playout?.tickAt(now);
    if (tick === undefined) return;
    const index = this.indexOf(type);
    for (const { ref, slot } of this.world.entities()) {
      if (slot.type !== index) continue;
      const value = this.world.sample(ref, tick);
      if (value) draw(ref, value);
    }
  }
  /** The entity of the type that this client owns, the one with the smallest id. */
  owned<T>(type: EntityType<T>): Ref<T> | undefined {
    const index = this.indexOf(type);
    for (const { ref, slot } of this.world.entities()) if (slot.type === index && slot.owner) return ref;
    return undefined;
  }
  owns(ref: Ref): boolean {
    return this.world.find(ref)?.owner === true;
  }

  // ---- inputs ----

  /** Queues an input for the next datagram. Returns its number, from 1. */
  sendInput<T>(type: MessageType<T>, input: T): number {
    let codec = this.codecs.get(type);
    if (!codec) this.codecs.set(type, (codec = fieldsCodec(type.fields, this.client.version || this.protocol.version)));
    const { writer } = this;
    writer.clear();
    codec.write(writer, input);
    const drawn = this.playout?.drawn ?? 0;
    const number = ++this.newestInput;
    this.inputs.set(number, { bytes: writer.finish(), bits: writer.length, shown: drawn > 0 ? Math.floor(drawn * 4) & 1023 : undefined });
    this.inputs.delete(number - inputsKept);
    this.writeInputs();
    return number;
  }

  private writeInputs(): void {
    const newest = this.newestInput;
    if (newest === this.sentBefore[0]) return;
    const base = this.lastProcessedInput;
    const hasBase = base > 0 && base < newest && newest - base < inputsKept - maxInDatagram;
    const alreadySent = this.sentBefore[this.sentBefore.length - 1]!;
    const count = Math.min(newest - alreadySent, maxInDatagram, hasBase ? newest - base : newest);
    const out = new BitWriter(128);
    out.bool(false);
    out.bool(hasBase);
    out.put(newest % (hasBase ? 256 : 0x1_0000_0000), hasBase ? 8 : 32);
    if (hasBase) out.count(newest - base - 1, 2);
    out.bool(count === 3);
    if (count !== 3) out.count(count - 1, 0);
    const { shown } = this.inputs.get(newest)!;
    out.bool(shown !== undefined);
    if (shown !== undefined) out.put(shown, 10);
    let before = hasBase ? this.inputs.get(base) : undefined;
    for (let number = newest - count + 1; number <= newest; ++number) {
      const input = this.inputs.get(number)!;
      const isSame = before !== undefined && before.bits === input.bits && before.bytes.every((byte, i) => byte === input.bytes[i]);
      if (before) out.bool(isSame);
      if (!isSame) {
        const isAsLong = before?.bits === input.bits;
        if (before) out.bool(isAsLong);
        if (!isAsLong) out.count(input.bits, 3);
        out.bits(input.bytes, input.bits);
      }
      before = input;
    }
    this.sentBefore.pop();
    this.sentBefore.unshift(newest);
    this.client.sendPayload(out.finish(), out.length);
  }

  // ---- inside ----

  private add(type: EntityType<any>, what: "spawned" | "updated" | "despawned", handler: (ref: Ref<any>, value: any) => void): () => void {
    this.indexOf(type);
    let all = this.handlers.get(type);
    if (!all) this.handlers.set(type, (all = { spawned: [], updated: [], despawned: [] }));
    all[what].push(handler);
    return () => void (all[what] = all[what].filter((each) => each !== handler));
  }
  private indexOf(type: EntityType<any>): number {
    const index = this.protocol.entities.indexOf(type);
    if (index < 0) throw new TypeError(`protocol ${this.protocol.name} has no entity ${type.name}`);
    return index;
  }

  private connected(resumed: boolean): void {
    // After a resume the server goes on with what this client has.
    if (!resumed) {
      const { codeTables } = this.client;
      const before = this.world;
      for (const { ref, slot } of before.entities()) this.tell("despawned", slot.type, ref);
      this.world = new ClientWorld(this.protocol, codeTables > 0 ? this.sets[codeTables - 1]! : undefined, this.client.version);
      if (before.bitsBy) this.world.bitsBy = this.bitsBy;
      this.playout = undefined;
      this.newestInput = 0;
      this.inputs.clear();
      this.sentBefore = [0];
    }
    const copies = this.options.inputCopies ?? (this.client.transport === "web transport" ? 3 : 1);
    this.sentBefore = new Array<number>(copies).fill(this.sentBefore[0]!);
    this.resyncPause = this.blindRequests = 0;
    this.blindSince = undefined;
    clearInterval(this.blindTimer);
    this.blindTimer = setInterval(() => this.askForResync(), 250);
    (this.blindTimer as { unref?: () => void }).unref?.();
  }

  private receive(payload: BitReader): void {
    const at = clock();
    this.bitsReceived += payload.left;
    const before = this.world.tick;
    let error: unknown;
    try {
      const code = this.world.receive(payload);
      if (code !== "none" && code !== "base_missing") {
        const { drops } = this.client.stats;
        drops[code] = (drops[code] ?? 0) + 1;
      }
    } catch (thrown) {
      error = thrown;
    }
    this.client.newestTick = this.world.tick;
    if (!this.playout && this.world.tick > 0) this.playout = new PlayoutClock(this.world.rate / 16, this.options.playout);
    if (this.world.tick !== before) this.playout?.onSnapshot(at, this.world.tick);
    for (const event of this.world.takeEvents()) this.tell(event.what, event.type, event);
    for (const handler of [...this.snapshotHandlers]) handler();
    this.writer.clear();
    this.writer.bool(true);
    this.writer.bool(false);
    if (this.world.writeReport(this.writer, 8000)) this.client.sendPayload(this.writer.finish(), this.writer.length);
    this.askForResync();
    if (error) throw error;
  }

  private tell(what: "spawned" | "updated" | "despawned", type: number, { id, generation }: Ref): void {
    const handlers = this.handlers.get(this.protocol.entities[type]!)?.[what];
    if (!handlers?.length) return;
    const ref = { id, generation };
    const slot: EntitySlot | undefined = what === "despawned" ? undefined : this.world.find(ref);
    if (what !== "despawned" && !slot) return;
    const value = slot && this.world.valueOf(slot);
    for (const handler of handlers) handler(ref, value);
  }

  /** Asks for a full resync if a snapshot could not be read, or none has come. */
  private askForResync(): void {
    const at = clock();
    let snapshot = this.world.blocked;
    if (snapshot === undefined && this.world.counts.snapshots === 0 && this.blindRequests < 3) {
      this.blindSince ??= at;
      if (at - this.blindSince >= 1000) snapshot = 0;
    }
    if (snapshot === undefined) {
      this.resyncPause = 0;
      return;
    }
    if (this.resyncPause > 0 && at < this.nextResync) return;
    this.resyncPause = Math.min(2000, Math.max(250, 2 * this.resyncPause));
    this.nextResync = at + this.resyncPause;
    if (snapshot === 0) ++this.blindRequests;
    const out = new BitWriter(8);
    out.put(3, 2);
    out.put(snapshot, 7);
    this.client.sendPayload(out.finish(), out.length);
  }

  /** For Predicted: whether the newest state of an entity is of the newest tick. */
  isCurrent(ref: Ref): boolean {
    return this.world.find(ref)?.tick === this.world.tick;
  }
}

/**
 * Client-side prediction and reconciliation of the entity that this client owns: applies inputs at once, and again from
 * the server's state when a prediction was wrong.
 */
export class Predicted<State, Input> {
  /** How often a prediction was wrong. */
  corrections = 0;
  private ref: Ref | undefined;
  private now: State | undefined;
  private waiting: { number: number; input: Input; after: State }[] = [];
  private last: { number: number; truth: State } | undefined;

  /**
   * `step` must be the server's step. `same`: whether two states need no correction; it allows for the quantisation of
   * the fields.
   */
  constructor(
    private readonly world: ReplicatedWorld, private readonly type: EntityType<State>, private readonly inputType: MessageType<Input>,
    private readonly step: (state: State, input: Input) => State, private readonly same: (a: State, b: State) => boolean,
  ) {
    world.onSnapshot(() => this.correct());
  }

  /** The predicted state; nothing until the owned entity is in view. */
  get state(): State | undefined {
    return this.now;
  }
  /** Sends an input and applies it. Does nothing until the owned entity is in view; call it once a tick. */
  apply(input: Input): void {
    if (this.now === undefined) return;
    const number = this.world.sendInput(this.inputType, input);
    this.now = this.step(this.now, input);
    this.waiting.push({ number, input, after: this.now });
    if (this.waiting.length > 128) this.waiting.shift();
  }

  private correct(): void {
    const ref = this.world.owned(this.type);
    const truth = ref && this.world.get(ref);
    if (!ref || truth === undefined) {
      this.now = this.ref = this.last = undefined;
      this.waiting = [];
      return;
    }
    if (this.now === undefined || ref.id !== this.ref?.id || ref.generation !== this.ref.generation) {
      this.ref = ref;
      this.now = truth;
      this.waiting = [];
      this.last = undefined;
      return;
    }
    const number = this.world.lastProcessedInput;
    if (number === 0 || !this.world.isCurrent(ref)) return;
    if (this.last?.number === number && this.same(this.last.truth, truth)) return;
    while (this.waiting.length > 0 && this.waiting[0]!.number < number) this.waiting.shift();
    this.last = { number, truth };
    if (this.waiting[0]?.number !== number) {
      if (this.waiting.length > 0 || !this.same(this.now, truth)) this.replay(truth);
      return;
    }
    const { after } = this.waiting.shift()!;
    if (!this.same(after, truth)) this.replay(truth);
  }
  private replay(truth: State): void {
    ++this.corrections;
    this.now = truth;
    for (const each of this.waiting) each.after = this.now = this.step(this.now!, each.input);
  }
}
