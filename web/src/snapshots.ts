// Reads snapshots into the states of entities: whole or not at all (docs/state-format.md). No sockets, no clock.
import { BitReader, BitWriter, bitsFor } from "./bits.js";
import { sharedBuiltInTables, type CodeTables } from "./codes.js";
import { EntityModel, type Bits, type Row } from "./columns.js";
import { maxEditedSize, readBits, readChange, type EditBudget } from "./delta.js";
import { Digest, addColumn, writeReport } from "./digest.js";
import { WireError, fail, type ErrorCode } from "./errors.js";
import { newest, type ProtocolInfo, type Ref } from "./protocol.js";
import { sampleOf } from "./sample.js";
import { SnapshotHistory, window, type Mark } from "./snapshot_history.js";
import {
  emptyRow, fragmentBits, longestMemory, maxEvents, readSections, recordsKept, sameRow, setMember, trim, unfolded,
  type EntitySlot, type Sections, type State, type Update, type WorldCounts, type WorldEvent,
} from "./world_state.js";

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
  private readonly history = new SnapshotHistory();
  private readonly taken = new Map<number, { ids: number[]; there: number[] }>();
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
  private edits: EditBudget = { left: 0 };
  private events: WorldEvent[] = [];
  private isDamaged = false;
  private readonly tables: CodeTables;
  private readonly types: number[]; // those that the version has, by their number on the wire

  constructor(private readonly protocol: ProtocolInfo, tables?: CodeTables, private readonly version = newest) {
    this.setRate(20 * 16);
    this.tables = tables ?? sharedBuiltInTables(protocol, version, this.models);
    this.types = this.models.filter((model) => model.isInVersion).map((model) => model.index);
  }

  /** Accounts the bits since `start`. Returns where the next ones start. */
  private account(name: string, from: BitReader, start: number): number {
    if (this.bitsBy) this.bitsBy.set(name, (this.bitsBy.get(name) ?? 0) + from.position - start);
    return from.position;
  }

  private setRate(rate: number): void {
    if (rate === this.rate) return;
    this.rate = rate;
    this.models = this.protocol.entities.map((type, i) => new EntityModel(type, i, rate / 16, this.version));
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
    return slot && sampleOf(this.models[slot.type]!, slot, tick, this.tick);
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
    const min = Math.max(0, this.history.latest - window);
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
      const isOld = snapshot < this.start || this.history.latest - snapshot >= window;
      const error = isOld ? "replayed" : this.tryToTake(bytes, bits);
      if (error === "base_missing") continue;
      if (error !== "none") ++this.counts.unread;
      this.waiting.delete(snapshot);
      any ||= error === "none";
    }
    return any;
  }

  /** Whether a snapshot builds on one that was discarded since it was made. */
  private buildsOnDiscarded(mark: Mark): boolean {
    if (!this.history.markOf(mark.base)) return false;
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
      if (this.history.latest === 0) fail("base_missing", "no snapshot has arrived yet");
      const snapshot = this.numberOf(low);
      if (snapshot <= back) fail("replayed", "a base that cannot be");
      const base = this.history.markOf(snapshot - back);
      if (!base) fail(snapshot < this.start ? "replayed" : "base_missing", "the base is not here");
      const count = SnapshotHistory.between(base);
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
    if (!isAnew && (this.history.markOf(mark.snapshot) || this.history.isDiscarded(mark.snapshot))) fail("replayed", "a snapshot that was here");
    if (rate !== this.rate && !isAnew) fail("value_range", "the tick rate changed");
    this.setRate(rate);
    if (mark.base > 0 && mark.between.some((delivered, i) => delivered && !this.history.markOf(mark.base - 1 - i))) {
      fail("base_missing", "a snapshot that this one builds on is not here");
    }
    if (!isAnew && this.buildsOnDiscarded(mark)) fail("replayed", "it builds on a discarded snapshot");
    this.staged = [];
    this.stagedIds = [];
    this.fragments = undefined;
    this.assumed = this.history.allAssumed(mark);
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
    this.edits = { left: maxEditedSize };
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
    const base = this.history.markOf(mark.base);
    if (!base) return [];
    let first = mark.base;
    for (let back = 1; back < window && back < mark.base; ++back) {
      const before = this.history.markOf(mark.base - back);
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
      const settled = this.history.latest >= recordsKept && state.snapshot <= this.history.latest - recordsKept;
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
    state.row = readChange(from, model, codes, known, state.tick, symbol, last.owner, this.edits, this.bitsBy);
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
    state.type = this.types[from.get(bitsFor(this.types.length))] ?? fail("value_range", "there is no such entity type");
    state.owner = from.bool();
    const model = this.models[state.type]!;
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
    this.assumed = this.history.allAssumed(mark);
    const known = this.withStates.flatMap((id) => {
      const [last] = this.statesKnown(mark, id);
      return last ? [[id, last] as const] : [];
    });
    if (known.length === 0) {
      this.blocked = mark.snapshot & 127;
      return false;
    }
    writeReport(to, room, known, this.models);
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
    this.history.clear();
    this.taken.clear();
    this.size = 0;
    this.tick = this.input = 0;
    this.resolved = snapshot - 1;
    this.start = snapshot;
  }

  private apply(mark: Mark): void {
    this.history.add(mark);
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
      if (received.length === 0) setMember(this.withStates, id, true);
      if (this.history.latest > recordsKept && received.length > 8) trim(received, this.history.latest - recordsKept);
      let place = received.length;
      while (place > 0 && received[place - 1]!.snapshot > state.snapshot) --place;
      received.splice(place, 0, state);
    }
    if (this.fragments) this.takeFragments(mark.snapshot, this.fragments);
    this.tick = Math.max(this.tick, mark.tick);
    if (mark.snapshot <= this.history.latest) return;
    const before = this.history.latest;
    this.history.latest = mark.snapshot;
    this.input = mark.input;
    const firstAfter = (done: number, last: number): number => Math.max(done, last - 2 * recordsKept, 0) + 1;
    let oldestDiscarded = 0;
    const discard = (snapshot: number): void => {
      if (this.discard(snapshot) && (oldestDiscarded === 0 || snapshot < oldestDiscarded)) oldestDiscarded = snapshot;
    };
    for (let f = firstAfter(this.resolved, mark.base); f <= mark.base; ++f) if (!this.history.assumedBy(mark, f)) discard(f);
    this.resolved = Math.max(this.resolved, mark.base);
    // Speculative snapshots may be taken for lost later, and with them all that build on them.
    if (this.isSpeculative) {
      const oldest = this.history.oldestReported(mark);
      for (let f = mark.base; f >= oldest && f > mark.base - window; --f) if (!this.history.assumedBy(mark, f)) discard(f);
    }
    if (oldestDiscarded > 0) {
      for (let f = oldestDiscarded; f < this.history.latest; ++f) {
        const later = this.history.markOf(f);
        if (later && this.buildsOnDiscarded(later)) this.discard(f);
      }
    }
    if (this.history.latest <= recordsKept) return;
    const last = this.history.latest - recordsKept;
    for (let f = firstAfter(Math.max(0, before - recordsKept), last); f <= last; ++f) this.forget(f);
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
        setMember(this.withStates, id, false);
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
      if (slot.received.length === 0) setMember(this.withStates, id, false);
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
