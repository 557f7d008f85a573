// The handshake Noise_NK_25519_ChaChaPoly_BLAKE2b (Noise Protocol Framework, revision 34) from the initiator's side,
// and the keys of datagrams (docs/wire-format.md).
import { chacha20poly1305 } from "@noble/ciphers/chacha";
import { x25519 } from "@noble/curves/ed25519";
import { blake2b } from "@noble/hashes/blake2";
import { hmac } from "@noble/hashes/hmac";
import { randomBytes } from "@noble/hashes/utils";
import { bytesOfText } from "./text.js";

export { randomBytes };
export const keyBytes = 32;
export const tagBytes = 16;

export function joined(...parts: readonly Uint8Array[]): Uint8Array {
  const out = new Uint8Array(parts.reduce((sum, part) => sum + part.length, 0));
  let at = 0;
  for (const part of parts) {
    out.set(part, at);
    at += part.length;
  }
  return out;
}

/** derive(key, label, data) of docs/wire-format.md. */
export function derive(key: Uint8Array, label: string, data: Uint8Array = new Uint8Array(0)): Uint8Array {
  const text = bytesOfText(label);
  return blake2b(joined(Uint8Array.of(text.length), text, data), { key, dkLen: 32 });
}

function nonceOf(counter: number): Uint8Array {
  const nonce = new Uint8Array(12);
  const view = new DataView(nonce.buffer);
  view.setUint32(4, counter >>> 0, true);
  view.setUint32(8, Math.floor(counter / 0x1_0000_0000), true);
  return nonce;
}

export function seal(key: Uint8Array, number: number, associated: Uint8Array, plain: Uint8Array): Uint8Array {
  return chacha20poly1305(key, nonceOf(number), associated).encrypt(plain);
}
/** The plain text, or nothing if the tag does not match. */
export function open(key: Uint8Array, number: number, associated: Uint8Array, sealed: Uint8Array): Uint8Array | undefined {
  try {
    return chacha20poly1305(key, nonceOf(number), associated).decrypt(sealed);
  } catch {
    return undefined;
  }
}

/** HKDF of section 4.3: two outputs of 64 bytes. */
function hkdf(chainingKey: Uint8Array, input: Uint8Array): [Uint8Array, Uint8Array] {
  const temporary = hmac(blake2b, chainingKey, input);
  const first = hmac(blake2b, temporary, Uint8Array.of(1));
  return [first, hmac(blake2b, temporary, joined(first, Uint8Array.of(2)))];
}

const name = "Noise_NK_25519_ChaChaPoly_BLAKE2b";

/** The client's end of one handshake. */
export class NoiseInitiator {
  private hash: Uint8Array;
  private chainingKey: Uint8Array;
  private key = new Uint8Array(0) as Uint8Array;
  private readonly publicKey: Uint8Array;

  constructor(prologue: Uint8Array, private readonly serverKey: Uint8Array, private readonly ephemeral: Uint8Array) {
    this.hash = new Uint8Array(64);
    this.hash.set(bytesOfText(name));
    this.chainingKey = this.hash;
    this.publicKey = x25519.getPublicKey(ephemeral);
    this.mixHash(prologue);
    this.mixHash(serverKey);
  }

  /** First message: ephemeral key, encrypted payload, tag. Throws if the server's key is none that a server can have. */
  writeFirst(payload: Uint8Array): Uint8Array {
    this.mixHash(this.publicKey);
    this.mixKey(x25519.getSharedSecret(this.ephemeral, this.serverKey));
    const sealed = seal(this.key, 0, this.hash, payload);
    this.mixHash(sealed);
    return joined(this.publicKey, sealed);
  }

  /** Payload of the second message; nothing if it is not the server's. A forged one changes nothing. */
  readSecond(message: Uint8Array): Uint8Array | undefined {
    const before = [this.hash, this.chainingKey, this.key] as const;
    const payload = this.tryToRead(message);
    if (payload === undefined) [this.hash, this.chainingKey, this.key] = before;
    return payload;
  }

  /** Keys of datagrams to the server and from it. */
  split(): { up: Uint8Array; down: Uint8Array } {
    const [first, second] = hkdf(this.chainingKey, new Uint8Array(0));
    return { up: derive(first.subarray(0, 32), "datagrams up"), down: derive(second.subarray(0, 32), "datagrams down") };
  }

  private tryToRead(message: Uint8Array): Uint8Array | undefined {
    if (message.length < keyBytes + tagBytes) return undefined;
    const theirs = message.subarray(0, keyBytes);
    this.mixHash(theirs);
    try {
      this.mixKey(x25519.getSharedSecret(this.ephemeral, theirs));
    } catch {
      return undefined;
    }
    const sealed = message.subarray(keyBytes);
    const payload = open(this.key, 0, this.hash, sealed);
    if (payload !== undefined) this.mixHash(sealed);
    return payload;
  }

  private mixHash(data: Uint8Array): void {
    this.hash = blake2b(joined(this.hash, data));
  }
  private mixKey(input: Uint8Array): void {
    const [chainingKey, key] = hkdf(this.chainingKey, input);
    this.chainingKey = chainingKey;
    this.key = key.subarray(0, 32);
  }
}

/** 32 bytes of 43 characters of base64url, as `kwind keys` writes public keys. */
export function parseKey(text: string): Uint8Array | undefined {
  if (!/^[A-Za-z0-9_-]{43}$/.test(text)) return undefined;
  const alphabet = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_";
  const out = new Uint8Array(32);
  let [bits, count, at] = [0, 0, 0];
  for (const c of text) {
    bits = ((bits << 6) | alphabet.indexOf(c)) & 0xffffff;
    count += 6;
    if (count >= 8) {
      count -= 8;
      if (at < 32) out[at++] = (bits >>> count) & 0xff;
    }
  }
  return out;
}
