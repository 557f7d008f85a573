// What must not compile: each line below an expectation is an error of types. Checked by tsc, never run.
import { connect, ReplicatedWorld, type Client } from "kestrel-wind";
import { AskBerth, Gull, Hail, Helm, Steer, Told, quay } from "../build/generated/quay.js";

export async function neverRun(client: Client, world: ReplicatedWorld): Promise<void> {
  client.send(Helm, { count: 1, rudder: 0 });
  // @ts-expect-error a wrong field name
  client.send(Helm, { count: 1, ruder: 0 });
  // @ts-expect-error a missing field
  client.send(Helm, { count: 1 });
  // @ts-expect-error a value of another type
  client.send(Helm, { count: "1", rudder: 0 });
  // @ts-expect-error no value of the enum
  client.send(Hail, { count: 1, words: "", cargo: "gold", at: null });
  const { line } = await client.request(AskBerth, { length: 3 }, { timeout: 100 });
  line.toFixed();
  // @ts-expect-error no field of the reply
  (await client.request(AskBerth, { length: 3 })).berth;
  client.on(Told, (told) => told.words.length);
  // @ts-expect-error no field of the message
  client.on(Told, (told) => told.word);
  world.get(world.all(Gull)[0]!.ref)?.at.x.toFixed();
  // @ts-expect-error no field of the entity
  world.get(world.all(Gull)[0]!.ref)?.height;
  world.sendInput(Steer, { east: 1, north: 0 });
  // @ts-expect-error a key is a text
  await connect("ws://localhost", { protocol: quay, key: 7 });
}
