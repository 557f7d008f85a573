// Values between snapshots, for play-out.
import type { EntityModel, Known } from "./columns.js";
import { longestBlend, maxAhead, type EntitySlot, type State } from "./world_state.js";

/** Values at a tick: between two states, or moved on from the newest. `newestTick` is the newest that arrived. */
export function sampleOf(model: EntityModel, slot: EntitySlot, tick: number, newestTick: number): any {
  const context = { newestTick };
  // Predictions are made for whole ticks: the two around it are blended.
  const movedOnTo = (known: Known, owner: boolean, to: number): any => {
    const whole = Math.floor(to);
    const from = model.valueOf(model.movedOn(known, whole), owner, context);
    return to === whole ? from : model.blend(from, model.valueOf(model.movedOn(known, whole + 1), owner, context), to - whole);
  };
  let before: State | undefined;
  let after: State | undefined;
  for (const state of slot.received) {
    if (state.update === "despawn" || state.generation !== slot.generation || state.type !== slot.type) before = after = undefined;
    else if (state.tick <= tick) {
      if (!before || state.tick >= before.tick) before = state;
    } else if (!after || state.tick < after.tick) {
      after = state;
    }
  }
  if (after) {
    const start = Math.max(before?.tick ?? 0, after.tick > longestBlend ? after.tick - longestBlend : 0);
    before ??= after;
    if (before === after || before.owner !== after.owner) return model.valueOf(before.row, before.owner, context);
    const leaps = model.leaps(before, after);
    // Where values may be a little off they are moved on until the blend begins.
    if (model.isTolerant && (leaps || tick < start)) return movedOnTo(before, before.owner, tick);
    if (leaps) return model.valueOf(before.row, before.owner, context);
    const from = model.valueOf(model.movedOn(before, model.isTolerant ? Math.floor(start) : before.tick), before.owner, context);
    const to = model.valueOf(after.row, after.owner, context);
    return model.blend(from, to, Math.max(0, Math.min(1, (tick - start) / (after.tick - start))));
  }
  let reach = Math.max(tick, slot.tick);
  if (!model.isTolerant) {
    // No update means that it stands still: a moving entity has one in each tick.
    const ahead = reach - slot.tick;
    reach = slot.tick + (ahead <= maxAhead ? ahead : Math.max(2 * maxAhead - ahead, 0));
    if (slot.tick + maxAhead < newestTick) reach = slot.tick;
  }
  if (model.follows.length === 0) return model.valueOf(slot.row, slot.owner, context);
  return movedOnTo(slot, slot.owner, reach);
}
