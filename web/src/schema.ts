// A protocol as data, and the codecs of its types (docs/schema-language.md). `kwind gen FILE --typescript DIR` writes
// the data; codecs are closures that are made once for each type and version.
import { BitReader, BitWriter, bitsFor } from "./bits.js";
import { WireError, fail } from "./errors.js";

/** Life of a declaration: from version `since` on, and before version `until` (0: no end). */
export type Life = readonly [since: number, until: number];
/** A name, or one that not every version has: name, life, index of its `else`. */
export type ChoiceInfo = string | readonly [name: string, since: number, until: number, standIn: number];
/** A case of a `one of`: name, type of its value (0: none), then life and index of its `else` where it has them. */
export type CaseInfo = readonly [name: string, type: TypeInfo | 0, since?: number, until?: number, standIn?: number];
/** Words of an entity's field. */
export interface FieldWords {
  /** Travels once, when the entity appears. */
  readonly atSpawn?: true;
  readonly ownerOnly?: true;
  readonly smooth?: true;
  /** Names of the fields of speed and direction, and the error that needs no correction. */
  readonly follow?: readonly [speed: string, along: string, within: number];
}
export interface FieldInfo {
  readonly name: string;
  readonly type: TypeInfo;
  readonly life?: Life;
  /** The default that the description states. */
  readonly value?: unknown;
  readonly words?: FieldWords;
}
/** A type: its word, then what decides its layout. */
export type TypeInfo =
  | readonly ["bool"]
  | readonly ["int", number | bigint, number | bigint]
  | readonly ["count", number]
  | readonly ["real", lo: number, step: number, scale: number, count: number]
  | readonly ["f32"]
  | readonly ["f64"]
  | readonly ["angle", step: number, scale: number, count: number]
  | readonly ["direction2", step: number, scale: number, count: number]
  | readonly ["direction3", half: number]
  | readonly ["rotation", half: number]
  | readonly ["vec", size: 2 | 3, TypeInfo]
  | readonly ["text", number]
  | readonly ["bytes", number]
  | readonly ["enum", readonly ChoiceInfo[]]
  | readonly ["flags", readonly ChoiceInfo[]]
  | readonly ["record", readonly FieldInfo[]]
  | readonly ["list", number, TypeInfo]
  | readonly ["grid", width: number, height: number, TypeInfo]
  | readonly ["maybe", TypeInfo]
  | readonly ["one of", readonly CaseInfo[]]
  | readonly ["ref", number]
  | readonly ["peer", number]
  | readonly ["tick"];

export type Delivery = "unreliable" | "sequenced" | "reliable" | "ordered";
export interface ChannelInfo {
  readonly name: string;
  readonly delivery: Delivery;
  readonly priority?: "high" | "bulk";
  readonly repeat?: number;
  readonly life?: Life;
}

/** A message type of the protocol, and of the TypeScript type `T` of its fields. */
export interface MessageType<T> {
  readonly name: string;
  readonly role: "message" | "request" | "answer";
  readonly from: "client" | "server" | "both";
  /** Index of its channel. */
  readonly channel: number;
  /** Messages per second; absent: no limit. */
  readonly rate?: number;
  readonly split?: true;
  readonly fields: readonly FieldInfo[];
  readonly life?: Life;
  /** For the compiler alone. */
  readonly T?: T;
}
/** A request type: fields `T`, reply `R`, reasons for a refusal `Reason`. */
export interface RequestType<T, R, Reason extends string> extends MessageType<T> {
  readonly role: "request";
  readonly R?: R;
  readonly Reason?: Reason;
}
/** An entity type of the protocol, with fields `T`. */
export interface EntityType<T> {
  readonly name: string;
  readonly fields: readonly FieldInfo[];
  readonly T?: T;
}

export interface ProtocolInfo {
  readonly name: string;
  /** The newest. */
  readonly version: number;
  /** Every version that is spoken, newest first, with its digest in hexadecimal. */
  readonly versions: readonly (readonly [version: number, digest: string])[];
  readonly entitiesUpTo: number;
  readonly peersUpTo: number;
  readonly channels: readonly ChannelInfo[];
  readonly messages: readonly MessageType<unknown>[];
  readonly entities: readonly EntityType<unknown>[];
}

/** Names an entity: its id, and which of the entities that had this id it is. */
export interface Ref<_Entity = unknown> {
  readonly id: number;
  readonly generation: number;
}
/** The bytes of a `bytes N` field. */
export type Bytes = Uint8Array;
/** What a request without fields or a reply without fields has. */
export type Nothing = Record<string, never>;
export interface Vec2 { x: number; y: number }
export interface Vec3 { x: number; y: number; z: number }
/** A unit quaternion. */
export interface Rotation { w: number; x: number; y: number; z: number }
/** Cells row by row from the top left. */
export interface Grid<T> { readonly width: number; readonly height: number; readonly cells: T[] }

/** What a codec needs to know beside the bits. */
export interface CodecContext {
  /** The newest tick that this end knows: `tick` values are the nearest to it. */
  newestTick: number;
}

/** Reads and writes the values of one type in one version. */
export interface Codec {
  read(from: BitReader, context: CodecContext): any;
  /** Throws WireError `out_of_range` for a value that the type does not have. */
  write(to: BitWriter, value: any): void;
}

export const generations = 16;
const radians = Math.PI / 180;
/** Items of no bits that one message may have: its bits do not bound them. */
const maxEmptyItems = 65536;

const outOfRange = (what: string): never => fail("out_of_range", what);
const valueRange = (): never => fail("value_range", "a field's bits name a value outside its range");

export function isAlive(life: Life | undefined, version: number): boolean {
  return life === undefined || (version >= life[0] && (life[1] === 0 || version < life[1]));
}
const nameOf = (choice: ChoiceInfo): string => (typeof choice === "string" ? choice : choice[0]);

/** Codes of choices in one version: code by index, index by code. */
function choicesOf(choices: readonly (ChoiceInfo | CaseInfo)[], version: number) {
  const lifeOf = (i: number): Life | undefined => {
    const choice = choices[i]!;
    if (typeof choice === "string" || choice.length === 2) return undefined;
    return choice.length === 4 ? [choice[1] as number, choice[2] as number] : [choice[2] as number, choice[3] as number];
  };
  const standIn = (i: number): number => {
    const choice = choices[i]!;
    if (typeof choice === "string") return i;
    return (choice.length === 4 ? (choice[3] as number) : choice[4]) ?? i;
  };
  const alive = choices.map((_, i) => isAlive(lifeOf(i), version));
  const byCode = choices.map((_, i) => i).filter((i) => alive[i]);
  const sent = choices.map((_, i) => {
    for (let hops = 0; hops < choices.length && !alive[i]; ++hops) i = standIn(i);
    return i;
  });
  return { byCode, sent, codes: sent.map((i) => byCode.indexOf(i)), alive, bits: bitsFor(byCode.length) };
}

/** Index of the step of a range that a number is nearest to; -1 beyond the range. Halves are rounded up. */
function stepOf(position: number, count: number): number {
  const index = Math.trunc(position + 1.5) - 1;
  return index >= 0 && index < count ? index : -1;
}

function angleIndex(degrees: number, step: number, scale: number, count: number): number {
  const index = stepOf((degrees * scale) / step, count);
  if (index >= 0 || !Number.isFinite(degrees)) return index;
  const turned = degrees % 360;
  const wrapped = stepOf(((turned < 0 ? turned + 360 : turned) * scale) / step, count);
  return wrapped < 0 ? 0 : wrapped;
}

/** Scaled so that the largest component is 1, which keeps squares finite. */
function scaledDown(values: number[]): number[] {
  const max = Math.max(...values.map(Math.abs));
  if (!Number.isFinite(max) || max === 0) outOfRange("a direction or rotation needs finite numbers, and one that is not 0");
  return values.map((v) => v / max);
}
/** llround: halves away from zero. */
const rounded = (v: number): number => Math.sign(v) * Math.round(Math.abs(v));
const clamped = (v: number, n: number): number => Math.max(-n, Math.min(n, v)) + 0;

/** Point of the octahedron |x| + |y| + |z| = half for a point of its unfolded square. */
export function unfold(u: number, v: number, half: number): [number, number, number] {
  const z = half - Math.abs(u) - Math.abs(v);
  if (z >= 0) return [u, v, z];
  return [u < 0 ? Math.abs(v) - half : half - Math.abs(v), v < 0 ? Math.abs(u) - half : half - Math.abs(u), z];
}
const isOnFoldTwice = (u: number, v: number, n: number): boolean =>
  (Math.abs(u) === n && v < 0) || (Math.abs(v) === n && u < 0);

/** Index beside the largest component, by place. */
const beside = (largest: number, i: number): number => (i < largest ? i : i + 1);
/** The greatest of the other three components if it is larger than the one that is named largest, else 3. */
function rivalOf(largest: number, rest: readonly number[], half: number): number {
  const square = 2n * BigInt(half) ** 2n - rest.reduce((sum, c) => sum + BigInt(c) ** 2n, 0n);
  let greatest = 0;
  for (let i = 1; i < 3; ++i) if (Math.abs(rest[i]!) > Math.abs(rest[greatest]!)) greatest = i;
  const c = BigInt(rest[greatest]!) ** 2n;
  return c > square || (c === square && beside(largest, greatest) < largest) ? greatest : 3;
}
export function rotationOf(largest: number, rest: readonly number[], half: number): Rotation {
  const whole = 2 * half * half;
  const q = [0, 0, 0, 0];
  let square = whole;
  for (let i = 0; i < 3; ++i) {
    square -= rest[i]! * rest[i]!;
    q[beside(largest, i)] = rest[i]! / Math.sqrt(whole);
  }
  q[largest] = Math.sqrt(square) / Math.sqrt(whole);
  return { w: q[0]!, x: q[1]!, y: q[2]!, z: q[3]! };
}
export function direction3Of(u: number, v: number, half: number): Vec3 {
  const [x, y, z] = unfold(u, v, half);
  const length = Math.sqrt(x * x + y * y + z * z);
  return { x: x / length, y: y / length, z: z / length };
}

const utf8Reader = new TextDecoder("utf-8", { fatal: true, ignoreBOM: true });
const utf8Writer = new TextEncoder();
export function textOf(bytes: Uint8Array): string {
  try {
    return utf8Reader.decode(bytes);
  } catch {
    return fail("text_encoding", "a text is not valid UTF-8");
  }
}
export function bytesOfText(text: string): Uint8Array {
  return utf8Writer.encode(text);
}

const doubles = new DataView(new ArrayBuffer(8));

function numberOf(value: unknown): number {
  return typeof value === "number" ? value : outOfRange(`expected a number, found ${JSON.stringify(value)}`);
}

/** The least bits of a value in any version, which bound what a false length can allocate. */
function minBits(type: TypeInfo, versions: readonly number[]): number {
  const least = (of: (version: number) => number): number => Math.min(...versions.map(of));
  switch (type[0]) {
    case "list": return bitsFor(type[1] + 1);
    case "text": case "bytes": return bitsFor(type[1] + 1);
    case "count": return 4;
    case "maybe": return 1;
    case "grid": return 1;
    case "vec": return type[1] * minBits(type[2], versions);
    case "record":
      return least((v) => type[1].reduce((sum, f) => sum + (isAlive(f.life, v) ? minBits(f.type, [v]) : 0), 0));
    case "one of":
      return least((v) => {
        const cases = choicesOf(type[1], v);
        return cases.bits + Math.min(...cases.byCode.map((i) => {
          const inner = type[1][i]![1];
          return inner === 0 ? 0 : minBits(inner, [v]);
        }));
      });
    case "enum": return least((v) => choicesOf(type[1], v).bits);
    case "flags": return least((v) => choicesOf(type[1], v).byCode.length);
    default: return fixedBits(type)!;
  }
}

/** Bits of a value of the newest version if all its values have the same number of bits, else undefined. */
export function fixedBits(type: TypeInfo, version = 0xffff): number | undefined {
  switch (type[0]) {
    case "bool": return 1;
    case "int": return bitsFor(BigInt(type[2]) - BigInt(type[1]) + 1n);
    case "real": return bitsFor(type[4]);
    case "f32": return 32;
    case "f64": return 64;
    case "angle": case "direction2": return bitsFor(type[3]);
    case "direction3": return bitsFor((2 * type[1] + 1) ** 2);
    case "rotation": return bitsFor(4n * BigInt(2 * type[1] + 1) ** 3n);
    case "enum": return choicesOf(type[1], version).bits;
    case "flags": return choicesOf(type[1], version).byCode.length;
    case "ref": return bitsFor(type[1] * generations + 1);
    case "peer": return bitsFor(type[1]);
    case "tick": return 16;
    case "vec": {
      const axis = fixedBits(type[2], version);
      return axis === undefined ? undefined : axis * type[1];
    }
    case "record": {
      let sum = 0;
      for (const field of type[1]) {
        if (!isAlive(field.life, version)) continue;
        const bits = fixedBits(field.type, version);
        if (bits === undefined) return undefined;
        sum += bits;
      }
      return sum;
    }
    case "one of": {
      const cases = choicesOf(type[1], version);
      const sizes = new Set(cases.byCode.map((i) => {
        const inner = type[1][i]![1];
        return inner === 0 ? 0 : fixedBits(inner, version);
      }));
      const [size] = sizes;
      return sizes.size === 1 && size !== undefined ? cases.bits + size : undefined;
    }
    case "grid": case "maybe": case "count": return undefined;
    case "list": case "text": case "bytes": return undefined;
  }
}

/** Whether JSON-like `null` can be a value of the type: then a `maybe` of it is an array of none or one. */
export const canBeNull = (type: TypeInfo): boolean => type[0] === "maybe" || type[0] === "ref";

/** The value of a new struct: zero where the range has it, else the end nearest to zero; the first name; nothing. */
export function initialOf(type: TypeInfo): any {
  switch (type[0]) {
    case "bool": return false;
    case "int": {
      if (typeof type[1] === "bigint" || typeof type[2] === "bigint") {
        const [lo, hi] = [BigInt(type[1]), BigInt(type[2])];
        return lo > 0n ? lo : hi < 0n ? hi : 0n;
      }
      return type[1] > 0 ? type[1] : type[2] < 0 ? type[2] : 0;
    }
    case "real": {
      const [, lo, step, scale, count] = type;
      const index = Math.trunc(-lo / step + 1.5) - 1;
      return (lo + Math.max(0, Math.min(count - 1, index)) * step) / scale;
    }
    case "count": case "f32": case "f64": case "angle": case "peer": case "tick": return 0;
    case "direction2": return { x: 1, y: 0 };
    case "direction3": return { x: 0, y: 0, z: 1 };
    case "rotation": return { w: 1, x: 0, y: 0, z: 0 };
    case "vec": {
      const axis = initialOf(type[2]);
      return type[1] === 2 ? { x: axis, y: axis } : { x: axis, y: axis, z: axis };
    }
    case "text": return "";
    case "bytes": return new Uint8Array(0);
    case "enum": return nameOf(type[1][0]!);
    case "flags": return Object.fromEntries(type[1].map((flag) => [nameOf(flag), false]));
    case "record": return initialFields(type[1]);
    case "list": return [];
    case "grid": return { width: type[1], height: type[2], cells: new Array(type[1] * type[2]).fill(initialOf(type[3])) };
    case "maybe": return canBeNull(type[1]) ? [] : null;
    case "one of": {
      const [name, inner] = type[1][0]!;
      return inner === 0 ? { case: name } : { case: name, value: initialOf(inner) };
    }
    case "ref": return null;
  }
}
export function initialField(field: FieldInfo): any {
  return field.value === undefined ? initialOf(field.type) : field.value;
}
/** What a new struct has in its fields. */
export function initialFields(fields: readonly FieldInfo[]): any {
  const made: Record<string, unknown> = {};
  for (const field of fields) made[field.name] = initialField(field);
  return made;
}

/** Whole numbers `lo` to `lo + last`. */
function integerCodec(lo: number | bigint, hi: number | bigint): Codec {
  const bits = bitsFor(BigInt(hi) - BigInt(lo) + 1n);
  const text = `${lo}..${hi}`;
  if (typeof lo === "bigint" || typeof hi === "bigint" || bits > 52) {
    const [low, high] = [BigInt(lo), BigInt(hi)];
    return {
      read(from) {
        const value = low + from.big(bits);
        return value > high ? valueRange() : value;
      },
      write(to, value) {
        if (typeof value !== "bigint") outOfRange(`expected a bigint of ${text}`);
        if (value < low || value > high) outOfRange(`${value} is not in ${text}`);
        to.big(value - low, bits);
      },
    };
  }
  const last = hi - lo;
  return {
    read(from) {
      const index = from.get(bits);
      return index > last ? valueRange() : lo + index;
    },
    write(to, value) {
      if (!Number.isInteger(value) || value < lo || value > hi) outOfRange(`${String(value)} is not a whole number of ${text}`);
      to.put(value - lo, bits);
    },
  };
}

/** Index of a grid's cell in one version, and back. */
function cellCodec(type: TypeInfo, version: number): { count: number; named: boolean; indexOf(v: any): number; valueOf(i: number): any } {
  switch (type[0]) {
    case "int": {
      const [lo, hi] = [Number(type[1]), Number(type[2])];
      return {
        count: hi - lo + 1, named: false,
        indexOf: (v) => (Number.isInteger(v) && v >= lo && v <= hi ? v - lo : outOfRange(`${v} is not in ${lo}..${hi}`)),
        valueOf: (i) => lo + i,
      };
    }
    case "real": {
      const [, lo, step, scale, count] = type;
      return {
        count, named: false,
        indexOf(v) {
          const index = stepOf((numberOf(v) * scale - lo) / step, count);
          return index < 0 ? outOfRange(`${v} is outside the range`) : index;
        },
        valueOf: (i) => (lo + i * step) / scale,
      };
    }
    case "angle": {
      const [, step, scale, count] = type;
      return {
        count, named: false,
        indexOf(v) {
          const index = angleIndex(numberOf(v), step, scale, count);
          return index < 0 ? outOfRange(`${v} is no angle`) : index;
        },
        valueOf: (i) => (i * step) / scale,
      };
    }
    case "enum": {
      const choices = choicesOf(type[1], version);
      const names = type[1].map(nameOf);
      return {
        count: choices.byCode.length, named: true,
        indexOf(v) {
          const index = names.indexOf(v);
          return index < 0 ? outOfRange(`${JSON.stringify(v)} is none of ${names.join(", ")}`) : choices.codes[index]!;
        },
        valueOf: (i) => names[choices.byCode[i]!]!,
      };
    }
    default:
      return { count: 2, named: true, indexOf: (v) => (v ? 1 : 0), valueOf: (i) => i === 1 };
  }
}

/** The differences of a grid's cells, for whole grids and for deltas: indexes below `count`. */
export function readDifference(from: BitReader, count: number, named: boolean, before: number): number {
  if (count < 2) valueRange();
  if (named) {
    const index = from.get(bitsFor(count - 1));
    if (index >= count - 1) valueRange();
    return index >= before ? index + 1 : index;
  }
  const code = from.count(1);
  const distance = Math.floor(code / 2) + 1;
  const index = code % 2 === 1 ? before - distance : before + distance;
  return index < 0 || index >= count ? valueRange() : index;
}
export function writeDifference(to: BitWriter, count: number, named: boolean, before: number, index: number): void {
  if (named) to.put(index > before ? index - 1 : index, bitsFor(count - 1));
  else to.count(index > before ? 2 * (index - before - 1) : 2 * (before - index - 1) + 1, 1);
}
/** Indexes of a grid's cells. */
export function readGrid(from: BitReader, width: number, height: number, count: number, named: boolean): number[] {
  const cells = new Array<number>(width * height);
  let [before, above, run, at] = [0, 0, 0, 0];
  let isRunKnown = false;
  for (let y = 0; y < height; ++y) {
    for (let x = 0; x < width; ++x, ++at) {
      if (!isRunKnown) {
        run = from.count(0);
        if (run > cells.length - at) valueRange();
        isRunKnown = true;
      }
      if (x === 0) before = above;
      if (run > 0) {
        --run;
      } else {
        before = readDifference(from, count, named, before);
        isRunKnown = false;
      }
      if (x === 0) above = before;
      cells[at] = before;
    }
  }
  return cells;
}
export function writeGrid(to: BitWriter, width: number, height: number, count: number, named: boolean, cells: readonly number[]): void {
  let [before, above, run, at] = [0, 0, 0, 0];
  for (let y = 0; y < height; ++y) {
    for (let x = 0; x < width; ++x, ++at) {
      const index = cells[at]!;
      if (x === 0) [before, above] = [above, index];
      if (index === before) {
        ++run;
        continue;
      }
      to.count(run, 0);
      run = 0;
      writeDifference(to, count, named, before, index);
      before = index;
    }
  }
  if (run > 0) to.count(run, 0);
}
/** Shape of the cells of a grid type in the newest version. */
export function gridShape(type: TypeInfo): { width: number; height: number; count: number; named: boolean } {
  if (type[0] !== "grid") throw new TypeError("no grid");
  const cell = cellCodec(type[3], 0xffff);
  return { width: type[1], height: type[2], count: cell.count, named: cell.named };
}

/** Makes the codec of a type in one version. `versions` are all that the protocol speaks. */
export function codecOf(type: TypeInfo, version: number, versions: readonly number[] = [version]): Codec {
  const inner = (t: TypeInfo): Codec => codecOf(t, version, versions);
  switch (type[0]) {
    case "bool":
      return {
        read: (from) => from.bool(),
        write(to, value) {
          if (typeof value !== "boolean") outOfRange(`expected true or false, found ${JSON.stringify(value)}`);
          to.put(value ? 1 : 0, 1);
        },
      };
    case "int": return integerCodec(type[1], type[2]);
    case "count": {
      const limit = type[1];
      return {
        read(from) {
          const value = from.count(3);
          return value > limit ? valueRange() : value;
        },
        write(to, value) {
          if (!Number.isInteger(value) || value < 0 || value > limit) outOfRange(`${String(value)} is not a whole number of 0..${limit}`);
          to.count(value, 3);
        },
      };
    }
    case "real": {
      const [, lo, step, scale, count] = type;
      const bits = bitsFor(count);
      return {
        read(from) {
          const index = from.get(bits);
          return index >= count ? valueRange() : (lo + index * step) / scale;
        },
        write(to, value) {
          const index = stepOf((numberOf(value) * scale - lo) / step, count);
          if (index < 0) outOfRange(`${value} is not in ${lo / scale}..${(lo + (count - 1) * step) / scale}`);
          to.put(index, bits);
        },
      };
    }
    case "f32":
      return {
        read(from) {
          doubles.setUint32(0, from.get(32));
          const value = doubles.getFloat32(0);
          return !Number.isFinite(value) || Object.is(value, -0) ? valueRange() : value;
        },
        write(to, value) {
          doubles.setFloat32(0, numberOf(value) + 0);
          if (!Number.isFinite(doubles.getFloat32(0))) outOfRange(`${value} is no finite number of 32 bits`);
          to.put(doubles.getUint32(0) === 0x8000_0000 ? 0 : doubles.getUint32(0), 32);
        },
      };
    case "f64":
      return {
        read(from) {
          const low = from.get(32);
          doubles.setUint32(0, from.get(32));
          doubles.setUint32(4, low);
          const value = doubles.getFloat64(0);
          return !Number.isFinite(value) || Object.is(value, -0) ? valueRange() : value;
        },
        write(to, value) {
          if (!Number.isFinite(numberOf(value))) outOfRange(`${value} is no finite number`);
          doubles.setFloat64(0, value === 0 ? 0 : value);
          to.put(doubles.getUint32(4), 32);
          to.put(doubles.getUint32(0), 32);
        },
      };
    case "angle": {
      const [, step, scale, count] = type;
      const bits = bitsFor(count);
      return {
        read(from) {
          const index = from.get(bits);
          return index >= count ? valueRange() : (index * step) / scale;
        },
        write(to, value) {
          const index = angleIndex(numberOf(value), step, scale, count);
          if (index < 0) outOfRange(`${value} is no angle`);
          to.put(index, bits);
        },
      };
    }
    case "direction2": {
      const [, step, scale, count] = type;
      const bits = bitsFor(count);
      return {
        read(from) {
          const index = from.get(bits);
          if (index >= count) valueRange();
          const angle = ((index * step) / scale) * radians;
          return { x: Math.cos(angle), y: Math.sin(angle) };
        },
        write(to, value) {
          const [x, y] = scaledDown([numberOf(value.x), numberOf(value.y)]);
          to.put(angleIndex(Math.atan2(y!, x!) / radians, step, scale, count), bits);
        },
      };
    }
    case "direction3": {
      const n = type[1];
      const side = 2 * n + 1;
      const bits = bitsFor(side * side);
      return {
        read(from) {
          const index = from.get(bits);
          if (index >= side * side) valueRange();
          const [u, v] = [Math.floor(index / side) - n, (index % side) - n];
          return isOnFoldTwice(u, v, n) ? valueRange() : direction3Of(u, v, n);
        },
        write(to, value) {
          const [x, y, z] = scaledDown([numberOf(value.x), numberOf(value.y), numberOf(value.z)]) as [number, number, number];
          const scale = n / (Math.abs(x) + Math.abs(y) + Math.abs(z));
          let [u, v] = [x * scale, y * scale];
          const signed = (size: number, like: number): number => (like < 0 || Object.is(like, -0) ? -Math.abs(size) : Math.abs(size));
          if (z < 0) [u, v] = [signed(n - Math.abs(v), u), signed(n - Math.abs(u), v)];
          let [a, b] = [clamped(rounded(u), n), clamped(rounded(v), n)];
          if (Math.abs(a) === n) b = Math.abs(b);
          if (Math.abs(b) === n) a = Math.abs(a);
          to.put((a + n) * side + (b + n), bits);
        },
      };
    }
    case "rotation": {
      const n = type[1];
      const side = BigInt(2 * n + 1);
      const bits = bitsFor(4n * side ** 3n);
      return {
        read(from) {
          let index = from.big(bits);
          if (index >= 4n * side ** 3n) valueRange();
          const rest = [0, 0, 0];
          for (let i = 2; i >= 0; --i, index /= side) rest[i] = Number(index % side) - n;
          const largest = Number(index);
          return rivalOf(largest, rest, n) < 3 ? valueRange() : rotationOf(largest, rest, n);
        },
        write(to, value) {
          const q = scaledDown([numberOf(value.w), numberOf(value.x), numberOf(value.y), numberOf(value.z)]);
          let largest = 0;
          for (let i = 1; i < 4; ++i) if (Math.abs(q[i]!) > Math.abs(q[largest]!)) largest = i;
          const length = Math.sqrt(q[0]! * q[0]! + q[1]! * q[1]! + q[2]! * q[2]! + q[3]! * q[3]!);
          const scale = ((n * Math.sqrt(2)) / length) * (q[largest]! < 0 ? -1 : 1);
          const rest = [0, 1, 2].map((i) => clamped(rounded(q[beside(largest, i)]! * scale), n));
          for (let i = rivalOf(largest, rest, n); i < 3; i = rivalOf(largest, rest, n)) rest[i]! += rest[i]! > 0 ? -1 : 1;
          let index = BigInt(largest);
          for (const c of rest) index = index * side + BigInt(c + n);
          to.big(index, bits);
        },
      };
    }
    case "vec": {
      const axis = inner(type[2]);
      if (type[1] === 2) {
        return {
          read: (from, context) => ({ x: axis.read(from, context), y: axis.read(from, context) }),
          write(to, value) {
            axis.write(to, value.x);
            axis.write(to, value.y);
          },
        };
      }
      return {
        read: (from, context) => ({ x: axis.read(from, context), y: axis.read(from, context), z: axis.read(from, context) }),
        write(to, value) {
          axis.write(to, value.x);
          axis.write(to, value.y);
          axis.write(to, value.z);
        },
      };
    }
    case "text": case "bytes": {
      const limit = type[1];
      const bits = bitsFor(limit + 1);
      const isText = type[0] === "text";
      return {
        read(from) {
          const length = from.get(bits);
          if (length > limit) fail("too_long", "a text or list is longer than its stated maximum");
          const bytes = from.bytesOf(length);
          return isText ? textOf(bytes) : bytes;
        },
        write(to, value) {
          if (isText ? typeof value !== "string" : !(value instanceof Uint8Array)) {
            outOfRange(`expected ${isText ? "a string" : "a Uint8Array"}, found ${typeof value}`);
          }
          const bytes = isText ? bytesOfText(value) : value;
          if (bytes.length > limit) outOfRange(`${bytes.length} bytes are more than ${limit}`);
          to.put(bytes.length, bits);
          to.bits(bytes, bytes.length * 8);
        },
      };
    }
    case "enum": {
      const names = type[1].map(nameOf);
      const { byCode, codes, bits } = choicesOf(type[1], version);
      return {
        read(from) {
          const code = from.get(bits);
          return code >= byCode.length ? valueRange() : names[byCode[code]!]!;
        },
        write(to, value) {
          const index = names.indexOf(value);
          if (index < 0) outOfRange(`${JSON.stringify(value)} is none of ${names.join(", ")}`);
          to.put(codes[index]!, bits);
        },
      };
    }
    case "flags": {
      const names = type[1].map(nameOf);
      const { alive } = choicesOf(type[1], version);
      return {
        read(from) {
          const made: Record<string, boolean> = {};
          names.forEach((name, i) => (made[name] = alive[i]! && from.bool()));
          return made;
        },
        write: (to, value) => names.forEach((name, i) => alive[i] && to.bool(value[name] === true)),
      };
    }
    case "record": return fieldsCodec(type[1], version, versions);
    case "list": {
      const [, limit, element] = type;
      const item = inner(element);
      const bits = bitsFor(limit + 1);
      const least = minBits(element, versions);
      return {
        read(from, context) {
          const length = from.get(bits);
          if (length > limit || (least === 0 && length > maxEmptyItems)) fail("too_long", "a text or list is longer than its stated maximum");
          if (length * least > from.left) fail("truncated", "the datagram ends inside a field");
          const made = new Array(length);
          for (let i = 0; i < length; ++i) made[i] = item.read(from, context);
          return made;
        },
        write(to, value) {
          if (!Array.isArray(value)) outOfRange("expected an array");
          if (value.length > limit) outOfRange(`${value.length} items are more than ${limit}`);
          to.put(value.length, bits);
          value.forEach((each: unknown, i: number) => within(`[${i}]`, () => item.write(to, each)));
        },
      };
    }
    case "grid": {
      const [, width, height, element] = type;
      const cell = cellCodec(element, version);
      return {
        read: (from) => ({ width, height, cells: readGrid(from, width, height, cell.count, cell.named).map(cell.valueOf) }),
        write(to, value) {
          if (value.cells.length !== width * height) outOfRange(`a grid has ${width} x ${height} cells`);
          writeGrid(to, width, height, cell.count, cell.named, value.cells.map(cell.indexOf));
        },
      };
    }
    case "maybe": {
      const value = inner(type[1]);
      const wrapped = canBeNull(type[1]);
      return {
        read(from, context) {
          if (!from.bool()) return wrapped ? [] : null;
          return wrapped ? [value.read(from, context)] : value.read(from, context);
        },
        write(to, maybe) {
          const isThere = wrapped ? maybe.length > 0 : maybe !== null;
          to.bool(isThere);
          if (isThere) value.write(to, wrapped ? maybe[0] : maybe);
        },
      };
    }
    case "one of": {
      const names = type[1].map((each) => each[0]);
      const choices = choicesOf(type[1], version);
      const codecs = type[1].map((each) => (each[1] === 0 ? undefined : inner(each[1])));
      return {
        read(from, context) {
          const code = from.get(choices.bits);
          if (code >= choices.byCode.length) valueRange();
          const index = choices.byCode[code]!;
          const codec = codecs[index];
          return codec ? { case: names[index], value: codec.read(from, context) } : { case: names[index] };
        },
        write(to, value) {
          const index = names.indexOf(value?.case);
          if (index < 0) outOfRange(`${JSON.stringify(value?.case)} is none of ${names.join(", ")}`);
          to.put(choices.codes[index]!, choices.bits);
          const sent = choices.sent[index]!;
          const codec = codecs[sent];
          if (codec) within(names[sent]!, () => codec.write(to, sent === index ? value.value : initialOf(type[1][sent]![1] as TypeInfo)));
        },
      };
    }
    case "ref": {
      const bits = bitsFor(type[1] * generations + 1);
      const most = type[1];
      return {
        read(from) {
          const index = from.get(bits);
          if (index > most * generations) valueRange();
          return index === 0 ? null : { id: 1 + Math.floor((index - 1) / generations), generation: (index - 1) % generations };
        },
        write(to, value) {
          if (value === null) return to.put(0, bits);
          const { id, generation } = value;
          if (!(id >= 1 && id <= most && generation >= 0 && generation < generations)) outOfRange("no such entity id or generation");
          to.put(1 + generations * (id - 1) + generation, bits);
        },
      };
    }
    case "peer": return integerCodec(0, type[1] - 1);
    case "tick":
      return {
        read: (from, context) => tickNear(from.get(16), context.newestTick),
        write(to, value) {
          if (!Number.isInteger(value) || value < 0 || value > 0xffff_ffff) outOfRange(`${String(value)} is no tick`);
          to.put(value & 0xffff, 16);
        },
      };
  }
}

/** The tick with these 16 low bits that is nearest to `newest`. */
export function tickNear(low: number, newest: number): number {
  const ahead = ((low - newest) << 16) >> 16;
  return ahead < 0 && newest < -ahead ? low : (newest + ahead) >>> 0;
}

/** Puts a name before the message of an error that `work` throws. */
function within(name: string, work: () => void): void {
  try {
    work();
  } catch (error) {
    throw placed(error, name);
  }
}
function placed(error: unknown, name: string): unknown {
  if (!(error instanceof WireError) || error.code !== "out_of_range") {
    return error instanceof TypeError ? new WireError("out_of_range", `${name}: the value has not the shape that the description states`) : error;
  }
  const joint = /^[\w\]][\w.[\]]*: /.test(error.message) ? "." : ": ";
  return new WireError(error.code, error.message.startsWith("[") ? name + error.message : name + joint + error.message);
}

/** The codec of a record, message or entity in one version. */
export function fieldsCodec(fields: readonly FieldInfo[], version: number, versions: readonly number[] = [version]): Codec {
  const names = fields.map((field) => field.name);
  const codecs = fields.map((field) => (isAlive(field.life, version) ? codecOf(field.type, version, versions) : undefined));
  const count = fields.length;
  return {
    read(from, context) {
      const made: Record<string, unknown> = {};
      for (let i = 0; i < count; ++i) {
        const codec = codecs[i];
        made[names[i]!] = codec === undefined ? initialField(fields[i]!) : codec.read(from, context);
      }
      return made;
    },
    write(to, value) {
      let i = 0;
      try {
        for (; i < count; ++i) codecs[i]?.write(to, value[names[i]!]);
      } catch (error) {
        throw placed(error, names[i]!);
      }
    },
  };
}
