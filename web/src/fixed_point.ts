// Whole-number arithmetic of predictions (docs/state-format.md): the same on every machine.
import { beside } from "./unit_vectors.js";

const one30 = 1n << 30n;
const times = (a: bigint, b: bigint): bigint => (a * b + one30 / 2n) >> 30n;
/** Cosine of place / 2^32 of a turn, times 2^24, by the Taylor series in whole numbers. */
export function cosine(place: bigint): number {
  const quarter = one30;
  const folded = place > 2n * quarter ? (1n << 32n) - place : place;
  const negative = folded > quarter;
  const x32 = negative ? 2n * quarter - folded : folded;
  const bySine = x32 > quarter / 2n;
  const turn = bySine ? quarter - x32 : x32;
  const x = (turn * (6746518852n >> 2n) + (1n << 29n)) >> 30n;
  const square = times(x, x);
  let term = bySine ? x : one30;
  let sum = 0n;
  for (let n = bySine ? 1n : 0n; n < 16n; n += 2n) {
    sum += term;
    term = -times(term, square) / ((n + 1n) * (n + 2n));
  }
  return Number((negative ? -sum : sum) >> 6n);
}

export const whole = (value: number, limit: number): number => Math.trunc(Math.max(-limit, Math.min(limit, value)));

export function squareRoot(value: number): number {
  if (value <= 0) return 0;
  let root = Math.floor(Math.sqrt(value));
  while (root * root > value) --root;
  while ((root + 1) * (root + 1) <= value) ++root;
  return root;
}
export const roundedBy = (value: number, by: number): number => Math.floor((2 * value + by) / (2 * by));
export const clampIndex = (steps: number, half: number): number => Math.max(-half, Math.min(half, steps)) + half;

export function quaternionOf(numbers: readonly number[], first: number, half: number): number[] {
  const q = [0, 0, 0, 0];
  let square = 2 * half * half;
  const largest = numbers[first]!;
  for (let i = 0; i < 3; ++i) {
    const steps = numbers[first + 1 + i]! - half;
    square -= steps * steps;
    q[beside(largest, i)] = steps * 2048;
  }
  q[largest] = squareRoot(Math.max(square, 0) * 2 ** 22);
  return q;
}
export function pointOf(numbers: readonly number[], first: number, half: number): number[] {
  const u = numbers[first]! - half;
  const v = numbers[first + 1]! - half;
  const z = half - Math.abs(u) - Math.abs(v);
  if (z >= 0) return [u * 1024, v * 1024, z * 1024];
  return [(u < 0 ? Math.abs(v) - half : half - Math.abs(v)) * 1024, (v < 0 ? Math.abs(u) - half : half - Math.abs(u)) * 1024, z * 1024];
}
/** The share of an axis in a way along a direction: of its unit vector, times 2^24, cut towards zero. */
export function shareOfDirection(u: number, v: number, last: number, axis: number): number {
  const point = pointOf([u, v], 0, last / 2).map((c) => c / 1024);
  const length = squareRoot(point.reduce((sum, c) => sum + c * c, 0) * 2 ** 18);
  return Math.trunc((point[axis]! * 2 ** 33) / length);
}
export const onwards = (from: readonly number[], to: readonly number[], ahead: number, span: number): number[] =>
  to.map((c, i) => c + Math.trunc(((c - from[i]!) * ahead) / span));
