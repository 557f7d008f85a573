// The codecs of types (docs/schema-language.md): closures that are made once for each type and version.
import { BitReader, BitWriter, bitsFor } from "./bits.js";
import { WireError, fail, outOfRange, valueRange } from "./errors.js";
import { readGrid, writeGrid } from "./grid.js";
import { isAlive, type FieldInfo, type TypeInfo } from "./protocol.js";
import { bytesOfText, textOf } from "./text.js";
import { canBeNull, choicesOf, generations, initialField, initialOf, minBits, nameOf } from "./type_info.js";
import { beside, clamped, direction3Of, isOnFoldTwice, rivalOf, rotationOf, rounded, scaledDown } from "./unit_vectors.js";

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

const radians = Math.PI / 180;
/** Items of no bits that one message may have: its bits do not bound them. */
const maxEmptyItems = 65536;



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
const doubles = new DataView(new ArrayBuffer(8));

function numberOf(value: unknown): number {
  return typeof value === "number" ? value : outOfRange(`expected a number, found ${JSON.stringify(value)}`);
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

/** Shape of the cells of a grid type in a version. */
export function gridShape(type: TypeInfo, version: number): { width: number; height: number; count: number; named: boolean } {
  if (type[0] !== "grid") throw new TypeError("no grid");
  const cell = cellCodec(type[3], version);
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
