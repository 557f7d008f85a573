// Values as `kwind gen --vectors` writes them in JSON, from and to the values of this package.
import { canBeNull, type FieldInfo, type TypeInfo } from "kestrel-wind";

const hex = (bytes: Uint8Array): string => Buffer.from(bytes).toString("hex");
export const unhex = (text: string): Uint8Array => new Uint8Array(Buffer.from(text, "hex"));

export function toJson(type: TypeInfo, value: any): any {
  switch (type[0]) {
    case "int": return typeof value === "bigint" ? Number(value) : value;
    case "bytes": return hex(value);
    case "flags": return Object.keys(value).filter((name) => value[name]);
    case "direction2": return [value.x, value.y];
    case "direction3": return [value.x, value.y, value.z];
    case "rotation": return [value.w, value.x, value.y, value.z];
    case "vec": return (type[1] === 2 ? [value.x, value.y] : [value.x, value.y, value.z]).map((v) => toJson(type[2], v));
    case "record": return fieldsToJson(type[1], value);
    case "list": return value.map((v: any) => toJson(type[2], v));
    case "grid": {
      const rows: any[] = [];
      for (let y = 0; y < type[2]; ++y) rows.push(value.cells.slice(y * type[1], (y + 1) * type[1]).map((v: any) => toJson(type[3], v)));
      return rows;
    }
    case "maybe":
      if (canBeNull(type[1])) return value.map((v: any) => toJson(type[1], v));
      return value === null ? null : toJson(type[1], value);
    case "one of": {
      const inner = type[1].find((each) => each[0] === value.case)![1];
      return inner === 0 ? value.case : { [value.case]: toJson(inner, value.value) };
    }
    default: return value;
  }
}
export function fieldsToJson(fields: readonly FieldInfo[], value: any): any {
  return Object.fromEntries(fields.map((field) => [field.name, toJson(field.type, value[field.name])]));
}

/** Local fields are in vectors and not in the tables: they are left out of the comparison. */
export function difference(ours: any, theirs: any, path = ""): string | undefined {
  if (typeof ours === "number" && typeof theirs === "number") {
    return ours === theirs || Math.abs(ours - theirs) <= 1e-12 ? undefined : `${path}: ${ours}, not ${theirs}`;
  }
  if (ours !== null && typeof ours === "object" && theirs !== null && typeof theirs === "object") {
    if (Array.isArray(ours) !== Array.isArray(theirs)) return `${path}: one is an array`;
    if (Array.isArray(ours) && ours.length !== theirs.length) return `${path}: ${ours.length} items, not ${theirs.length}`;
    for (const key of Object.keys(ours)) {
      const found = difference(ours[key], theirs[key], `${path}.${key}`);
      if (found) return found;
    }
    return undefined;
  }
  return ours === theirs ? undefined : `${path}: ${JSON.stringify(ours)}, not ${JSON.stringify(theirs)}`;
}
