// Reads snapshots into the states of entities: whole or not at all (docs/state-format.md). No sockets, no clock.
import { BitReader, BitWriter, bitsFor } from "./bits.js";
import { builtInTables, far, wholeValue, type CodeTables, type TypeCodes } from "./codes.js";
import { EntityModel, type Bits, type Known, type Row } from "./columns.js";
import { WireError, fail, type ErrorCode } from "./errors.js";
import { readDifference, readGrid, writeGrid, type ProtocolInfo, type Ref } from "./schema.js";

/** Snapshots this far behind the newest are of no use. */
const window = 64;
const kept = 4 * window;
const recordsKept = 2 * window;
const longestMemory = 24;
const fragmentBits = 128;
const maxEvents = 65536;
/** Ticks beyond the newest that are drawn, and ticks between two states that are blended. */
export const maxAhead = 5;
const longestBlend = 4;

type Update = "full" | "delta" | "despawn";
interface State {
  snapshot: number;
  /** Tick of the snapshot, and of the values. */
  at: number;
  tick: number;
  update: Update;
  generation: number;
  type: number;
  owner: boolean;
  row: Row;
}
interface Mark {
  snapshot: number;
  tick: number;
  start: number;
  base: number;
  /** Of the snapshots between, newest first: whether they were assumed delivered. */
  between: readonly boolean[];
  input: number;
}
interface EntitySlot {
  received: State[];
  isThere: boolean;
  generation: number;
  type: number;
  owner: boolean;
  at: number;
  tick: number;
  row: Row;
}
interface Sections { continuing: boolean; unexpected: boolean; spawns: boolean; fragments: boolean }

export interface WorldEvent {
  what: "spawned" | "updated" | "despawned";
  id: number;
  generation: number;
  type: number;
}
export interface WorldCounts {
  /** Snapshots that were read, that wait for others, and that could not be read in the end. */
  snapshots: number;
  waiting: number;
  unread: number;
  /** Digests that were compared, and that differed. */
  digests: number;
  desyncs: number;
  eventsLost: number;
}

const emptyRow: Row = { numbers: [], varying: [] };
const unfolded = (code: number): number => (code % 2 === 0 ? code / 2 : -(code + 1) / 2);

/** mix() of the digest, in two halves of 64 bits. */
class Digest {
  private low: number;
  private high = 0;
  constructor(from = 0x85a308d3) {
    this.low = from >>> 0;
  }
  add(word: number): void {
    const { low, high } = this;
    const a = (low ^ word) >>> 0;
    // (high:a) * 0x9e3779b9:7f4a7c15 modulo 2^64.
    const [a0, a1] = [a & 0xffff, a >>> 16];
    const [b0, b1] = [0x7c15, 0x7f4a];
    const p00 = a0 * b0;
    const middle = a1 * b0 + (p00 >>> 16);
    const middle2 = a0 * b1 + (middle & 0xffff);
    const productLow = ((middle2 << 16) | (p00 & 0xffff)) >>> 0;
    const productHigh = (a1 * b1 + Math.floor(middle / 65536) + Math.floor(middle2 / 65536)) >>> 0;
    const newHigh = (productHigh + Math.imul(high, 0x7f4a7c15) + Math.imul(a, 0x9e3779b9)) >>> 0;
    // ^ (s >> 29)
    this.low = (productLow ^ ((low >>> 29) | (high << 3))) >>> 0;
    this.high = (newHigh ^ (high >>> 29)) >>> 0;
  }
  get value(): number {
    return (this.low ^ this.high) >>> 0;
  }
}

export class ClientWorld {
  readonly counts: WorldCounts = { snapshots: 0, waiting: 0, unread: 0, digests: 0, desyncs: 0, eventsLost: 0 };
  models: EntityModel[] = [];
  /** Newest tick that arrived; 0 before the first. */
  tick = 0;
  /** In sixteenths of ticks per second. */
  rate = 0;
  /** Whether the server deltas against baselines in flight. */
  isSpeculative = false;
  /** Low bits of the newest snapshot that could not be read. */
  blocked: number | undefined;
  /** Entities in view. */
  size = 0;
  /** Bits of snapshots by entity type and field, if somebody set the map. */
  bitsBy: Map<string, number> | undefined;

  private readonly slots: (EntitySlot | undefined)[] = [];
  /** Ids with states, ascending. */
  private withStates: number[] = [];
  private readonly marks: (Mark | undefined)[] = new Array<Mark | undefined>(kept).fill(undefined);
  private readonly taken = new Map<number, { ids: number[]; there: number[] }>();
  private latest = 0;
  private resolved = 0;
  private start = 0;
  private input = 0;
  private waiting = new Map<number, { bytes: Uint8Array; bits: number }>();
  private sections: Sections = { continuing: false, unexpected: false, spawns: false, fragments: false };
  private assumed = new Set<number>();
  private staged: State[] = [];
  private stagedIds: number[] = [];
  private fragments: { number: number; first: number; count: number; bytes: Uint8Array } | undefined;
  private assembly: { number: number; snapshot: number; has: boolean[]; bytes: Uint8Array } | undefined;
  private desynced: Mark | undefined;
  private events: WorldEvent[] = [];
  private isDamaged = false;
  private readonly tables: CodeTables;
  private readonly typeBits: number;

  constructor(private readonly protocol: ProtocolInfo, tables?: CodeTables) {
    this.setRate(20 * 16);
    this.tables = tables ?? builtInTables(this.models);
    this.typeBits = bitsFor(protocol.entities.length);
  }

  /** Accounts the bits since `start`. Returns where the next ones start. */
  private account(name: string, from: BitReader, start: number): number {
    if (this.bitsBy) this.bitsBy.set(name, (this.bitsBy.get(name) ?? 0) + from.position - start);
    return from.position;
  }

  private setRate(rate: number): void {
    if (rate === this.rate) return;
    this.rate = rate;
    this.models = this.protocol.entities.map((type, i) => new EntityModel(type, i, rate / 16));
  }

  takeEvents(): WorldEvent[] {
    const { events } = this;
    this.events = [];
    return events;
  }
  /** Low 16 bits of the number of the newest input that the server had processed; nothing before the first. */
  get lastProcessedInput(): number | undefined {
    return this.input === 0 ? undefined : (this.tick + this.input - 1) & 0xffff;
  }

  // ---- entities ----

  find(ref: Ref): EntitySlot | undefined {
    const slot = this.slots[ref.id];
    return slot?.isThere && slot.generation === ref.generation ? slot : undefined;
  }
  /** Every entity in view, by id. */
  *entities(): Generator<{ ref: Ref; slot: EntitySlot }> {
    for (let id = 1; id < this.slots.length; ++id) {
      const slot = this.slots[id];
      if (slot?.isThere) yield { ref: { id, generation: slot.generation }, slot };
    }
  }
  /** The newest values that arrived. */
  valueOf(slot: EntitySlot): any {
    return this.models[slot.type]!.valueOf(slot.row, slot.owner, { newestTick: this.tick });
  }

  /** Values at a tick: between two states, or moved on from the newest. */
  sample(ref: Ref, tick: number): any {
    const slot = this.find(ref);
    if (!slot) return undefined;
    const model = this.models[slot.type]!;
    const context = { newestTick: this.tick };
    let before: State | undefined;
    let after: State | undefined;
    for (const state of slot.received) {
      if (state.update === "despawn" || state.generation !== slot.generation || state.type !== slot.type) before = after = undefined;
      else if (state.tick <= tick) {
        if (!before || state.tick >= before.tick) before = state;
      } else if (!after || state.tick < after.tick) {
        after = state;
      }
    }
    if (after) {
      const start = Math.max(before?.tick ?? 0, after.tick > longestBlend ? after.tick - longestBlend : 0);
      before ??= after;
      if (before === after || before.owner !== after.owner || model.leaps(before.row, after.row)) {
        return model.valueOf(before.row, before.owner, context);
      }
      const from = model.valueOf(model.movedOn(before, model.isTolerant ? Math.floor(start) : before.tick), before.owner, context);
      const to = model.valueOf(after.row, after.owner, context);
      return model.blend(from, to, Math.max(0, Math.min(1, (tick - start) / (after.tick - start))));
    }
    let reach = Math.max(tick, slot.tick);
    if (!model.isTolerant) {
      // No update means that it stands still: a moving entity has one in each tick.
      const ahead = reach - slot.tick;
      reach = slot.tick + (ahead <= maxAhead ? ahead : Math.max(2 * maxAhead - ahead, 0));
      if (slot.tick + maxAhead < this.tick) reach = slot.tick;
    }
    if (model.follows.length === 0) return model.valueOf(slot.row, slot.owner, context);
    const whole = Math.floor(reach);
    const known: Known = { tick: slot.tick, row: slot.row };
    const from = model.valueOf(model.movedOn(known, whole), slot.owner, context);
    if (reach === whole) return from;
    return model.blend(from, model.valueOf(model.movedOn(known, whole + 1), slot.owner, context), reach - whole);
  }

  // ---- snapshots ----

  /** Takes the payload of a snapshot. The cause if it could not be read; `base_missing`: it waits for others. */
  receive(payload: BitReader): ErrorCode {
    const bits = payload.left;
    const bytes = payload.bits(bits);
    const error = this.tryToTake(bytes, bits);
    if (error === "base_missing") {
      this.blocked = this.lowOf(bytes);
      this.keep(bytes, bits);
      return error;
    }
    if (error !== "none") return error;
    while (this.waiting.size > 0 && this.takeWaiting());
    if (this.waiting.size === 0) this.blocked = undefined;
    return "none";
  }

  private lowOf(bytes: Uint8Array): number {
    const reader = new BitReader(bytes);
    return (reader.bool() ? reader.peek(32) : reader.peek(7)) & 127;
  }
  private numberOf(low: number): number {
    const min = Math.max(0, this.latest - window);
    return min + ((low - min) & 127);
  }

  private tryToTake(bytes: Uint8Array, bits: number): ErrorCode {
    try {
      this.take(new BitReader(bytes, bits));
      return "none";
    } catch (error) {
      if (error instanceof WireError) return error.code;
      // An internal fault: what is here may be half changed, and only a full resync mends it.
      this.isDamaged = true;
      this.blocked = this.lowOf(bytes);
      throw error;
    }
  }

  private keep(bytes: Uint8Array, bits: number): void {
    if (bytes.length > 2048) return;
    const snapshot = this.numberOf(this.lowOf(bytes));
    for (const number of this.waiting.keys()) {
      if (number !== snapshot && (number - snapshot) % window === 0) {
        this.waiting.delete(number);
        ++this.counts.unread;
      }
    }
    this.waiting.set(snapshot, { bytes, bits });
    ++this.counts.waiting;
  }
  private takeWaiting(): boolean {
    let any = false;
    for (const [snapshot, { bytes, bits }] of [...this.waiting].sort(([a], [b]) => a - b)) {
      if (!this.waiting.has(snapshot)) continue;  // a full resync dropped it
      const isOld = snapshot < this.start || this.latest - snapshot >= window;
      const error = isOld ? "replayed" : this.tryToTake(bytes, bits);
      if (error === "base_missing") continue;
      if (error !== "none") ++this.counts.unread;
      this.waiting.delete(snapshot);
      any ||= error === "none";
    }
    return any;
  }

  private markOf(snapshot: number): Mark | undefined {
    const mark = this.marks[snapshot % kept];
    return snapshot > 0 && mark?.snapshot === snapshot ? mark : undefined;
  }
  private static between(base: Mark): number {
    return Math.min(base.snapshot - base.base - 1, window - 1);
  }
  /** Whether the maker of `mark` assumed a snapshot delivered. */
  private assumedBy(mark: Mark, snapshot: number): boolean {
    let from = mark;
    while (from.base > 0 && snapshot <= from.base) {
      if (snapshot === from.base) return true;
      const base = this.markOf(from.base);
      if (!base) return false;
      if (snapshot > base.base) return from.between[from.base - 1 - snapshot] === true;
      from = base;
    }
    return false;
  }
  /** Every snapshot that the maker of `mark` assumed delivered, as far back as two windows and more. */
  private allAssumed(mark: Mark): Set<number> {
    const found = new Set<number>();
    let from: Mark | undefined = mark;
    while (from && from.base > 0 && mark.snapshot - from.base <= 3 * window) {
      found.add(from.base);
      const base = this.markOf(from.base);
      if (!base) break;
      from.between.forEach((delivered, i) => delivered && found.add(from!.base - 1 - i));
      from = base;
    }
    return found;
  }
  private isDiscarded(snapshot: number): boolean {
    if (this.latest > snapshot && this.latest - snapshot >= window) return true;
    const newest = this.markOf(this.latest);
    return newest !== undefined && snapshot <= newest.base && !this.assumedBy(newest, snapshot);
  }
  /** Whether a snapshot builds on one that was discarded since it was made. */
  private buildsOnDiscarded(mark: Mark): boolean {
    if (!this.markOf(mark.base)) return false;
    if (!this.taken.has(mark.base)) return true;
    return mark.between.some((delivered, i) => delivered && !this.taken.has(mark.base - 1 - i));
  }

  private take(from: BitReader): void {
    let digest: number | undefined;
    const readMore = (mark: { input: number }, before: number): void => {
      if (from.bool()) {
        mark.input = before + unfolded(from.count(1));
        if (mark.input < 0 || mark.input > 0x10000) fail("value_range", "an input that cannot be");
      }
      if (from.bool()) digest = from.get(16);
    };
    let mark: Mark;
    let rate = this.rate;
    if (from.bool()) {
      const snapshot = from.get(32);
      const tick = from.get(32);
      rate = from.get(16);
      const low = from.get(16);
      const speculative = from.bool();
      const since = from.count(3);
      if (since >= snapshot || tick === 0 || rate === 0) fail("value_range", "a full snapshot that cannot be");
      if (low !== this.tables.lowDigest) fail("code_tables", "the server writes state with other code tables");
      mark = { snapshot, tick, start: snapshot - since, base: 0, between: [], input: 0 };
      readMore(mark, 0);
      this.sections = { continuing: false, unexpected: false, spawns: from.bool(), fragments: from.bool() };
      this.isSpeculative = speculative;
    } else {
      const low = from.get(7);
      const symbol = this.tables.heads.read(from);
      let back = (symbol >> 4) + 1;
      if (back === 9) back += from.count(1);
      if (back >= window) fail("value_range", "a base that is too old");
      if (this.latest === 0) fail("base_missing", "no snapshot has arrived yet");
      const snapshot = this.numberOf(low);
      if (snapshot <= back) fail("replayed", "a base that cannot be");
      const base = this.markOf(snapshot - back);
      if (!base) fail("base_missing", "the base is not here");
      const count = ClientWorld.between(base);
      const between = (symbol & 1) !== 0 ? Array.from({ length: count }, () => from.bool()) : new Array<boolean>(count).fill(true);
      let tick = base.tick + back;
      if (symbol & 2) tick += unfolded(from.count(0));
      if (tick < 1 || tick > 0xffff_ffff) fail("value_range", "a tick that cannot be");
      mark = { snapshot, tick, start: base.start, base: snapshot - back, between, input: base.input };
      if (symbol & 4) readMore(mark, base.input);
      this.sections = symbol & 8 ? readSections(from) : { continuing: true, unexpected: false, spawns: false, fragments: false };
    }
    if (mark.start < this.start) fail("replayed", "a snapshot from before the resync");
    if (this.isDamaged && mark.base > 0) fail("base_missing", "only a full snapshot mends this");
    const isAnew = mark.start > this.start || this.isDamaged;
    if (!isAnew && (this.markOf(mark.snapshot) || this.isDiscarded(mark.snapshot))) fail("replayed", "a snapshot that was here");
    if (rate !== this.rate && !isAnew) fail("value_range", "the tick rate changed");
    this.setRate(rate);
    if (mark.base > 0 && mark.between.some((delivered, i) => delivered && !this.markOf(mark.base - 1 - i))) {
      fail("base_missing", "a snapshot that this one builds on is not here");
    }
    if (!isAnew && this.buildsOnDiscarded(mark)) fail("replayed", "it builds on a discarded snapshot");
    this.staged = [];
    this.stagedIds = [];
    this.fragments = undefined;
    this.assumed = this.allAssumed(mark);
    this.read(from, mark);
    if (isAnew) {
      this.resync(mark.start);
      this.isDamaged = false;
    } else if (digest !== undefined) {
      this.check(mark, digest);
    }
    ++this.counts.snapshots;
    this.apply(mark);
  }

  private read(from: BitReader, mark: Mark): void {
    const wrong = (): never => fail("value_range", "the snapshot cannot be");
    const continuing = this.sections.continuing || this.sections.unexpected ? this.continuingOf(mark) : [];
    if (this.sections.continuing) for (const id of continuing) this.readUpdate(from, mark, id, true);
    if (this.sections.unexpected) {
      const listed = this.sections.continuing ? new Set(continuing) : new Set<number>();
      const ranked = this.rankUnexpected(mark, listed);
      let rank = 0;
      do {
        rank += from.count(1);
        if (rank >= ranked.length) wrong();
        this.readUpdate(from, mark, ranked[rank++]!, false);
      } while (from.bool());
    }
    if (this.sections.spawns) {
      let id = 0;
      do {
        id += from.count(4) + 1;
        if (id > this.protocol.entitiesUpTo) wrong();
        if (this.sections.fragments && from.bool()) this.readLastFragment(from, mark, id);
        else this.readSpawn(from, mark, mark.tick, id);
      } while (from.bool());
    }
    if (this.sections.fragments) this.readFragments(from);
    if (from.left > 0) fail("trailing_bits", "bits are left over after the snapshot");
    const seen = new Set(this.stagedIds);
    if (seen.size !== this.stagedIds.length) wrong();
  }

  /** Entities that the snapshots of the base's tick update without a despawn, by id. */
  private continuingOf(mark: Mark): number[] {
    const base = this.markOf(mark.base);
    if (!base) return [];
    let first = mark.base;
    for (let back = 1; back < window && back < mark.base; ++back) {
      const before = this.markOf(mark.base - back);
      if (!before) continue;
      if (before.tick !== base.tick) break;
      first = mark.base - back;
    }
    if (first === mark.base) return this.taken.get(mark.base)?.there ?? [];
    const found = new Set<number>();
    for (let snapshot = first; snapshot <= mark.base; ++snapshot) {
      if (snapshot !== mark.base && !this.assumed.has(snapshot)) continue;
      const taken = this.taken.get(snapshot);
      if (!taken) continue;
      for (const id of taken.ids) found.delete(id);
      for (const id of taken.there) found.add(id);
    }
    return [...found].sort((a, b) => a - b);
  }

  /** States of an entity that the maker of `mark` assumed to be here, newest first. */
  private statesKnown(mark: Mark, id: number): State[] {
    const found: State[] = [];
    const received = this.slots[id]?.received ?? [];
    for (let i = received.length - 1; i >= 0 && found.length < 4; --i) {
      const state = received[i]!;
      const settled = this.latest >= recordsKept && state.snapshot <= this.latest - recordsKept;
      if (!settled && !this.assumed.has(state.snapshot)) continue;
      if (state.update === "despawn") break;
      if (found.length > 0 && mark.tick - state.tick > longestMemory) break;
      found.push(state);
      if (state.update === "full") break;
    }
    return found;
  }

  private rankUnexpected(mark: Mark, listed: ReadonlySet<number>): number[] {
    const changed: number[] = [];
    const still: number[] = [];
    for (const id of this.withStates) {
      if (listed.has(id)) continue;
      const [last] = this.statesKnown(mark, id);
      if (last) (last.update === "delta" ? changed : still).push(id);
    }
    return changed.concat(still);
  }

  private stage(id: number, mark: Mark, update: Update): State {
    const state: State = { snapshot: mark.snapshot, at: mark.tick, tick: mark.tick, update, generation: 0, type: 0, owner: false, row: emptyRow };
    this.staged.push(state);
    this.stagedIds.push(id);
    return state;
  }

  private readUpdate(from: BitReader, mark: Mark, id: number, isContinuing: boolean): void {
    const known = this.statesKnown(mark, id);
    const [last] = known;
    if (!last || mark.tick < last.tick) fail("value_range", "an update of an entity that is not here");
    const model = this.models[last.type]!;
    const codes = this.tables.types[last.type]!;
    const age = Math.min(Math.max(mark.tick - last.tick, 1), 4) - 1;
    const start = from.position;
    const symbol = (isContinuing ? codes.continuing : codes.unexpected)[age]!.read(from);
    if (this.bitsBy) this.account(`${model.type.name} change mask`, from, start);
    if (isContinuing && symbol === model.masks) return;
    const state = this.stage(id, mark, symbol < model.masks ? "delta" : "despawn");
    state.generation = last.generation;
    state.type = last.type;
    state.owner = last.owner;
    if (state.update === "despawn") return;
    state.tick = this.readTick(from, model, state.tick);
    if (state.tick < last.tick) fail("value_range", "values older than the ones before");
    state.row = readChange(from, model, codes, known, state.tick, symbol, last.owner, this.bitsBy);
  }

  private readTick(from: BitReader, model: EntityModel, tick: number): number {
    if (!model.isTolerant) return tick;
    const lag = from.count(0);
    if (lag > 0xffff || lag >= tick) fail("value_range", "values from before the first tick");
    return tick - lag;
  }

  private readSpawn(from: BitReader, mark: Mark, tick: number, id: number): void {
    const state = this.stage(id, mark, "full");
    const start = from.position;
    state.generation = from.get(4);
    state.type = from.get(this.typeBits);
    state.owner = from.bool();
    const model = this.models[state.type];
    if (!model) fail("value_range", "there is no such entity type");
    state.tick = this.readTick(from, model, tick);
    const row: Row = { numbers: new Array<number>(model.columns.length).fill(0), varying: new Array<Bits | null>(model.columns.length).fill(null) };
    for (const c of model.order) {
      const column = model.columns[c]!;
      if (column.ownerOnly && !state.owner) continue;
      if (column.form === "varying") {
        row.varying[c] = readBits(from, column.last);
      } else {
        const value = from.get(column.bits);
        if (value > column.last) fail("value_range", "a field's bits name a value outside its range");
        row.numbers[c] = value;
      }
    }
    state.row = row;
    if (this.bitsBy) this.account(`${model.type.name} spawn`, from, start);
  }

  private readLastFragment(from: BitReader, mark: Mark, id: number): void {
    const number = from.get(8);
    const fragments = from.count(4);
    const lag = from.count(4);
    const rest = from.get(7);
    if (fragments === 0 || lag >= mark.tick) fail("value_range", "a fragmented entity that cannot be");
    const { assembly } = this;
    if (!assembly || assembly.number !== number || assembly.has.length < fragments || assembly.has.slice(0, fragments).includes(false)) {
      fail("replayed", "the server has discarded that fragmented entity");
    }
    const bytes = new Uint8Array(fragments * 16 + 16);
    bytes.set(assembly.bytes.subarray(0, fragments * 16));
    bytes.set(from.bits(rest), fragments * 16);
    const body = new BitReader(bytes, fragments * fragmentBits + rest);
    this.readSpawn(body, mark, mark.tick - lag, id);
    if (body.left > 0) fail("value_range", "a fragmented entity with bits left over");
    this.staged.at(-1)!.at = mark.tick;
  }

  private readFragments(from: BitReader): void {
    const count = from.count(2);
    if (count === 0) return;
    const number = from.get(8);
    const first = from.count(4);
    const here = this.assembly?.number === number ? this.assembly.has.length : 0;
    // Fragments go in order, and no more are in flight than a window of snapshots holds.
    if (count * fragmentBits > from.left || first > here + 8192) fail("value_range", "fragments that cannot be");
    this.fragments = { number, first, count, bytes: from.bits(count * fragmentBits) };
  }

  private sumOfShares(mark: Mark): number {
    let sum = 0;
    for (const id of this.withStates) {
      const [last] = this.statesKnown(mark, id);
      if (!last) continue;
      const model = this.models[last.type]!;
      const values = new Digest();
      for (let c = 0; c < model.columns.length; ++c) addColumn(values, model, last.row, c, last.owner);
      const share = new Digest(values.value);
      share.add(((id << 5) | (last.generation << 1) | (last.owner ? 1 : 0)) >>> 0);
      share.add(last.tick);
      sum = (sum + share.value) >>> 0;
    }
    return sum;
  }
  private check(mark: Mark, digest: number): void {
    const sum = this.sumOfShares(mark);
    ++this.counts.digests;
    if (((sum ^ (sum >>> 16)) & 0xffff) === digest) return;
    ++this.counts.desyncs;
    this.desynced = mark;
  }

  /** Writes a desync report of at most `room` bits; false if there is none. */
  writeReport(to: BitWriter, room: number): boolean {
    const mark = this.desynced;
    if (!mark) return false;
    this.desynced = undefined;
    this.assumed = this.allAssumed(mark);
    const known = this.withStates.flatMap((id) => {
      const [last] = this.statesKnown(mark, id);
      return last ? [[id, last] as const] : [];
    });
    if (known.length === 0) {
      this.blocked = mark.snapshot & 127;
      return false;
    }
    let before = 0;
    for (const [id, last] of known) {
      const model = this.models[last.type]!;
      if (to.length + 80 + model.columns.length * 8 > room) break;
      to.bool(true);
      to.count(id - before - 1, 3);
      before = id;
      to.put(last.generation, 4);
      to.put(last.tick & 0xffff, 16);
      to.count(model.columns.length, 3);
      for (let c = 0; c < model.columns.length; ++c) {
        const hash = new Digest();
        addColumn(hash, model, last.row, c, last.owner);
        to.put(hash.value & 255, 8);
      }
    }
    to.bool(false);
    return true;
  }

  private note(what: WorldEvent["what"], id: number, slot: EntitySlot): void {
    if (this.events.length >= maxEvents) {
      this.counts.eventsLost += this.events.length / 2;
      this.events.splice(0, this.events.length / 2);
    }
    this.events.push({ what, id, generation: slot.generation, type: slot.type });
  }

  private resync(snapshot: number): void {
    this.slots.forEach((slot, id) => slot?.isThere && this.note("despawned", id, slot));
    this.slots.length = 0;
    this.counts.unread += this.waiting.size;
    this.waiting.clear();
    this.withStates = [];
    this.assembly = undefined;
    this.marks.fill(undefined);
    this.taken.clear();
    this.size = 0;
    this.latest = this.tick = this.input = 0;
    this.resolved = snapshot - 1;
    this.start = snapshot;
  }

  private apply(mark: Mark): void {
    this.marks[mark.snapshot % kept] = mark;
    const order = this.stagedIds.map((_, i) => i).sort((a, b) => this.stagedIds[a]! - this.stagedIds[b]!);
    const taken = { ids: [] as number[], there: [] as number[] };
    this.taken.set(mark.snapshot, taken);
    this.taken.delete(mark.snapshot - 2 * recordsKept);
    for (const i of order) {
      const id = this.stagedIds[i]!;
      const state = this.staged[i]!;
      taken.ids.push(id);
      if (state.update !== "despawn") taken.there.push(id);
      const slot = (this.slots[id] ??= { received: [], isThere: false, generation: 0, type: 0, owner: false, at: 0, tick: 0, row: emptyRow });
      if (state.at >= slot.at) this.show(id, slot, state);
      const { received } = slot;
      if (received.length === 0) this.noteStates(id, true);
      if (this.latest > recordsKept && received.length > 8) trim(received, this.latest - recordsKept);
      let place = received.length;
      while (place > 0 && received[place - 1]!.snapshot > state.snapshot) --place;
      received.splice(place, 0, state);
    }
    if (this.fragments) this.takeFragments(mark.snapshot, this.fragments);
    this.tick = Math.max(this.tick, mark.tick);
    if (mark.snapshot <= this.latest) return;
    const before = this.latest;
    this.latest = mark.snapshot;
    this.input = mark.input;
    const firstAfter = (done: number, last: number): number => Math.max(done, last - 2 * recordsKept, 0) + 1;
    let oldestDiscarded = 0;
    const discard = (snapshot: number): void => {
      if (this.discard(snapshot) && (oldestDiscarded === 0 || snapshot < oldestDiscarded)) oldestDiscarded = snapshot;
    };
    for (let f = firstAfter(this.resolved, mark.base); f <= mark.base; ++f) if (!this.assumedBy(mark, f)) discard(f);
    this.resolved = Math.max(this.resolved, mark.base);
    // Speculative snapshots may be taken for lost later, and with them all that build on them.
    if (this.isSpeculative) {
      const oldest = this.oldestReported(mark);
      for (let f = mark.base; f >= oldest && f > mark.base - window; --f) if (!this.assumedBy(mark, f)) discard(f);
    }
    if (oldestDiscarded > 0) {
      for (let f = oldestDiscarded; f < this.latest; ++f) {
        const later = this.markOf(f);
        if (later && this.buildsOnDiscarded(later)) this.discard(f);
      }
    }
    if (this.latest <= recordsKept) return;
    const last = this.latest - recordsKept;
    for (let f = firstAfter(Math.max(0, before - recordsKept), last); f <= last; ++f) this.forget(f);
  }

  /** The oldest snapshot of which the bases of `mark` say whether it was assumed delivered. */
  private oldestReported(mark: Mark): number {
    let from = mark;
    let oldest = mark.base;
    while (from.base > 0 && mark.base - from.base < window) {
      const base = this.markOf(from.base);
      if (!base) return oldest;
      oldest = base.base + 1;
      from = base;
    }
    return Math.max(1, oldest);
  }

  private noteStates(id: number, has: boolean): void {
    const { withStates } = this;
    let [low, high] = [0, withStates.length];
    while (low < high) {
      const middle = (low + high) >> 1;
      if (withStates[middle]! < id) low = middle + 1;
      else high = middle;
    }
    if (has && withStates[low] !== id) withStates.splice(low, 0, id);
    if (!has && withStates[low] === id) withStates.splice(low, 1);
  }

  /** Drops the states of a snapshot that the server will never build on. */
  private discard(snapshot: number): boolean {
    const taken = this.taken.get(snapshot);
    if (!taken) return false;
    for (const id of taken.ids) {
      const slot = this.slots[id]!;
      const at = slot.received.findIndex((state) => state.snapshot === snapshot);
      if (at >= 0) slot.received.splice(at, 1);
      if (slot.received.length === 0) {
        this.noteStates(id, false);
        this.show(id, slot, undefined);
      } else {
        this.show(id, slot, slot.received.reduce((a, b) => (b.at > a.at ? b : a)));
      }
    }
    this.taken.delete(snapshot);
    return true;
  }

  /** Nothing refers to the states of entities that an old snapshot despawned. */
  private forget(snapshot: number): void {
    const taken = this.taken.get(snapshot);
    if (!taken) return;
    const there = new Set(taken.there);
    for (const id of taken.ids) {
      if (there.has(id)) continue;
      const slot = this.slots[id]!;
      if (slot.received.length === 0) continue;
      const at = slot.received.findIndex((state) => state.snapshot === snapshot);
      if (at >= 0) slot.received.splice(0, at + 1);
      if (slot.received.length === 0) this.noteStates(id, false);
    }
  }

  private show(id: number, slot: EntitySlot, state: State | undefined): void {
    const wasThere = slot.isThere;
    const isThere = state !== undefined && state.update !== "despawn";
    const isOther = wasThere && isThere && slot.generation !== state.generation;
    slot.at = state?.at ?? 0;
    slot.tick = state?.tick ?? 0;
    if (wasThere && (isOther || !isThere)) this.note("despawned", id, slot);
    slot.isThere = isThere;
    this.size += (isThere ? 1 : 0) - (wasThere ? 1 : 0);
    if (!isThere) return;
    const isChanged = !wasThere || isOther || slot.owner !== state.owner || !sameRow(slot.row, state.row);
    slot.generation = state.generation;
    slot.type = state.type;
    slot.owner = state.owner;
    slot.row = state.row;
    if (isChanged) this.note(wasThere && !isOther ? "updated" : "spawned", id, slot);
  }

  private takeFragments(snapshot: number, { number, first, count, bytes }: { number: number; first: number; count: number; bytes: Uint8Array }): void {
    let { assembly } = this;
    if (!assembly || assembly.number !== number) {
      if (assembly && snapshot < assembly.snapshot) return;
      assembly = this.assembly = { number, snapshot, has: [], bytes: new Uint8Array(0) };
    }
    assembly.snapshot = Math.max(assembly.snapshot, snapshot);
    const end = first + count;
    while (assembly.has.length < end) assembly.has.push(false);
    if (assembly.bytes.length < end * 16) {
      const grown = new Uint8Array(Math.max(end * 16, assembly.bytes.length * 2));
      grown.set(assembly.bytes);
      assembly.bytes = grown;
    }
    for (let i = first; i < end; ++i) assembly.has[i] = true;
    assembly.bytes.set(bytes, first * 16);
  }
}

export type { EntitySlot };

function readSections(from: BitReader): Sections {
  let listed = from.get(3);
  const fragments = listed === 1;
  if (fragments) listed = from.get(3);
  return { continuing: (listed & 1) !== 0, unexpected: (listed & 2) !== 0, spawns: (listed & 4) !== 0, fragments };
}

/** Drops states before the newest one up to `snapshot`. */
function trim(received: State[], snapshot: number): void {
  const half = received.length >> 1;
  if (received[half]!.snapshot > snapshot) return;
  let keep = half;
  while (keep + 1 < received.length && received[keep + 1]!.snapshot <= snapshot) ++keep;
  received.splice(0, keep);
}

function sameRow(a: Row, b: Row): boolean {
  if (a === b) return true;
  for (let c = 0; c < b.numbers.length; ++c) {
    if (a.numbers[c] !== b.numbers[c]) return false;
    const [left, right] = [a.varying[c], b.varying[c]];
    if (left === right) continue;
    if (!left || !right || left.bits !== right.bits || left.bytes.some((byte, i) => byte !== right.bytes[i])) return false;
  }
  return a.numbers.length === b.numbers.length;
}

function addColumn(to: Digest, model: EntityModel, row: Row, c: number, isOwner: boolean): void {
  const column = model.columns[c]!;
  if (column.ownerOnly && !isOwner) return;
  if (column.form !== "varying") return to.add(row.numbers[c]!);
  const held = row.varying[c];
  to.add(held?.bits ?? 0);
  if (!held) return;
  const { bytes } = held;
  for (let i = 0; i < bytes.length; i += 4) {
    to.add((bytes[i]! | ((bytes[i + 1] ?? 0) << 8) | ((bytes[i + 2] ?? 0) << 16) | ((bytes[i + 3] ?? 0) << 24)) >>> 0);
  }
}

function readBits(from: BitReader, most: number): Bits {
  const bits = from.count(5);
  if (bits > most) fail("value_range", "a field has more bits than it can have");
  return { bits, bytes: from.bits(bits) };
}

function readChange(from: BitReader, model: EntityModel, codes: TypeCodes, known: readonly Known[], tick: number, mask: number, isOwner: boolean, bitsBy: Map<string, number> | undefined): Row {
  const base = known[0]!.row;
  const row: Row = { numbers: base.numbers.slice(), varying: base.varying };
  const age = Math.min(Math.max(tick - known[0]!.tick, 1), 4) - 1;
  const hasRest = model.hasRest && from.bool();
  const wrong = (): never => fail("value_range", "a change that cannot be");
  for (const each of model.changing) {
    const c = each.column;
    const maskState = each.width > 0 ? (mask >>> each.shift) & ((1 << each.width) - 1) : 0;
    if (each.ownerOnly && !isOwner) {
      if (maskState !== 0) wrong();
      continue;
    }
    if (each.moves !== "no") model.predict(each, codes.predictors, known, row.numbers, tick);
    if (each.width > 0 ? maskState === 0 : !(hasRest && from.bool())) continue;
    const { numbers } = row;
    const start = from.position;
    if (each.width > 1 && maskState !== 3) {
      numbers[c] = model.atResidual(c, numbers[c]!, maskState === 1 ? 1 : -1);
      if (numbers[c]! < 0) wrong();
    } else if (each.varies) {
      if (row.varying === base.varying) row.varying = base.varying.slice();
      row.varying[c] = readVarying(from, model, c, base.varying[c] ?? null);
    } else if (each.byResidual) {
      const column = model.columns[c]!;
      let symbol = codes.residuals[c]![age]!.read(from);
      if (symbol === wholeValue) {
        numbers[c] = from.get(column.bits);
        if (numbers[c]! > column.last) wrong();
      } else {
        if (symbol === far) symbol += from.count(4);
        const size = Math.floor(symbol / 2) + 1;
        numbers[c] = model.atResidual(c, numbers[c]!, symbol % 2 === 0 ? size : -size);
        if (numbers[c]! < 0) wrong();
      }
    } else {
      numbers[c] = from.get(each.bits);
      if (numbers[c]! > model.columns[c]!.last) wrong();
    }
    if (bitsBy) {
      const name = `${model.type.name} ${model.type.fields[model.columns[c]!.field]!.name}`;
      bitsBy.set(name, (bitsBy.get(name) ?? 0) + from.position - start);
    }
  }
  return row;
}

const scratch = new BitWriter(4096);
function copyBits(from: BitReader, to: BitWriter, count: number): void {
  for (; count > 32; count -= 32) to.put(from.get(32), 32);
  to.put(from.get(count), count);
}

function readVarying(from: BitReader, model: EntityModel, c: number, before: Bits | null): Bits {
  const column = model.columns[c]!;
  if (!from.bool()) return readBits(from, column.last);
  const wrong = (): never => fail("value_range", "a change that cannot be");
  if (!before) return wrong();
  const old = new BitReader(before.bytes, before.bits);
  scratch.clear();
  if (column.grid) {
    const { width, height, count, named } = column.grid;
    const cells = readGrid(old, width, height, count, named);
    const changed = from.count(1) + 1;
    if (changed > cells.length) wrong();
    let cell = 0;
    for (let i = 0; i < changed; ++i, ++cell) {
      cell += from.count(3);
      if (cell >= cells.length) wrong();
      cells[cell] = readDifference(from, count, named, cells[cell]!);
    }
    writeGrid(scratch, width, height, count, named, cells);
  } else if (column.maxItems > 0) {
    const lengthBits = bitsFor(column.maxItems + 1);
    const size = old.get(lengthBits);
    if (size > column.maxItems || size * column.itemBits !== old.left) wrong();
    const edits = from.count(0) + 1;
    if (edits > 2 * column.maxItems) wrong();
    const items = new BitWriter(before.bytes.length + 16);
    let [next, made] = [0, 0];
    const keep = (count: number): void => {
      if (count > size - next || count > column.maxItems - made) wrong();
      copyBits(old, items, count * column.itemBits);
      next += count;
      made += count;
    };
    for (let i = 0; i < edits; ++i) {
      keep(from.count(2));
      const isReplaced = !from.bool();
      const isRemoved = !isReplaced && from.bool();
      const run = from.count(0) + 1;
      if (isReplaced || isRemoved) {
        if (run > size - next) wrong();
        for (let rest = run * column.itemBits; rest > 0; rest -= 32) old.skip(Math.min(32, rest));
        next += run;
      }
      if (isRemoved) continue;
      if (run > column.maxItems - made || run * column.itemBits > from.left) wrong();
      copyBits(from, items, run * column.itemBits);
      made += run;
    }
    keep(size - next);
    scratch.put(made, lengthBits);
    scratch.bits(items.view(), items.length);
  } else {
    const head = from.count(5);
    const tail = from.count(5);
    const middle = from.count(5);
    if (head > before.bits || tail > before.bits - head || middle > from.left || head + tail + middle > column.last) wrong();
    copyBits(old, scratch, head);
    copyBits(from, scratch, middle);
    for (let rest = before.bits - tail - head; rest > 0; rest -= 32) old.skip(Math.min(32, rest));
    copyBits(old, scratch, tail);
  }
  return { bits: scratch.length, bytes: scratch.finish() };
}
