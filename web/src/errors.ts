// Errors as typed objects. The names and numbers are those of docs/errors.md.

/** Names by number: a refusal carries the number (docs/errors.md). */
const names = [
  "none", "truncated", "trailing_bits", "value_range", "too_long", "text_encoding", "unknown_form", "bad_check",
  "replayed", "unknown_connection", "unknown_frame", "unknown_channel", "bad_ack", "window_exceeded", "unknown_kind",
  "wrong_direction", "rate_limited", "bad_cookie", "not_loopback", "unexpected", "link_version", "protocol_name",
  "schema_mismatch", "server_full", "wrong_key", "mode_differs", "ticket_missing", "ticket_invalid", "ticket_expired",
  "ticket_used", "timeout", "handshake_timeout", "closed_by_peer", "closed_here", "server_restarted", "replaced",
  "key_exhausted", "split_too_large", "server_busy", "resume_unknown", "closed", "queue_full", "message_too_large",
  "out_of_range", "no_such_peer", "unknown_to_peer", "bad_key", "ticket_table_full", "incomplete", "bad_piece",
  "address_in_use", "bad_address", "no_permission", "socket_failure", "transport_ended", "bad_stream", "bad_capture",
  "not_owner", "not_allowed", "over_budget", "request_timeout", "too_many_requests", "stray_answer", "too_many_faults",
  "base_missing", "payload_not_taken", "state_version", "inbox_full", "request_abandoned", "code_tables",
] as const;

/** Name of an error in docs/errors.md. `unknown` stands for a number that this version does not know. */
export type ErrorCode = (typeof names)[number] | "unknown";

/** The name for a number that came from the network. */
export function codeOf(number: number): ErrorCode {
  return names[number] ?? "unknown";
}

/** The number that stands for a name on the wire. */
export function numberOf(code: ErrorCode): number {
  return Math.max(0, (names as readonly string[]).indexOf(code));
}

/** Every error that this package throws or rejects with, `AbortError` and misuse (`TypeError`) excepted. */
export class WireError extends Error {
  override readonly name: string = "WireError";
  constructor(readonly code: ErrorCode, message: string) {
    super(message);
  }
}

/** A server said no to a request: `reason` is one of those that the description lists behind `refuse`. */
export class RequestRefused<Reason extends string = string> extends Error {
  override readonly name = "RequestRefused";
  constructor(readonly reason: Reason, readonly words: string) {
    super(words ? `refused: ${reason}: ${words}` : `refused: ${reason}`);
  }
}

export function fail(code: ErrorCode, message: string): never {
  throw new WireError(code, message);
}
export const outOfRange = (what: string): never => fail("out_of_range", what);
export const valueRange = (): never => fail("value_range", "a field's bits name a value outside its range");
