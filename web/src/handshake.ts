// The handshake: the bytes of a hello, of a connect, and of the server's welcome (docs/wire-format.md).
import { BitReader, BitWriter } from "./bits.js";
import { tagBytes } from "./crypto.js";
import { fail } from "./errors.js";
import type { ProtocolInfo } from "./protocol.js";
import { bytesOfText } from "./text.js";

export const linkVersion = 5;
export const stateVersion = 6;
export const baseDatagramBytes = 1200;
export const connectHeadBytes = 29;
export const acceptHeadBytes = 11;

/** Over what datagrams travel: they arrive once and in order, or may be lost. */
export type TransportKind = "datagrams" | "stream";

function formHead(out: BitWriter, form: number, nonce: Uint8Array, kind: TransportKind): void {
  out.put(0, 1);
  out.put(form, 4);
  out.put(0, 3);
  out.put(linkVersion, 16);
  out.bits(nonce, 64);
  out.put(2, 8);  // encrypted
  out.put(kind === "stream" ? 1 : 0, 8);
}

/** The first datagram where datagrams may be lost: asks for a cookie. */
export function hello(nonce: Uint8Array): Uint8Array {
  const out = new BitWriter(baseDatagramBytes);
  formHead(out, 1, nonce, "datagrams");
  const bytes = new Uint8Array(baseDatagramBytes);
  bytes.set(out.finish());
  return bytes;
}

/** The part of a connect that is not encrypted. A stream has no cookie: zeros. */
export function connectHead(nonce: Uint8Array, kind: TransportKind, cookie: Uint8Array = new Uint8Array(16)): Uint8Array {
  const head = new BitWriter(connectHeadBytes);
  formHead(head, 3, nonce, kind);
  head.bits(cookie, 128);
  return head.finish();
}

/** What a connect says: protocol and versions, code tables, ticket or token. */
export function connectPayload({ protocol, ticket, resume, codeTables }: { protocol: ProtocolInfo; ticket?: string | undefined; resume?: Uint8Array | undefined; codeTables: readonly string[] }): Uint8Array {
  const out = new BitWriter(baseDatagramBytes);
  const name = bytesOfText(protocol.name);
  out.put(name.length, 7);
  out.bits(name, name.length * 8);
  out.put(protocol.versions.length - 1, 4);
  for (const [version, digest] of protocol.versions) {
    out.put(version, 16);
    for (let i = 0; i < 32; i += 2) out.put(parseInt(digest.slice(i, i + 2), 16), 8);
  }
  out.bool(false);
  out.put(stateVersion, 8);
  out.put(codeTables.length, 4);
  for (const digest of codeTables) out.big(BigInt(`0x${digest}`), 64);
  if (resume) {
    out.put(2, 2);
    out.bits(resume, 256);
  } else if (ticket !== undefined) {
    const bytes = bytesOfText(ticket);
    if (bytes.length > 700) fail("ticket_invalid", "a ticket has at most 700 bytes");
    out.put(1, 2);
    out.put(bytes.length, 10);
    out.bits(bytes, bytes.length * 8);
  } else {
    out.put(0, 2);
  }
  const payload = new Uint8Array(baseDatagramBytes - connectHeadBytes - 32 - tagBytes);
  payload.set(out.finish());
  return payload;
}

export interface Welcome {
  id: number;
  versionIndex: number;
  cipher: number;
  codeTables: number;
  resumed: boolean;
  /** Seconds in which `token` continues the connection; 0: it does not. */
  window: number;
  token: Uint8Array;
}
/** An accept behind its first bit, which said that it is no refusal. */
export function readWelcome(reader: BitReader): Welcome {
  const id = reader.get(28);
  const versionIndex = reader.get(4);
  const cipher = reader.get(2);
  const codeTables = reader.get(4);
  const resumed = reader.bool();
  reader.bytesOf(16);
  reader.bytesOf(8);
  const window = reader.get(16);
  const token = reader.bytesOf(32);
  return { id, versionIndex, cipher, codeTables, resumed, window, token };
}
