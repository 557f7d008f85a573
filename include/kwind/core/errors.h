// The one list of errors. Everything that a peer's bytes, a limit or a socket can cause has an
// entry; docs/errors.md is generated from it. Numbers travel in refusals and closes and never
// change. No neighbours; safe anywhere.
#pragma once
#include <algorithm>
#include <array>
#include <cstddef>
#include <cstdint>
#include <string_view>
#include <tl/expected.hpp>

#include "kwind/core/compiler.h"

namespace kwind {

/// What happens when the error occurs.
enum class Verdict : std::uint8_t {
  drop,    ///< the datagram or message is ignored and counted; the connection lives on
  close,   ///< the connection is closed with this code
  refuse,  ///< the handshake is answered by a refusal with this code
  report,  ///< the caller of the function gets it; nothing was changed
};

// clang-format off
#define KWIND_ERRORS(X)                                                                              \
  X(none, 0, Verdict::report, "no error")                                                            \
  X(truncated, 1, Verdict::drop, "the datagram ends inside a field")                                 \
  X(trailing_bits, 2, Verdict::drop, "bits are left over after the last field")                      \
  X(value_range, 3, Verdict::drop, "a field's bits name a value outside its range")                  \
  X(too_long, 4, Verdict::drop, "a text or list is longer than its stated maximum")                  \
  X(text_encoding, 5, Verdict::drop, "a text is not valid UTF-8")                                    \
  X(unknown_form, 6, Verdict::drop, "the first byte is not a datagram form of this link version")    \
  X(bad_check, 7, Verdict::drop, "the datagram's AEAD tag or keyed check does not match")            \
  X(replayed, 8, Verdict::drop, "the packet number was seen before or is too old to check")          \
  X(unknown_connection, 9, Verdict::drop, "no connection has this id or comes from this address")    \
  X(unknown_frame, 10, Verdict::close, "a frame kind is not in this link version")                   \
  X(unknown_channel, 11, Verdict::close, "a frame names a channel that the protocol does not have")  \
  X(bad_ack, 12, Verdict::close, "the peer acknowledged a packet that was never sent")               \
  X(window_exceeded, 13, Verdict::close, "the peer sent more on a reliable channel than its window holds") \
  X(unknown_kind, 14, Verdict::drop, "the message kind is not in the protocol")                      \
  X(wrong_direction, 15, Verdict::drop, "the message kind is not sent in this direction")            \
  X(rate_limited, 16, Verdict::drop, "the message came faster than the protocol's `at most`")        \
  X(bad_cookie, 17, Verdict::drop, "the hello's cookie was not made for this address or has expired") \
  X(not_loopback, 18, Verdict::drop, "plaintext is limited to loopback and the address is not")      \
  X(unexpected, 19, Verdict::drop, "the datagram does not fit the state of the connection")          \
  X(link_version, 20, Verdict::refuse, "the peers share no link version")                            \
  X(protocol_name, 21, Verdict::refuse, "the peers speak protocols of different names")              \
  X(schema_mismatch, 22, Verdict::refuse, "the peers were built from different descriptions")        \
  X(server_full, 23, Verdict::refuse, "the server has no free place")                                \
  X(wrong_key, 24, Verdict::refuse, "the client holds another public key than this server's")        \
  X(mode_differs, 25, Verdict::refuse, "one peer encrypts its datagrams, the other sends plaintext") \
  X(ticket_missing, 26, Verdict::refuse, "the server asks for a ticket")                             \
  X(ticket_invalid, 27, Verdict::refuse, "the ticket is not one that this server accepts")           \
  X(ticket_expired, 28, Verdict::refuse, "the ticket has expired, or is not valid yet")              \
  X(ticket_used, 29, Verdict::refuse, "the ticket was used before")                                  \
  X(timeout, 30, Verdict::close, "nothing came from the peer for the stated time")                    \
  X(handshake_timeout, 31, Verdict::close, "the server did not answer")                              \
  X(closed_by_peer, 32, Verdict::close, "the peer closed the connection")                            \
  X(closed_here, 33, Verdict::close, "this side closed the connection")                              \
  X(server_restarted, 34, Verdict::close, "the server does not know this connection: it was restarted") \
  X(replaced, 35, Verdict::close, "the client came back on a new connection")                        \
  X(key_exhausted, 36, Verdict::close, "too many forged datagrams for one key")                     \
  X(split_too_large, 37, Verdict::close, "the peer started a message beyond the stated limit")       \
  X(server_busy, 38, Verdict::refuse, "too many attempts from this address are under way")           \
  X(resume_unknown, 39, Verdict::refuse, "the right to come back was used, or has expired")        \
  X(closed, 40, Verdict::report, "the connection is not open")                                       \
  X(queue_full, 41, Verdict::report, "the channel's send queue is at its limit")                     \
  X(message_too_large, 42, Verdict::report, "the message is larger than its channel carries")         \
  X(out_of_range, 43, Verdict::report, "a value to be sent is outside its range")                    \
  X(no_such_peer, 44, Verdict::report, "no connection has this number")                              \
  X(unknown_to_peer, 45, Verdict::report, "the agreed version of the protocol does not have the message") \
  X(bad_key, 46, Verdict::report, "a key is 43 characters of base64url")                             \
  X(ticket_table_full, 47, Verdict::refuse, "the table of used tickets is full")                     \
  X(incomplete, 48, Verdict::drop, "pieces of a message were discarded: too old, or no room")         \
  X(bad_piece, 49, Verdict::close, "pieces of a message contradict each other or the channel")       \
  X(address_in_use, 50, Verdict::report, "another program is using the address and port")            \
  X(bad_address, 51, Verdict::report, "the address cannot be understood or does not exist here")     \
  X(no_permission, 52, Verdict::report, "the system does not permit this address or port")           \
  X(socket_failure, 53, Verdict::report, "the system's socket call failed")                           \
  X(transport_ended, 54, Verdict::close, "the stream that carried the connection ended")               \
  X(bad_stream, 55, Verdict::close, "a stream does not hold datagrams as it should")                 \
  X(bad_capture, 56, Verdict::report, "the file is no capture, or is cut short")                     \
  X(not_owner, 57, Verdict::drop, "only the owner of the entity may send this message")              \
  X(not_allowed, 58, Verdict::drop, "a check of the game did not allow the message")                 \
  X(over_budget, 59, Verdict::drop, "more came in one tick than a connection may send")              \
  X(request_timeout, 60, Verdict::report, "no answer came in time")                                  \
  X(too_many_requests, 61, Verdict::drop, "more requests are open than the connection may have")     \
  X(stray_answer, 62, Verdict::drop, "an answer to no open request: late, doubled or invented")      \
  X(too_many_faults, 63, Verdict::close, "its messages made too many handlers fail")                 \
  X(base_missing, 64, Verdict::drop, "a snapshot builds on one that is not here; it waits for that") \
  X(payload_not_taken, 65, Verdict::drop, "no handler took the opaque payload of a datagram")        \
  X(state_version, 66, Verdict::refuse, "the peers write state in different versions")        \
  X(inbox_full, 67, Verdict::drop, "the program has not taken what arrived; the datagram is refused unacknowledged") \
  X(request_abandoned, 68, Verdict::report, "who was asked dropped the request without an answer")     \
  X(code_tables, 69, Verdict::drop, "the server writes state with another code set than this copy reads")
// clang-format on

/// The cause of an error, a drop, a refusal or a close.
enum class [[nodiscard]] Errc : std::uint8_t{
#define KWIND_ENUM(name, number, verdict, text) name = number,
    KWIND_ERRORS(KWIND_ENUM)
#undef KWIND_ENUM
};

/// One row of the list of errors.
struct ErrorInfo {
  Errc code;
  Verdict verdict;
  std::string_view name;
  std::string_view text;  ///< one sentence without a full stop
};

inline constexpr ErrorInfo kErrorList[] = {
#define KWIND_INFO(name, number, verdict, text) ErrorInfo{Errc::name, verdict, #name, text},
    KWIND_ERRORS(KWIND_INFO)
#undef KWIND_INFO
};
inline constexpr std::size_t kErrorCount = std::size(kErrorList);
static_assert(static_cast<std::size_t>(kErrorList[kErrorCount - 1].code) + 1 == kErrorCount,
              "numbers of errors have no gaps: counters have a place for each");

/// The entry of `code`; the entry of `none` for a number that is not in the list. O(errors).
constexpr const ErrorInfo& error_info(Errc code) {
  for (const ErrorInfo& info : kErrorList) {
    if (info.code == code) return info;
  }
  return kErrorList[0];
}

/// The code with this number, or `unlisted` if the list has none: for numbers from the wire.
constexpr Errc error_from_number(std::uint64_t number, Errc unlisted) {
  for (const ErrorInfo& info : kErrorList) {
    if (static_cast<std::uint64_t>(info.code) == number) return info.code;
  }
  return unlisted;
}

/// A value, or why there is none.
template <class T>
using Result = tl::expected<T, Errc>;

constexpr tl::unexpected<Errc> fail(Errc code) {
  return tl::unexpected<Errc>(code);
}

/// How often each error occurred: every drop is counted by its cause.
class KWIND_API CauseCounts {
 public:
  /// A count stays at its most, 2^32 - 1.
  void add(Errc code, std::uint64_t times = 1) {
    std::uint32_t& count = counts_[static_cast<std::size_t>(code)];
    count = static_cast<std::uint32_t>(std::min<std::uint64_t>(count + times, 0xffffffff));
  }
  void add(const CauseCounts& other) {
    for (const ErrorInfo& info : kErrorList) add(info.code, other.of(info.code));
  }
  [[nodiscard]] std::uint64_t of(Errc code) const {
    return counts_[static_cast<std::size_t>(code)];
  }
  [[nodiscard]] std::uint64_t total() const {
    std::uint64_t sum = 0;
    for (const std::uint64_t count : counts_) sum += count;
    return sum;
  }

 private:
  std::array<std::uint32_t, kErrorCount> counts_{};
};

}  // namespace kwind
