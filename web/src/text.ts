// Texts on the wire: UTF-8, and nothing that is not.
import { fail } from "./errors.js";

const utf8Reader = new TextDecoder("utf-8", { fatal: true, ignoreBOM: true });
const utf8Writer = new TextEncoder();
export function textOf(bytes: Uint8Array): string {
  try {
    return utf8Reader.decode(bytes);
  } catch {
    return fail("text_encoding", "a text is not valid UTF-8");
  }
}
export function bytesOfText(text: string): Uint8Array {
  return utf8Writer.encode(text);
}
/** The bytes of the longest start of a text that has at most `max` bytes and ends with a whole character. */
export function bytesOfStart(text: string, max: number): Uint8Array {
  const bytes = utf8Writer.encode(text);
  let end = Math.min(bytes.length, max);
  while (end > 0 && end < bytes.length && (bytes[end]! & 0xc0) === 0x80) --end;
  return bytes.subarray(0, end);
}
const lenient = new TextDecoder("utf-8", { ignoreBOM: true });
/** A text that a peer chose, for a log: U+FFFD for what is no UTF-8, and for characters that move text. */
export function printable(bytes: Uint8Array): string {
  return lenient.decode(bytes).replace(/[\0-\x1f\x7f-\x9f\u200b-\u200f\u2028-\u202e\u2066-\u2069\ufeff]/g, "\ufffd");
}
