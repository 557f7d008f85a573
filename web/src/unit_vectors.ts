// Unit vectors as whole numbers: directions on an octahedron, rotations by their three smaller components.
import { outOfRange } from "./errors.js";
import type { Rotation, Vec3 } from "./protocol.js";

/** The values over the largest of them, so that no square overflows. */
export function scaledDown(values: number[]): number[] {
  const max = Math.max(...values.map(Math.abs));
  if (!Number.isFinite(max) || max === 0) outOfRange("a direction or rotation needs finite numbers, and one that is not 0");
  return values.map((v) => v / max);
}
/** llround: halves away from zero. */
export const rounded = (v: number): number => Math.sign(v) * Math.round(Math.abs(v));
export const clamped = (v: number, n: number): number => Math.max(-n, Math.min(n, v)) + 0;

/** Point of the octahedron |x| + |y| + |z| = half for a point of its unfolded square. */
export function unfold(u: number, v: number, half: number): [number, number, number] {
  const z = half - Math.abs(u) - Math.abs(v);
  if (z >= 0) return [u, v, z];
  return [u < 0 ? Math.abs(v) - half : half - Math.abs(v), v < 0 ? Math.abs(u) - half : half - Math.abs(u), z];
}
export const isOnFoldTwice = (u: number, v: number, n: number): boolean =>
  (Math.abs(u) === n && v < 0) || (Math.abs(v) === n && u < 0);

/** Index beside the largest component, by place. */
export const beside = (largest: number, i: number): number => (i < largest ? i : i + 1);
/** The greatest of the other three components if it is larger than the one that is named largest, else 3. */
export function rivalOf(largest: number, rest: readonly number[], half: number): number {
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
