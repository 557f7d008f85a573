// Datagram keys: authenticated encryption of each datagram, and the change of keys by a phase bit (docs/wire-format.md,
// "Encryption"; RFC 9001, 6, has the same scheme). Pure.
import { derive, open, seal } from "./crypto.js";

const keyDatagrams = 2 ** 20;
const keyTime = 3_600_000;
/** A key that has seen so many forgeries is used no more (RFC 9001, 6.6, for the reasoning). */
const maxForged = 2 ** 16;
const nextOf = (key: Uint8Array): Uint8Array => derive(key, "next datagram key");

export class SendKey {
  private phase = false;
  /** Lowest number under the present key. */
  private first = 0;
  constructor(private key: Uint8Array, private since: number) {}

  /** The phase bit of the packet with this number. Takes the next key first, when one is due. */
  phaseOf(number: number, now: number, largestAcked: number): boolean {
    const isDue = number - this.first >= keyDatagrams || now - this.since >= keyTime;
    // The peer must have seen the present key before it can follow to the next one.
    if (isDue && largestAcked >= this.first) {
      this.key = nextOf(this.key);
      this.phase = !this.phase;
      this.first = number;
      this.since = now;
    }
    return this.phase;
  }
  seal(number: number, head: Uint8Array, body: Uint8Array): Uint8Array {
    return seal(this.key, number, head, body);
  }
}

export class ReceiveKeys {
  private phase = false;
  private next: Uint8Array;
  private first = 0;
  private old: { key: Uint8Array; until: number } | undefined;
  private forged = 0;
  constructor(private key: Uint8Array) {
    this.next = nextOf(key);
  }

  get isExhausted(): boolean {
    return this.forged > maxForged;
  }

  /** The plain text; nothing if no key fits. The old key is kept for `oldFor` milliseconds after a change. */
  open(number: number, phase: boolean, head: Uint8Array, sealed: Uint8Array, now: number, oldFor: number): Uint8Array | undefined {
    let plain: Uint8Array | undefined;
    if (phase === this.phase) {
      plain = open(this.key, number, head, sealed);
    } else if (number < this.first) {
      if (this.old && now < this.old.until) plain = open(this.old.key, number, head, sealed);
    } else {
      plain = open(this.next, number, head, sealed);
      if (plain) {
        this.old = { key: this.key, until: now + oldFor };
        this.key = this.next;
        this.next = nextOf(this.key);
        this.phase = phase;
        this.first = number;
      }
    }
    if (!plain) ++this.forged;
    return plain;
  }
}
