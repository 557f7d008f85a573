// Entities in columns of whole numbers, and predictions of them that both ends make alike (docs/state-format.md).
import { BitReader, bitsFor, countBits } from "./bits.js";
import { blendOf, type Blend } from "./blend.js";
import { clampIndex, onwards, pointOf, quaternionOf, roundedBy, shareOfDirection, squareRoot } from "./fixed_point.js";
import { fastest, followOf, type Follow } from "./follows.js";
import { isAlive, newest, type EntityType, type TypeInfo } from "./protocol.js";
import { codecOf, gridShape, tickNear, type Codec, type CodecContext } from "./schema.js";
import { choicesOf, fixedBits, generations, initialField } from "./type_info.js";
import { beside, direction3Of, rotationOf } from "./unit_vectors.js";

export type Form = "number" | "circular" | "opaque" | "varying";
export interface Column {
  field: number;
  /** Name in files of code tables: the field, with `[i]` where it has several columns. */
  name: string;
  form: Form;
  bits: number;
  /** Largest index; of a varying column the most bits. */
  last: number;
  atSpawn: boolean;
  ownerOnly: boolean;
  smooth: boolean;
  zero: number;
  step: number;
  group?: "rotation" | "direction3";
  /** Place within its group. */
  place: number;
  /** Varying: items of one size at most, and their bits; 0: it is none of these. */
  maxItems: number;
  itemBits: number;
  grid?: { width: number; height: number; count: number; named: boolean };
}
export interface Bits { bytes: Uint8Array; bits: number }
/** Values of an entity: a number for each column, and the bits of varying ones. */
export interface Row { numbers: number[]; varying: (Bits | null)[] }
/** A state that predictions are made from. */
export interface Known { tick: number; row: Row }

export const predictors = ["hold", "linear", "steady", "linear_recent", "quadratic", "follow_start", "follow", "follow_end"] as const;
export type Predictor = (typeof predictors)[number];
export const maskBits = 10;
/** So many ticks ahead a state is moved on. */
const farthest = 40;
/** Largest grid of rotations, and bits of positions that follow: beyond, products leave the exact range of numbers. */
const maxRotationHalf = 4096;
const maxPositionBits = 25;

/** A column that changes, with its place in the mask. */
export interface Changing {
  column: number;
  ownerOnly: boolean;
  varies: boolean;
  /** It travels as a residual. */
  byResidual: boolean;
  moves: "no" | "itself" | "position" | "group" | "with others";
  shift: number;
  width: number;
  bits: number;
}

/** Reads the value of a field from its columns. */
type Take = (row: Row, context: CodecContext) => unknown;

function maxBits(type: TypeInfo, version: number): number {
  const fixed = fixedBits(type, version);
  if (fixed !== undefined) return fixed;
  switch (type[0]) {
    case "text": case "bytes": return bitsFor(type[1] + 1) + type[1] * 8;
    case "list": return bitsFor(type[1] + 1) + type[1] * maxBits(type[2], version);
    case "count": return countBits(type[1], 3);
    case "maybe": return 1 + maxBits(type[1], version);
    case "grid": {
      const { width, height, count, named } = gridShape(type, version);
      return width * height * (1 + (named || count < 2 ? bitsFor(count - 1) : countBits(2 * (count - 1) - 1, 1))) + 64;
    }
    case "vec": return type[1] * maxBits(type[2], version);
    case "record": return type[1].reduce((sum, field) => sum + (isAlive(field.life, version) ? maxBits(field.type, version) : 0), 0);
    case "one of": {
      const { byCode, bits } = choicesOf(type[1], version);
      const cases = byCode.map((i) => type[1][i]![1]);
      return bits + Math.max(...cases.map((inner) => (inner === 0 ? 0 : maxBits(inner, version))));
    }
    default: return 0;
  }
}

/** Columns of an entity type in a version, and what is known about their motion, for one tick rate. */
export class EntityModel {
  readonly columns: Column[] = [];
  readonly follows: Follow[] = [];
  readonly order: number[];
  readonly changing: Changing[] = [];
  readonly isTolerant: boolean;
  readonly hasRest: boolean;
  /** Values of the mask: two to its bits. */
  readonly masks: number;
  readonly builtInPredictors: Predictor[];
  readonly maskColumns: { column: number; shift: number; width: number }[];
  private readonly takes: { name: string; take: Take; ownerOnly: boolean; initial: unknown; blend: Blend | undefined }[] = [];
  private readonly followOf: (Follow | undefined)[];

  /** Whether the version has the type at all; without it there are no columns. */
  readonly isInVersion: boolean;

  constructor(readonly type: EntityType<unknown>, readonly index: number, ticksPerSecond: number, private readonly version = newest) {
    const firstOf = new Map<string, number>();
    this.isInVersion = isAlive(type.life, version);
    for (const [field, info] of type.fields.entries()) {
      firstOf.set(info.name, this.columns.length);
      if (!this.isInVersion || !isAlive(info.life, version)) {
        this.takes.push({ name: info.name, take: () => initialField(info), ownerOnly: false, initial: initialField(info), blend: undefined });
        continue;
      }
      const first = this.columns.length;
      const words = info.words ?? {};
      const take = this.addColumns(info.type, first) ?? this.addVarying(info.type, first);
      const count = this.columns.length - first;
      for (let c = first; c < this.columns.length; ++c) {
        const column = this.columns[c]!;
        column.field = field;
        column.name = count > 1 ? `${info.name}[${c - first}]` : info.name;
        column.atSpawn = words.atSpawn === true;
        column.ownerOnly = words.ownerOnly === true;
        column.smooth = words.smooth === true;
      }
      if (words.relativeTo) this.carriers.push(words.relativeTo);
      this.takes.push({
        name: info.name, take, ownerOnly: words.ownerOnly === true, initial: initialField(info),
        blend: words.smooth || words.follow ? blendOf(info.type) : undefined,
      });
    }
    this.carrierColumns = this.carriers.map((name) => firstOf.get(name)!);
    this.followOf = this.columns.map(() => undefined);
    this.addFollows(firstOf, ticksPerSecond);
    this.isTolerant = this.follows.some((follow) => follow.within > 0);
    const follows = (c: number): boolean => this.positions.has(c);
    const all = this.columns.map((_, c) => c);
    this.order = [...all.filter((c) => !follows(c)), ...all.filter(follows)];
    this.maskColumns = this.findMask();
    this.masks = 2 ** this.maskColumns.reduce((sum, each) => sum + each.width, 0);
    this.builtInPredictors = all.map((c) => this.predictorByWords(c));
    for (const c of this.order) this.addChanging(c);
    this.hasRest = this.changing.some((each) => each.width === 0);
    for (const column of this.columns) {
      if (column.group === "rotation" && column.last / 2 > maxRotationHalf) {
        throw new TypeError(`${type.name}.${column.name}: rotations within less than 0.06 degrees cannot be predicted exactly here`);
      }
    }
    for (const follow of this.follows) {
      if (this.columns[follow.first]!.bits > maxPositionBits) {
        throw new TypeError(`${type.name}.${this.columns[follow.first]!.name}: a position that follows has at most ${maxPositionBits} bits here`);
      }
    }
  }

  /** Names of references to carriers. */
  private readonly carriers: string[] = [];
  private readonly carrierColumns: number[];
  /** Columns of positions that follow, whether or not every client predicts them so. */
  private readonly positions = new Set<number>();

  private add(form: Form, bits: number, last: number, zero = 0, step = 0): number {
    this.columns.push({
      field: 0, name: "", form, bits, last, atSpawn: false, ownerOnly: false, smooth: false, zero, step, place: 0, maxItems: 0, itemBits: 0,
    });
    return this.columns.length - 1;
  }

  /** Adds the columns of a type of fixed size; nothing, and none are added, if its bits vary. */
  private addColumns(type: TypeInfo, first: number): Take | undefined {
    const single = (form: Form, last: number, value: (index: number, context: CodecContext) => unknown, zero = 0, step = 0): Take => {
      const c = this.add(form, bitsFor(last + 1), last, zero, step);
      return (row, context) => value(row.numbers[c]!, context);
    };
    switch (type[0]) {
      case "bool": return single("opaque", 1, (i) => i === 1);
      case "int": {
        const big = typeof type[1] === "bigint" || typeof type[2] === "bigint";
        const last = Number(BigInt(type[2]) - BigInt(type[1]));
        if (last > 0xffff_ffff) return undefined;
        const lo = type[1];
        return single("number", last, (i) => (big ? BigInt(lo) + BigInt(i) : (lo as number) + i), Number(lo), 1);
      }
      case "real": {
        const [, lo, step, scale, count] = type;
        if (count > 0x1_0000_0000) return undefined;
        const value = (i: number): number => (lo + i * step) / scale;
        return single("number", count - 1, value, value(0), value(1) - value(0));
      }
      case "angle": {
        const [, step, scale, count] = type;
        if (count > 0x1_0000_0000) return undefined;
        return single("circular", count - 1, (i) => (i * step) / scale);
      }
      case "direction2": {
        const [, step, scale, count] = type;
        if (count > 0x1_0000_0000) return undefined;
        return single("circular", count - 1, (i) => {
          const angle = ((i * step) / scale) * (Math.PI / 180);
          return { x: Math.cos(angle), y: Math.sin(angle) };
        });
      }
      case "tick": return single("circular", 0xffff, (i, context) => tickNear(i, context.newestTick));
      case "f32": {
        const view = new DataView(new ArrayBuffer(4));
        return single("opaque", 0xffff_ffff, (i) => {
          view.setUint32(0, i);
          return view.getFloat32(0);
        });
      }
      case "direction3": {
        const n = type[1];
        for (let i = 0; i < 2; ++i) {
          const column = this.columns[this.add("number", bitsFor(2 * n + 1), 2 * n)]!;
          column.group = "direction3";
          column.place = i;
        }
        return (row) => direction3Of(row.numbers[first]! - n, row.numbers[first + 1]! - n, n);
      }
      case "rotation": {
        const n = type[1];
        for (let i = 0; i < 4; ++i) {
          const column = this.columns[i === 0 ? this.add("opaque", 2, 3) : this.add("number", bitsFor(2 * n + 1), 2 * n)]!;
          column.group = "rotation";
          column.place = i;
        }
        return (row) => rotationOf(row.numbers[first]!, [1, 2, 3].map((i) => row.numbers[first + i]! - n), n);
      }
      case "peer": return single("opaque", type[1] - 1, (i) => i);
      case "ref": {
        if (type[1] * generations > 0xffff_ffff) return undefined;
        return single("opaque", type[1] * generations, (i) =>
          i === 0 ? null : { id: 1 + Math.floor((i - 1) / generations), generation: (i - 1) % generations });
      }
      case "enum": {
        const names = type[1].filter((each) => typeof each === "string" || isAlive([each[1], each[2]], this.version)).map((each) => (typeof each === "string" ? each : each[0]));
        return single("opaque", names.length - 1, (i) => names[i]);
      }
      case "flags": {
        const alive = type[1].map((each) => typeof each === "string" || isAlive([each[1], each[2]], this.version));
        const count = alive.filter((each) => each).length;
        if (count > 32) return undefined;
        const names = type[1].map((each) => (typeof each === "string" ? each : each[0]));
        const c = this.add("opaque", count, 2 ** count - 1);
        return (row) => {
          let bit = 0;
          const made: Record<string, boolean> = {};
          names.forEach((name, i) => (made[name] = alive[i]! && ((row.numbers[c]! >>> bit++) & 1) === 1));
          return made;
        };
      }
      case "vec": {
        const axes: Take[] = [];
        for (let i = 0; i < type[1]; ++i) {
          const axis = this.addColumns(type[2], this.columns.length);
          if (!axis) return this.undo(first);
          axes.push(axis);
        }
        const [x, y, z] = axes as [Take, Take, Take | undefined];
        return z ? (row, context) => ({ x: x(row, context), y: y(row, context), z: z(row, context) }) : (row, context) => ({ x: x(row, context), y: y(row, context) });
      }
      case "record": {
        const parts: [string, Take][] = [];
        for (const field of type[1]) {
          if (!isAlive(field.life, this.version)) {
            parts.push([field.name, () => initialField(field)]);
            continue;
          }
          const part = this.addColumns(field.type, this.columns.length);
          if (!part) return this.undo(first);
          parts.push([field.name, part]);
        }
        // Every field has a column, also one whose record has nothing in it in this version.
        if (this.columns.length === first) this.add("opaque", 0, 0);
        return (row, context) => {
          const made: Record<string, unknown> = {};
          for (const [name, part] of parts) made[name] = part(row, context);
          return made;
        };
      }
      default: return undefined;
    }
  }
  private undo(first: number): undefined {
    this.columns.length = first;
    return undefined;
  }

  private addVarying(type: TypeInfo, first: number): Take {
    const column = this.columns[this.add("varying", 0, maxBits(type, this.version))]!;
    if (type[0] === "text" || type[0] === "bytes") {
      column.maxItems = type[1];
      column.itemBits = 8;
    } else if (type[0] === "list") {
      const bits = fixedBits(type[2], this.version);
      if (bits !== undefined && bits > 0) {
        column.maxItems = type[1];
        column.itemBits = bits;
      }
    } else if (type[0] === "grid") {
      column.grid = gridShape(type, this.version);
    }
    const codec: Codec = codecOf(type, this.version);
    return (row, context) => {
      const bits = row.varying[first];
      return codec.read(bits ? new BitReader(bits.bytes, bits.bits) : new BitReader(new Uint8Array(8)), context);
    };
  }

  private addFollows(firstOf: ReadonlyMap<string, number>, ticksPerSecond: number): void {
    for (const info of this.type.fields) {
      const found = followOf(this.type, info, this.columns, firstOf, ticksPerSecond, this.version);
      if (!found) continue;
      const { follow, leaders } = found;
      const axes = [...Array(follow.axes).keys()].map((axis) => follow.first + axis);
      for (const c of axes) this.positions.add(c);
      for (const c of leaders) this.movers.add(c);
      // `owner only` fields predict nothing for other clients.
      const hidden = (c: number): boolean => this.columns[c]!.ownerOnly;
      if (leaders.some(hidden) && !hidden(follow.first)) continue;
      this.follows.push(follow);
      for (const c of axes) this.followOf[c] = follow;
    }
  }

  /** Columns of speeds and directions that positions follow. */
  private readonly movers = new Set<number>();

  private findMask(): { column: number; shift: number; width: number }[] {
    const found: { column: number; shift: number; width: number }[] = [];
    let bits = 0;
    for (const c of [...this.order].reverse()) {
      if (this.columns[c]!.atSpawn) continue;
      const width = this.positions.has(c) ? 2 : 1;
      if (bits + width > maskBits) break;
      found.push({ column: c, shift: 0, width });
      bits += width;
    }
    for (const each of found) {
      if (bits === maskBits) break;
      const column = this.columns[each.column]!;
      const isNumber = (column.form === "number" || column.form === "circular") && column.bits <= 30;
      if (each.width > 1 || !isNumber || !(column.smooth || this.movers.has(each.column))) continue;
      ++each.width;
      ++bits;
    }
    found.reverse();
    let shift = 0;
    for (const each of found) {
      each.shift = shift;
      shift += each.width;
    }
    return found;
  }

  private predictorByWords(c: number): Predictor {
    const column = this.columns[c]!;
    if (column.atSpawn || column.form === "varying" || column.form === "opaque" || column.bits > 30) return "hold";
    if (column.group) return column.smooth ? "linear" : "hold";
    if (this.followOf[c]) return "follow_end";
    return column.smooth ? "steady" : "hold";
  }

  /** Share of a thousand ticks in which a column is expected to differ from its prediction. */
  expectedChanges(c: number): number {
    if (this.positions.has(c)) return 400;
    if (this.columns[c]!.smooth) return 600;
    return this.movers.has(c) ? 150 : 20;
  }
  isPosition(c: number): boolean {
    return this.positions.has(c);
  }

  private addChanging(c: number): void {
    const column = this.columns[c]!;
    if (column.atSpawn) return;
    const varies = column.form === "varying";
    const isNumber = !varies && column.form !== "opaque";
    const follow = this.followOf[c];
    let moves: Changing["moves"] = "no";
    if (follow) moves = c === follow.first ? "position" : "with others";
    else if (column.group === "rotation") moves = column.place === 0 ? "no" : column.place === 1 ? "group" : "with others";
    else if (column.group === "direction3") moves = column.place === 0 ? "group" : "with others";
    else if (isNumber && column.bits <= 30) moves = "itself";
    const mask = this.maskColumns.find((each) => each.column === c);
    this.changing.push({
      column: c, ownerOnly: column.ownerOnly, varies, byResidual: isNumber && column.bits <= 30, moves,
      shift: mask?.shift ?? 0, width: mask?.width ?? 0, bits: column.bits,
    });
  }

  // ---- prediction ----

  private moved(c: number, from: number, by: number): number {
    const { last, form } = this.columns[c]!;
    const to = from + by;
    if (to >= 0 && to <= last) return to;
    const size = last + 1;
    return form === "circular" ? ((to % size) + size) % size : Math.max(0, Math.min(last, to));
  }
  private stepBetween(c: number, from: number, to: number): number {
    const { last, form } = this.columns[c]!;
    let step = to - from;
    if (form === "circular") {
      const size = last + 1;
      if (step > Math.floor(size / 2)) step -= size;
      if (step <= -Math.floor((size + 1) / 2)) step += size;
    }
    return step;
  }
  /** The value at a residual from a prediction; -1 if it is out of range. */
  atResidual(c: number, predicted: number, residual: number): number {
    const { last, form } = this.columns[c]!;
    const to = predicted + residual;
    if (to >= 0 && to <= last) return to;
    if (form !== "circular") return -1;
    const size = last + 1;
    return ((to % size) + size) % size;
  }

  private wayOf(follow: Follow, axis: number, numbers: readonly number[]): number {
    const { form } = follow;
    const speedColumn = follow.speed + (form === "velocity" ? axis : 0);
    const speed = Math.max(-fastest, Math.min(fastest, follow.zero + numbers[speedColumn]! * follow.step));
    if (form === "velocity") return speed;
    const share = form === "angle"
      ? follow.shares[axis as 0 | 1][numbers[follow.along]!]!
      : shareOfDirection(numbers[follow.along]!, numbers[follow.along + 1]!, this.columns[follow.along]!.last, axis);
    const part = Math.floor(speed / 16);
    if (Math.abs(part) >= 2 ** 29) return Number((BigInt(part) * BigInt(share)) >> 20n);
    return Math.floor((part * share) / 2 ** 20);
  }

  private predictPosition(follow: Follow, predictor: Predictor, axis: number, known: readonly Known[], now: readonly number[], tick: number): number {
    const end = predictor === "follow_end" ? 1 : predictor === "follow_start" ? -1 : 0;
    const newest = known[0]!;
    const ahead = Math.min(tick - newest.tick, farthest);
    const c = follow.first + axis;
    let before = this.wayOf(follow, axis, newest.row.numbers);
    const nowWay = this.wayOf(follow, axis, now);
    let on = (before + nowWay) * ahead + end * (nowWay - before);
    const lead = newest.row.numbers[c]! * 2 ** 25 + on;
    let sum = lead;
    let count = 1;
    for (let i = 1; i < known.length; ++i) {
      const then = this.wayOf(follow, axis, known[i]!.row.numbers);
      on += (then + before) * (known[i - 1]!.tick - known[i]!.tick) + end * (before - then);
      before = then;
      const leads = known[i]!.row.numbers[c]! * 2 ** 25 + on;
      if (Math.abs(leads - lead) > 2 ** 26) break;
      sum += leads;
      ++count;
    }
    return this.moved(c, 0, Math.floor((Math.floor(sum / count) + 2 ** 24) / 2 ** 25));
  }

  private predictNumber(c: number, predictor: Predictor, known: readonly Known[], tick: number): number {
    const newest = known[0]!;
    const value = newest.row.numbers[c]!;
    if (predictor === "hold" || known.length < 2) return value;
    const ahead = Math.min(tick - newest.tick, farthest);
    const step = (from: Known, to: Known): number => this.stepBetween(c, from.row.numbers[c]!, to.row.numbers[c]!);
    const other = predictor === "linear" || predictor === "steady" ? known[known.length - 1]! : known[1]!;
    if (predictor === "steady" && known.length > 2) {
      const recent = Math.max(newest.tick - known[1]!.tick, 1);
      const earlier = Math.max(known[1]!.tick - known[2]!.tick, 1);
      const bend = step(known[1]!, newest) * earlier - step(known[2]!, known[1]!) * recent;
      if (Math.abs(bend) > 2 * recent * earlier) return value;
    }
    const span = newest.tick - other.tick;
    if (span === 0 || span > farthest) return value;
    const way = step(other, newest);
    const before = predictor === "quadratic" && known.length >= 3 ? other.tick - known[2]!.tick : 0;
    if (before === 0 || before > farthest) return this.moved(c, value, Math.trunc((way * ahead) / span));
    // Newton's interpolation through three points, 16 bits of fraction.
    const rate = (BigInt(way) << 16n) / BigInt(span);
    const rateBefore = (BigInt(step(known[2]!, other)) << 16n) / BigInt(before);
    const bend = (rate - rateBefore) / BigInt(span + before);
    const by = rate * BigInt(ahead) + bend * BigInt(ahead) * BigInt(ahead + span);
    return this.moved(c, value, Number(by >> 16n));
  }

  /** Puts predictions of the columns that `each` stands for into `now`. */
  predict(each: Changing, by: readonly Predictor[], known: readonly Known[], now: number[], tick: number): void {
    const c = each.column;
    const predictor = by[c]!;
    switch (each.moves) {
      case "no": case "with others": return;
      case "itself":
        now[c] = this.predictNumber(c, predictor, known, tick);
        return;
      case "position": {
        const follow = this.followOf[c]!;
        const byMotion = predictor === "follow" || predictor === "follow_start" || predictor === "follow_end";
        for (let axis = 0; axis < follow.axes; ++axis) {
          now[c + axis] = byMotion ? this.predictPosition(follow, predictor, axis, known, now, tick) : this.predictNumber(c + axis, predictor, known, tick);
        }
        return;
      }
      case "group": this.predictGroup(c, predictor, known, now, tick);
    }
  }

  private predictGroup(c: number, predictor: Predictor, known: readonly Known[], now: number[], tick: number): void {
    const { group, place, last } = this.columns[c]!;
    const first = c - place;
    const newest = known[0]!;
    const oldest = known[known.length - 1]!;
    const span = newest.tick - oldest.tick;
    const ahead = Math.min(tick - newest.tick, farthest);
    const moves = predictor !== "hold" && span > 0 && span <= farthest;
    const from = newest.row.numbers;
    const half = last / 2;
    if (group === "direction3") {
      now[first] = from[first]!;
      now[first + 1] = from[first + 1]!;
      if (!moves) return;
      const p = onwards(pointOf(oldest.row.numbers, first, half), pointOf(from, first, half), ahead, span) as [number, number, number];
      const sum = Math.abs(p[0]) + Math.abs(p[1]) + Math.abs(p[2]);
      if (sum === 0) return;
      let u = roundedBy(p[0] * half, sum);
      let v = roundedBy(p[1] * half, sum);
      if (p[2] < 0) {
        const [foldU, foldV] = [half - Math.abs(v), half - Math.abs(u)];
        u = u < 0 ? -foldU : foldU;
        v = v < 0 ? -foldV : foldV;
      }
      now[first] = clampIndex(u, half);
      now[first + 1] = clampIndex(v, half);
      return;
    }
    const largest = now[first]!;
    for (let i = 1; i < 4; ++i) now[first + i] = from[first + i]!;
    if (!moves && from[first] === largest) return;
    let q = quaternionOf(from, first, half);
    if (moves) {
      let before = quaternionOf(oldest.row.numbers, first, half);
      let dot = 0;
      for (let i = 0; i < 4; ++i) dot += Math.floor(before[i]! / 256) * Math.floor(q[i]! / 256);
      if (dot < 0) before = before.map((each) => -each);
      q = onwards(before, q, ahead, span);
    }
    if (q[largest]! < 0) q = q.map((each) => -each);
    q = q.map((each) => Math.floor(each / 256));
    const square = q.reduce((sum, each) => sum + each * each, 0);
    const wanted = squareRoot(2 * half * half * 256);
    const length = squareRoot(square) * 16;
    if (length === 0) return;
    for (let i = 0; i < 3; ++i) now[first + 1 + i] = clampIndex(roundedBy(q[beside(largest, i)]! * wanted, length), half);
  }

  // ---- values ----

  /** The value that a program sees: fields of the description by name. */
  valueOf(row: Row, isOwner: boolean, context: CodecContext): any {
    const made: Record<string, unknown> = {};
    for (const each of this.takes) made[each.name] = each.ownerOnly && !isOwner ? each.initial : each.take(row, context);
    return made;
  }
  /** The row, moved on to a later tick along speed and direction. */
  movedOn(known: Known, tick: number): Row {
    if (this.follows.length === 0 || tick <= known.tick) return known.row;
    const numbers = known.row.numbers.slice();
    for (const follow of this.follows) {
      for (let axis = 0; axis < follow.axes; ++axis) {
        numbers[follow.first + axis] = this.predictPosition(follow, "follow", axis, [known], known.row.numbers, tick);
      }
    }
    return { numbers, varying: known.row.varying };
  }
  /** Whether a position jumps so far that nothing is drawn in between. */
  leaps(before: Known, after: Known): boolean {
    const to = after.row;
    const from = this.isTolerant ? this.movedOn(before, after.tick) : before.row;
    // With another carrier the same numbers are another position.
    if (this.carrierColumns.some((c) => from.numbers[c] !== to.numbers[c])) return true;
    return this.columns.some((column, c) =>
      column.form === "number" && !column.group && (column.smooth || this.positions.has(c)) &&
      Math.abs(to.numbers[c]! - from.numbers[c]!) > Math.floor(column.last / 8));
  }
  /** Changes `from`, the value before, to the value between it and `to`. */
  blend(from: any, to: any, part: number): any {
    for (const { name, blend } of this.takes) if (blend) from[name] = blend(from[name], to[name], part);
    return from;
  }
}
