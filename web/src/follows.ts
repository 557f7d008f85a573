// What positions follow: a speed and a direction, or a velocity, and how far one step of it moves a position in a tick.
import { cosine, whole } from "./fixed_point.js";
import { isAlive, type EntityType, type FieldInfo } from "./protocol.js";

/** The fastest motion in steps of a position a tick, times 2^24: anything faster crosses any range at once. */
export const fastest = 2 ** 42;

export interface Follow {
  first: number;
  axes: number;
  /** Of a velocity the first of its columns, of a direction in space the first of two. */
  speed: number;
  along: number;
  form: "angle" | "direction" | "velocity";
  within: number;
  zero: number;
  step: number;
  /** Cosine and sine of each step of the angle, times 2^24. */
  shares: [number[], number[]];
}

/** What of a column decides how a position follows it. */
interface LeadingColumn {
  readonly field: number;
  readonly zero: number;
  readonly step: number;
}

const sharesOf = new Map<number, [number[], number[]]>();

/** Cosine and sine of each of so many steps of a turn, times 2^24. Computed once: a page may hold many worlds. */
function sharesOfAngle(steps: number): [number[], number[]] {
  let shares = sharesOf.get(steps);
  if (shares) return shares;
  shares = [[], []];
  for (let i = 0; i < steps; ++i) {
    const turned = (i + steps - Math.floor(steps / 4)) % steps;
    shares[0].push(cosine((BigInt(i) << 32n) / BigInt(steps)));
    shares[1].push(cosine((BigInt(turned) << 32n) / BigInt(steps)));
  }
  sharesOf.set(steps, shares);
  return shares;
}

/** How a field follows others in a version, and the columns of these; undefined if it does not, or not in equal steps. */
export function followOf(
  type: EntityType<unknown>, info: FieldInfo, columns: readonly LeadingColumn[], firstOf: ReadonlyMap<string, number>, ticksPerSecond: number,
  version: number,
): { follow: Follow; leaders: number[] } | undefined {
  const words = info.words?.follow;
  const first = firstOf.get(info.name)!;
  if (!words || columns.filter((column) => type.fields[column.field] === info).length < 2) return undefined;
  const [speedName, alongName, within] = words;
  const fieldOf = (name: string): FieldInfo | undefined => type.fields.find((field) => field.name === name);
  const speedField = fieldOf(speedName)!;
  const alongField = fieldOf(alongName);
  const axis = info.type[0] === "record" ? info.type[1][0]!.type : info.type[0] === "vec" ? info.type[2] : info.type;
  const speedType = alongField || speedField.type[0] !== "vec" ? speedField.type : speedField.type[2];
  const isScaled = speedType[0] === "real" || speedType[0] === "int";
  if (!isScaled || axis[0] !== "real" || !isAlive(speedField.life, version)) return undefined;
  if (alongField && !isAlive(alongField.life, version)) return undefined;
  const form = !alongField ? "velocity" : alongField.type[0] === "direction3" ? "direction" : "angle";
  const axes = form === "angle" ? 2 : form === "direction" ? 3 : (speedField.type[1] as number);
  const speed = firstOf.get(speedName)!;
  const along = firstOf.get(alongName) ?? speed;
  const range = (from: number, count: number): number[] => [...Array(count).keys()].map((i) => from + i);
  const turns = form === "angle" ? 1 : form === "direction" ? 2 : 0;
  const leaders = [...range(speed, form === "velocity" ? axes : 1), ...range(along, turns)];
  const steps = form === "angle" ? (alongField!.type as readonly [string, number, number, number])[3] : 0;
  const shares = sharesOfAngle(steps);
  const unit = 2 ** 24 / ticksPerSecond;
  const positionStep = columns[first]!.step;
  const zero = whole((columns[speed]!.zero / positionStep) * unit, fastest);
  const step = whole((columns[speed]!.step / positionStep) * unit, 2 ** 29);
  return { follow: { first, axes, speed, along, form, within, zero, step, shares }, leaders };
}
