// Random descriptions with awkward names: their modules compile, and their vectors are those of the C++ codec.
// KWIND_SWEEP=full: 10,000 of them.
import { test } from "node:test";
import assert from "node:assert/strict";
import { execFile } from "node:child_process";
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { promisify } from "node:util";
import { transformSync } from "esbuild";
import type { ProtocolInfo } from "kestrel-wind";
import { checkVectors } from "./vectors.js";

const run = promisify(execFile);
const built = process.env.KWIND_BUILD ?? new URL("../../../build/dev", import.meta.url).pathname;
const count = process.env.KWIND_SWEEP === "full" ? 10_000 : 40;
const first = Number(process.env.KWIND_SEED ?? 1);

// Names that every object of JavaScript answers to, and those of its own types.
const awkward = `protocol names 2, entities up to 20
channel talk ordered
enum Array { constructor, toString, valueOf since 2 else constructor, hasOwnProperty }
flags Map { constructor, toString, length, name }
record Object { constructor : int 0..9, toString : text 9, valueOf : maybe Array, prototype : Map, length : list of bool up to 3 }
entity Set { constructor : Object, arguments : int 0..3, caller : bool since 2 }
message Promise from both on talk {
  constructor : one of { constructor : Array, toString, valueOf : Object }
  hasOwnProperty : Map
  then : list of Object up to 4
  catch : maybe maybe maybe vec2 of int -3..3
  finally : maybe maybe ref Set
  isPrototypeOf : ref Set
}
message Infinity from both on talk { then : bool }
request Symbol from client on talk { constructor : bool } reply { toString : int 0..5 } refuse { constructor, valueOf }
`;

test("vectors of a description with the names of JavaScript's own properties and types", async () => {
  const folder = mkdtempSync(join(tmpdir(), "kwind-names-"));
  try {
    const file = join(folder, "names.kw");
    writeFileSync(file, awkward);
    await run(`${built}/tool/kwind`, ["gen", file, "--typescript", folder, "--vectors", join(folder, "vectors.json")]);
    const module = join(folder, "names.mjs");
    writeFileSync(module, transformSync(readFileSync(join(folder, "names.ts"), "utf8"), { loader: "ts", format: "esm" }).code);
    const made = await import(module) as Record<string, ProtocolInfo>;
    assert.ok(checkVectors(made.names!, readFileSync(join(folder, "vectors.json"), "utf8")) > 10);
  } finally {
    rmSync(folder, { recursive: true });
  }
});

test(`vectors of ${count} random descriptions from seed ${first} on`, { timeout: 3_600_000 }, async () => {
  const folder = mkdtempSync(join(tmpdir(), "kwind-random-"));
  let [compared, descriptions] = [0, 0];
  try {
    for (let seed = first; descriptions < count; ++seed) {
      assert.ok(seed < first + 4 * count, `most descriptions are refused: ${descriptions} of ${seed - first} are not`);
      const file = join(folder, `random_${seed}.kw`);
      await run(`${built}/tests/properties_tests`, ["--gtest_brief=1", "--gtest_filter=Generated.RandomDescriptionsAreThoseOfTheirSeeds"],
        { env: { ...process.env, KWIND_SEED: String(seed), KWIND_INTO: folder } });
      try {
        await run(`${built}/tool/kwind`, ["check", file]);
      } catch {
        continue;  // What a field declares may be called as a type: that is refused.
      }
      await run(`${built}/tool/kwind`, ["gen", file, "--typescript", folder, "--vectors", join(folder, "vectors.json")]);
      const text = readFileSync(join(folder, `random_${seed}.ts`), "utf8");
      const module = join(folder, `random_${seed}.mjs`);
      writeFileSync(module, transformSync(text, { loader: "ts", format: "esm" }).code);
      const made = await import(module) as Record<string, ProtocolInfo>;
      try {
        compared += checkVectors(made[`random_${seed}`]!, readFileSync(join(folder, "vectors.json"), "utf8"));
      } catch (error) {
        throw new Error(`seed ${seed}: ${error instanceof Error ? error.message : error}`);
      }
      ++descriptions;
    }
  } finally {
    rmSync(folder, { recursive: true });
  }
  console.log(`# ${descriptions} descriptions, ${compared} vectors`);
  assert.ok(compared > descriptions);
});
