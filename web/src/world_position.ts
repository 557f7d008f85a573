// World positions: of an attached entity with those of its carriers.
import type { Position, Ref } from "./protocol.js";
import type { ClientWorld } from "./snapshots.js";

/** The most carriers in a chain of attached entities; a cycle of references ends there. */
const maxCarriers = 8;

/** The position of an entity at a tick plus those of its carriers; undefined if `field` is no position, or a carrier is not there. */
export function worldPosition(world: ClientWorld, entity: Ref, tick: number, field: string): Position | undefined {
  let sum: Position | undefined;
  let ref = entity;
  for (let carriers = 0; carriers <= maxCarriers; ++carriers) {
    const slot = world.find(ref);
    const value = slot && world.sample(ref, tick);
    const own = value?.[field] as Position | undefined;
    if (!slot || typeof own?.x !== "number" || typeof own.y !== "number") return undefined;
    sum = sum ? { x: sum.x + own.x, y: sum.y + own.y, ...(own.z === undefined ? {} : { z: (sum.z ?? 0) + own.z }) } : { ...own };
    const words = world.models[slot.type]!.type.fields.find((each) => each.name === field)?.words;
    const carrier = words?.relativeTo && value[words.relativeTo];
    if (!carrier) return sum;
    ref = carrier;
  }
  return undefined;
}
