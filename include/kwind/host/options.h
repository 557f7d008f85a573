// What Server and Client share: options, counters and the mode in which datagrams travel.
#pragma once
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "kwind/bits/quantise.h"
#include "kwind/core/compiler.h"
#include "kwind/core/digest.h"
#include "kwind/core/errors.h"
#include "kwind/core/time.h"
#include "kwind/link/link.h"
#include "kwind/link/spec.h"
#include "kwind/route/dispatcher.h"

namespace kwind::host {

/// Plaintext mode, for development: anybody on the path can read and forge datagrams, the check in
/// each holds off accidents and strangers only. Hence the limit to this machine, unless lifted by
/// name. A process that accepts plaintext datagrams accepts only plaintext ones.
enum class Plaintext : std::uint8_t {
  loopback_only,  ///< datagrams from and to other machines are dropped and counted
  any_address,    ///< for trusted test networks
};

/// After how long silence or a delay ends something, and how often silence is broken.
struct Timeouts {
  Duration idle_timeout = std::chrono::seconds(10);  ///< ends an open connection
  Duration handshake = std::chrono::seconds(5);      ///< ends an attempt to connect
  Duration keepalive = std::chrono::seconds(5);      ///< longest pause between datagrams
  Duration linger = std::chrono::seconds(1);         ///< for reliable and ordered messages on close
  /// How long an ordered message that came faster than its `at most` may wait before the connection
  /// is closed with Errc::rate_limited.
  Duration max_throttle_delay = std::chrono::seconds(5);
};

/// The most that one connection may send in a tick: in `time`, or from one flush() of the host to
/// the next if that is 0. 0 messages, bytes or datagrams: no limit. Beyond messages or bytes
/// unreliable and sequenced messages are dropped, reliable and ordered ones wait in their window;
/// one message always passes, however large. Beyond `datagrams` a server drops datagrams of a
/// connection before it decrypts them, whatever they hold, pings and acks included; all of them are
/// counted as over_budget, and reliable messages in them come again. A stream may not lose a
/// datagram: its bytes wait instead, in turns with those of other streams.
struct TickBudget {
  std::size_t messages = 0;
  std::size_t bytes = 0;
  Duration time{0};
  std::size_t datagrams = 0;
};

/// The queue of a channel's messages that wait to be sent to one peer.
struct QueueLimit {
  std::string channel;
  std::size_t messages = 4096;
  std::size_t bytes = std::size_t{2} << 20;
  link::AtLimit at_limit = link::AtLimit::refuse;
};

/// What servers and clients have in common.
struct Options {
  /// Absent: datagrams are encrypted, which takes the server's key on both ends.
  std::optional<Plaintext> plaintext{};
  bool aes = true;  ///< AES-256-GCM where both ends have the hardware; else ChaCha20-Poly1305
  Timeouts timeouts;
  /// Nothing that a peer sends reaches a handler before ready() was called for it: reliable and
  /// ordered messages wait in their windows, of each other channel the newest kMaxHeldState.
  bool hold_until_ready = false;
  std::size_t open_requests = 64;    ///< most questions a connection may have open, each way
  std::vector<QueueLimit> queues{};  ///< of channels that shall not have the usual limits
  bits::Policy policy = bits::Policy::clamp;  ///< for values to be sent that are out of range
  /// Digests of the code tables that this end holds, see replica::CodeTables; at most 8, the ones
  /// it likes best first. The server takes the client's first that it holds, too.
  std::vector<std::uint64_t> code_table_sets{};
  /// Random bytes for nonces and cookies; from the system when not given. Give them in tests and
  /// replays, never in production.
  std::optional<Key128> entropy;
  /// Hands out the keys of all datagrams; see LinkOptions::key_log. For reading captures only.
  decltype(link::LinkOptions::key_log) key_log{};
};

/// Messages of an unreliable or sequenced channel that wait for ready() at most; older ones go.
inline constexpr std::size_t kMaxHeldState = 64;

/// What was dropped and why, at one host since its start.
struct Counts {
  CauseCounts drops;            ///< datagrams and messages received and not accepted, by cause
  route::DispatchCounts route;  ///< what became of accepted messages
  std::uint64_t values_out_of_range = 0;  ///< in messages to be sent; see Options::policy
  std::uint64_t sends_refused = 0;        ///< rate_limited or queue_full at this end
  std::uint64_t unknown_to_peer = 0;      ///< sends of messages that the peer's version lacks
  std::uint64_t encoded = 0;              ///< messages encoded; one for many counts once
  std::uint64_t refs_emptied = 0;         ///< in messages received: of entities not known there
};

/// Sums over all connections since the start, closed ones included.
struct KWIND_API Traffic {
  std::uint64_t datagrams_sent = 0;
  std::uint64_t datagrams_received = 0;
  std::uint64_t bytes_sent = 0;  ///< UDP payload
  std::uint64_t bytes_received = 0;
  std::uint64_t packets_lost = 0;
  std::uint64_t messages_repeated = 0;
  std::uint64_t overhead_bits_sent = 0;          ///< what belongs to no message
  std::vector<std::uint64_t> bits_sent_by_type;  ///< frame heads and repeats included
  void add(const link::Link& link);
};

/// One sentence for people about why a connection ended or never came about:
/// "the server has no free place (2 of 2 places are taken); try again later". The reason, which the
/// peer chose, is made printable().
KWIND_API std::string explain_end(Errc code, std::string_view reason);

}  // namespace kwind::host
