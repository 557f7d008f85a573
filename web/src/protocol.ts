// A protocol as data (docs/schema-language.md): what `kwind gen FILE --typescript DIR` writes, and the types of values.

/** Life of a declaration: from version `since` on, and before version `until` (0: no end). */
export type Life = readonly [since: number, until: number];
/** A name, or one that not every version has: name, life, index of its `else`. */
export type ChoiceInfo = string | readonly [name: string, since: number, until: number, standIn: number];
/** A case of a `one of`: name, type of its value (0: none), then life and index of its `else` where it has them. */
export type CaseInfo = readonly [name: string, type: TypeInfo | 0, since?: number, until?: number, standIn?: number];
/** Words of an entity's field. */
export interface FieldWords {
  /** Travels once, when the entity appears. */
  readonly atSpawn?: true;
  readonly ownerOnly?: true;
  readonly smooth?: true;
  /** Names of the fields of speed and direction, or of a velocity and "", and the error that needs no correction. */
  readonly follow?: readonly [speed: string, along: string, within: number];
  /** Name of a reference: while it names an entity, the value counts from that one's field of the same name. */
  readonly relativeTo?: string;
}
export interface FieldInfo {
  readonly name: string;
  readonly type: TypeInfo;
  readonly life?: Life;
  /** The default that the description states. */
  readonly value?: unknown;
  readonly words?: FieldWords;
}
/** A type: its word, then what decides its layout. */
export type TypeInfo =
  | readonly ["bool"]
  | readonly ["int", number | bigint, number | bigint]
  | readonly ["count", number]
  | readonly ["real", lo: number, step: number, scale: number, count: number]
  | readonly ["f32"]
  | readonly ["f64"]
  | readonly ["angle", step: number, scale: number, count: number]
  | readonly ["direction2", step: number, scale: number, count: number]
  | readonly ["direction3", half: number]
  | readonly ["rotation", half: number]
  | readonly ["vec", size: 2 | 3, TypeInfo]
  | readonly ["text", number]
  | readonly ["bytes", number]
  | readonly ["enum", readonly ChoiceInfo[]]
  | readonly ["flags", readonly ChoiceInfo[]]
  | readonly ["record", readonly FieldInfo[]]
  | readonly ["list", number, TypeInfo]
  | readonly ["grid", width: number, height: number, TypeInfo]
  | readonly ["maybe", TypeInfo]
  | readonly ["one of", readonly CaseInfo[]]
  | readonly ["ref", number]
  | readonly ["peer", number]
  | readonly ["tick"];

export type Delivery = "unreliable" | "sequenced" | "reliable" | "ordered";
export interface ChannelInfo {
  readonly name: string;
  readonly delivery: Delivery;
  readonly priority?: "high" | "bulk";
  readonly repeat?: number;
  readonly life?: Life;
}

/** A message type of the protocol, and of the TypeScript type `T` of its fields. */
export interface MessageType<T> {
  readonly name: string;
  readonly role: "message" | "request" | "answer";
  readonly from: "client" | "server" | "both";
  /** Index of its channel. */
  readonly channel: number;
  /** Messages per second; absent: no limit. */
  readonly rate?: number;
  readonly split?: true;
  readonly fields: readonly FieldInfo[];
  readonly life?: Life;
  /** For the compiler alone. */
  readonly T?: T;
}
/** A request type: fields `T`, reply `R`, reasons for a refusal `Reason`. */
export interface RequestType<T, R, Reason extends string> extends MessageType<T> {
  readonly role: "request";
  readonly R?: R;
  readonly Reason?: Reason;
}
/** An entity type of the protocol, with fields `T`. */
export interface EntityType<T> {
  readonly name: string;
  readonly fields: readonly FieldInfo[];
  readonly life?: Life;
  readonly T?: T;
}

export interface ProtocolInfo {
  readonly name: string;
  /** The newest. */
  readonly version: number;
  /** Every version that is spoken, newest first, with its digest in hexadecimal. */
  readonly versions: readonly (readonly [version: number, digest: string])[];
  readonly entitiesUpTo: number;
  readonly peersUpTo: number;
  readonly channels: readonly ChannelInfo[];
  readonly messages: readonly MessageType<unknown>[];
  readonly entities: readonly EntityType<unknown>[];
}

/** Coordinates; `z` in space only. */
export interface Position {
  x: number;
  y: number;
  z?: number;
}
/** Names an entity: its id, and which of the entities that had this id it is. */
export interface Ref<_Entity = unknown> {
  readonly id: number;
  readonly generation: number;
}
/** The bytes of a `bytes N` field. */
export type Bytes = Uint8Array;
/** What a request without fields or a reply without fields has. */
export type Nothing = Record<string, never>;
export interface Vec2 { x: number; y: number }
export interface Vec3 { x: number; y: number; z: number }
/** A unit quaternion. */
export interface Rotation { w: number; x: number; y: number; z: number }
/** Cells row by row from the top left. */
export interface Grid<T> { readonly width: number; readonly height: number; readonly cells: T[] }

/** Stands for the newest version of a description, whatever its number. */
export const newest = 0xffff;
export function isAlive(life: Life | undefined, version: number): boolean {
  return life === undefined || (version >= life[0] && (life[1] === 0 || version < life[1]));
}
