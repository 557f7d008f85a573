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
