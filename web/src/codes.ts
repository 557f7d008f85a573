// Prefix codes of snapshots: canonical Huffman codes, the built-in counts, and files of trained tables
// (docs/state-format.md, docs/code-tables.md).
import { blake2b } from "@noble/hashes/blake2";
import { type BitReader } from "./bits.js";
import { predictors, type EntityModel, type Predictor } from "./columns.js";
import { fail } from "./errors.js";
import { type ProtocolInfo } from "./protocol.js";

const longest = 24;
/** Long residuals have twelve classes, the first one 16 residuals wide, each other twice as wide as the one before. */
export const firstClass = 24;
export const firstClassBits = 4;
const classes = 12;
export const wholeValue = firstClass + classes;
const headSymbols = 144;
const ages = 4;
const fastBits = 9;

/** Lengths of a Huffman code: the two nodes of least weight are joined, older nodes first. */
function huffman(counts: readonly number[]): number[] {
  if (counts.length === 1) return [0];
  let weights = counts.map((count) => Math.max(1, count));
  for (;;) {
    const leaves = weights.map((_, i) => i).sort((a, b) => weights[a]! - weights[b]! || a - b);
    const weight = weights.slice();
    const parent = new Array<number>(2 * weights.length - 1).fill(-1);
    let [leaf, joined] = [0, weights.length];
    const next = (): number => {
      const byLeaf = leaf < leaves.length && (joined >= weight.length || weight[leaves[leaf]!]! <= weight[joined]!);
      return byLeaf ? leaves[leaf++]! : joined++;
    };
    while (weight.length < 2 * weights.length - 1) {
      const a = next();
      const b = next();
      parent[a] = parent[b] = weight.length;
      weight.push(weight[a]! + weight[b]!);
    }
    const depth = new Array<number>(weight.length).fill(0);
    for (let i = weight.length - 2; i >= 0; --i) depth[i] = depth[parent[i]!]! + 1;
    const lengths = depth.slice(0, weights.length);
    if (Math.max(...lengths) <= longest) return lengths;
    weights = weights.map((each) => Math.ceil(each / 2));
  }
}

/** A canonical code. The first bit of a word goes first. */
export class PrefixCode {
  /** Symbols by code, of one length after the other. */
  private readonly sorted: number[];
  private readonly firstCode: number[] = [];
  private readonly firstIndex: number[] = [];
  private readonly counts: number[] = new Array<number>(longest + 2).fill(0);
  /** By the next bits: symbol * 32 + length; 0: the word is longer. */
  private readonly fast = new Int32Array(1 << fastBits).fill(-1);

  constructor(readonly lengths: readonly number[]) {
    this.sorted = lengths.map((_, i) => i).filter((i) => lengths[i]! > 0).sort((a, b) => lengths[a]! - lengths[b]! || a - b);
    for (const length of lengths) if (length > 0) ++this.counts[length]!;
    let [code, index] = [0, 0];
    for (let length = 1; length <= longest; ++length) {
      code *= 2;
      this.firstCode[length] = code;
      this.firstIndex[length] = index;
      for (let i = 0; i < this.counts[length]!; ++i, ++code, ++index) {
        if (length > fastBits) continue;
        let reversed = 0;
        for (let bit = 0; bit < length; ++bit) reversed |= ((code >>> bit) & 1) << (length - 1 - bit);
        for (let i2 = reversed; i2 < 1 << fastBits; i2 += 1 << length) this.fast[i2] = this.sorted[index]! * 32 + length;
      }
    }
  }

  read(from: BitReader): number {
    if (this.sorted.length === 0) return 0;
    const found = this.fast[from.peek(fastBits)]!;
    if (found >= 0) {
      from.skip(found & 31);
      return found >> 5;
    }
    let code = 0;
    for (let length = 1; length <= longest; ++length) {
      code = code * 2 + (from.bool() ? 1 : 0);
      const at = code - this.firstCode[length]!;
      if (at < this.counts[length]!) return this.sorted[this.firstIndex[length]! + at]!;
    }
    return fail("value_range", "a prefix code has no such word");
  }
}

export interface TypeCodes {
  continuing: PrefixCode[];
  unexpected: PrefixCode[];
  /** By column and age. */
  residuals: PrefixCode[][];
  predictors: readonly Predictor[];
  /** Without it nothing of the type counts: an older description does not know of it. */
  isInVersion: boolean;
}

/** The codes that both ends of a connection hold. */
export class CodeTables {
  /** 16 hexadecimal digits; the name of the tables in a handshake. */
  readonly digest: string;
  /** What heads of full snapshots carry. */
  readonly lowDigest: number;

  constructor(readonly heads: PrefixCode, readonly types: readonly TypeCodes[]) {
    const bytes: number[] = [];
    const add = (code: PrefixCode): void => {
      bytes.push(code.lengths.length >> 8, code.lengths.length & 255, ...code.lengths);
    };
    add(heads);
    for (const type of types) {
      if (!type.isInVersion) continue;
      for (let age = 0; age < ages; ++age) {
        add(type.continuing[age]!);
        add(type.unexpected[age]!);
        for (const column of type.residuals) add(column[age]!);
      }
      for (const predictor of type.predictors) bytes.push(predictors.indexOf(predictor));
    }
    const hash = blake2b(Uint8Array.from(bytes), { dkLen: 16 });
    this.lowDigest = hash[0]! | (hash[1]! << 8);
    this.digest = [...hash.subarray(0, 8)].reverse().map((byte) => byte.toString(16).padStart(2, "0")).join("");
  }
}

/** The tables that every peer has. */
export function builtInTables(models: readonly EntityModel[]): CodeTables {
  const back = [16, 24, 32, 24, 12, 8, 6, 4, 4];
  const heads = Array.from({ length: headSymbols }, (_, symbol) => {
    let weight = back[symbol >> 4]! * 2 ** 12;
    if (symbol & 1) weight = Math.floor(weight / 16);
    if (symbol & 2) weight = Math.floor(weight / 64);
    if (symbol & 4) weight = Math.floor(weight / 16);
    if (symbol & 8) weight = Math.floor(weight / 2);
    return Math.max(1, weight);
  });
  const residual = new PrefixCode(huffman([
    ...Array.from({ length: firstClass }, (_, i) => 2 ** (20 - Math.floor(i / 4))),
    ...Array.from({ length: classes }, (_, i) => 2 ** (17 - Math.floor(i / 2))), 2 ** 15,
  ]));
  const types = models.map((model): TypeCodes => {
    const likely = Array.from({ length: model.masks }, (_, mask) => {
      let weight = 2 ** 20;
      for (const { column, shift, width } of model.maskColumns) {
        const changes = model.expectedChanges(column);
        const follows = model.isPosition(column);
        const state = (mask >>> shift) & ((1 << width) - 1);
        let share = 1000 - changes;
        if (state > 0 && width === 1) share = changes;
        if (state > 0 && width === 2) share = Math.floor((changes * (state < 3 ? (follows ? 8 : 6) : follows ? 4 : 8)) / 20);
        weight = Math.floor((weight * share) / 1000);
      }
      return Math.max(1, weight);
    });
    const continuing = new PrefixCode(huffman([...likely, 2 ** 16, 2 ** 10]));
    const unexpected = new PrefixCode(huffman([1, ...likely.slice(1), 2 ** 17]));
    const same = (code: PrefixCode): PrefixCode[] => new Array<PrefixCode>(ages).fill(code);
    return { continuing: same(continuing), unexpected: same(unexpected), residuals: model.columns.map(() => same(residual)), predictors: model.builtInPredictors, isInVersion: model.isInVersion };
  });
  return new CodeTables(new PrefixCode(huffman(heads)), types);
}

const builtIn = new WeakMap<ProtocolInfo, Map<number, CodeTables>>();

/** The built-in tables of a version of a protocol, whose `models` these are. Made once for all worlds of a page. */
export function sharedBuiltInTables(protocol: ProtocolInfo, version: number, models: readonly EntityModel[]): CodeTables {
  let byVersion = builtIn.get(protocol);
  if (!byVersion) builtIn.set(protocol, (byVersion = new Map()));
  let tables = byVersion.get(version);
  if (!tables) byVersion.set(version, (tables = builtInTables(models)));
  return tables;
}

/** Reads a file of `kwind train`. Throws WireError `code_tables` with the line and what to do. */
export function parseTables(text: string, models: readonly EntityModel[]): CodeTables {
  const wrong = (line: number, what: string): never => fail("code_tables", `code tables, line ${line}: ${what}; train again, with the description in use`);
  const lines = text.split(/\r?\n/);
  if (!/^kwind code tables 3( |$)/.test(lines[0] ?? "")) wrong(1, "this is no file of code tables of form 3");
  let digest = "";
  const codes = new Map<string, PrefixCode>();
  const chosen = models.map((model) => model.builtInPredictors.slice());
  const parse = (words: readonly string[], line: number): PrefixCode => {
    const lengths: number[] = [];
    for (const word of words) {
      const [, length, count = "1"] = /^(\d+)(?:x(\d+))?$/.exec(word) ?? wrong(line, `\`${word}\` is no code length`);
      if (Number(length) > longest || Number(count) > 2048) wrong(line, `\`${word}\` is no code length`);
      for (let i = 0; i < Number(count); ++i) lengths.push(Number(length));
      if (lengths.length > 2048) wrong(line, "an alphabet is too large");
    }
    const sum = lengths.reduce((all, length) => all + 2 ** -length, 0);
    if (sum !== 1) wrong(line, "the code lengths make no complete prefix code");
    return new PrefixCode(lengths);
  };
  lines.forEach((text_, i) => {
    const words = text_.trim().split(/\s+/);
    const line = i + 1;
    if (i === 0 || words[0] === "") return;
    if (words[0] === "digest") digest = words[1] ?? "";
    else if (words[0] === "snapshots") return;
    else if (words[0] === "snapshot" && words[1] === "heads") codes.set("heads", parse(words.slice(2), line));
    else if (words[1] === "predictor") {
      const at = models.findIndex((model) => model.type.name === words[0]);
      const column = models[at]?.columns.findIndex((each) => each.name === words[2]) ?? -1;
      if (column < 0 || !predictors.includes(words[3] as Predictor)) wrong(line, "there is no such field or predictor");
      chosen[at]![column] = words[3] as Predictor;
    } else if (words[1] === "continuing" || words[1] === "unexpected") {
      codes.set(words.slice(0, 3).join(" "), parse(words.slice(3), line));
    } else if (words[1] === "residual") {
      codes.set(words.slice(0, 4).join(" "), parse(words.slice(4), line));
    } else {
      wrong(line, "the line is not understood");
    }
  });
  const find = (name: string, symbols: number): PrefixCode => {
    const code = codes.get(name);
    if (!code || code.lengths.length !== symbols) return wrong(lines.length, `\`${name}\` is missing, or has another number of symbols`);
    return code;
  };
  const each = [1, 2, 3, 4];
  const none: Omit<TypeCodes, "predictors"> = { continuing: [], unexpected: [], residuals: [], isInVersion: false };
  const tables = new CodeTables(find("heads", headSymbols), models.map((model, i): TypeCodes => (!model.isInVersion ? { ...none, predictors: [] } : {
    continuing: each.map((age) => find(`${model.type.name} continuing ${age}`, model.masks + 2)),
    unexpected: each.map((age) => find(`${model.type.name} unexpected ${age}`, model.masks + 1)),
    residuals: model.columns.map((column) => each.map((age) => find(`${model.type.name} residual ${column.name} ${age}`, wholeValue + 1))),
    predictors: chosen[i]!,
    isInVersion: true,
  })));
  if (tables.digest !== digest) wrong(2, `the digest is ${tables.digest}, not ${digest}`);
  return tables;
}
