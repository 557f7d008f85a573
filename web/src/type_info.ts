// Facts about types: the codes of names, the least bits of a value, fixed sizes, defaults.
import { bitsFor } from "./bits.js";
import { isAlive, newest, type CaseInfo, type ChoiceInfo, type FieldInfo, type Life, type TypeInfo } from "./protocol.js";

export const generations = 16;
export const nameOf = (choice: ChoiceInfo): string => (typeof choice === "string" ? choice : choice[0]);

/** Codes of choices in one version: code by index, index by code. */
export function choicesOf(choices: readonly (ChoiceInfo | CaseInfo)[], version: number) {
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

/** The least bits of a value in any version, which bound what a false length can allocate. */
export function minBits(type: TypeInfo, versions: readonly number[]): number {
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

/** Bits of a value in a version if all its values have the same number of bits, else undefined. */
export function fixedBits(type: TypeInfo, version = newest): number | undefined {
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

/** Whether JSON-like `null` can be a value of the type: then a `maybe` of it is an array of none or one, which is never null. */
export const canBeNull = (type: TypeInfo): boolean => type[0] === "ref" || (type[0] === "maybe" && !canBeNull(type[1]));

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
