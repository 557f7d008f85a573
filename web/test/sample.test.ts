// What is drawn of a position that may be a little off, between two updates that are far apart.
import assert from "node:assert/strict";
import { test } from "node:test";
import { Raft, quay } from "../build/generated/quay.js";
import { EntityModel, type Row } from "../src/columns.js";
import { sampleOf } from "../src/sample.js";
import type { EntitySlot, State } from "../src/world_state.js";

// A raft that sails east with 10 m/s, half a metre a tick, and is corrected after 30 ticks.
function sailing(correctedTo: number): { model: EntityModel; slot: EntitySlot } {
  const index = quay.entities.indexOf(Raft);
  const model = new EntityModel(Raft, index, 20);
  const row = (x: number): Row => {
    const numbers = model.columns.map(({ name, zero, step }) => (name === "speed" ? 100 : name.startsWith("at") ? Math.round(((name === "at[0]" ? x : 0) - zero) / step) : 0));
    return { numbers, varying: numbers.map(() => null) };
  };
  const state = (snapshot: number, x: number): State => ({ snapshot, at: snapshot, tick: snapshot, update: "delta", generation: 0, type: index, owner: false, row: row(x) });
  const received = [state(100, 0), state(130, correctedTo)];
  return { model, slot: { ...received[1]!, received, isThere: true } };
}

test("it sails on until the blend into the next update begins", () => {
  const { model, slot } = sailing(15.25);
  const at = (tick: number): number => sampleOf(model, slot, tick, 130).at.x;
  assert.equal(model.isTolerant, true);
  assert.equal(at(100), 0);
  assert.equal(at(110), 5);
  assert.equal(at(110.5), 5.25);
  assert.equal(at(126), 13);
  assert.equal(at(130), 15.25);
  assert.ok(at(128) > 13.9 && at(128) < 14.3, `${at(128)}`);
});

test("it sails on until the tick of a leap", () => {
  const { model, slot } = sailing(-400);
  const at = (tick: number): number => sampleOf(model, slot, tick, 130).at.x;
  assert.equal(at(128), 14);
  assert.equal(at(130), -400);
});
