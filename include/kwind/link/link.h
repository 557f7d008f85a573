// One end of one connection: a state machine over datagrams.
// Takes bytes and a time; gives bytes, events and the next wake-up. No sockets, clock, randomness
// or log. The host pumps it; Listener makes the server's end. One link, one thread at a time.
#pragma once
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <string_view>

#include "kwind/bits/writer.h"
#include "kwind/core/compiler.h"
#include "kwind/core/endpoint.h"
#include "kwind/core/errors.h"
#include "kwind/core/secret.h"
#include "kwind/core/time.h"
#include "kwind/link/admission.h"
#include "kwind/link/keys.h"
#include "kwind/link/payload_source.h"
#include "kwind/link/shared_bytes.h"
#include "kwind/link/spec.h"

namespace kwind::link {

/// How far a connection is.
enum class State : std::uint8_t {
  greeting,  ///< client: hello sent, no welcome yet
  opening,   ///< server: welcome sent, no datagram of the client's yet
  open,
  closing,   ///< close() was called; reliable messages and the close are being delivered
  draining,  ///< the peer closed; its close is acknowledged for a while
  closed,
};

/// What a link has for the program: a message, or a change of the connection.
struct Event {
  enum class Kind : std::uint8_t {
    opened,   ///< messages may be sent now
    message,  ///< channel, payload, bits
    payload,  ///< payload, bits: what the peer's PayloadSource wrote
    closed,   ///< code and text; the last event
  };
  Kind kind = Kind::opened;
  std::uint8_t channel = 0;
  std::span<const std::byte> payload;  ///< valid until the next call of receive() or poll_event()
  std::size_t bits = 0;
  Errc code = Errc::none;
  std::string_view text;  ///< valid as long as the link
};

/// Counters since the start; durations are the current estimates.
struct Stats {
  std::uint64_t datagrams_sent = 0;
  std::uint64_t datagrams_received = 0;  ///< accepted ones
  std::uint64_t bytes_sent = 0;          ///< UDP payload
  std::uint64_t bytes_received = 0;
  std::uint64_t messages_sent = 0;      ///< handed to send()
  std::uint64_t messages_received = 0;  ///< handed out as events
  std::uint64_t packets_lost = 0;       ///< declared lost (RFC 9002, 6.1)
  std::uint64_t messages_repeated = 0;  ///< reliable and ordered ones sent again after a loss
  /// Redundant copies, sent before a loss was known: of small reliable messages on lossy paths, and
  /// of `repeat` channels.
  std::uint64_t redundant_copies = 0;
  std::uint64_t messages_stale = 0;  ///< sequenced messages older than the last delivered: dropped
  std::uint64_t duplicates_received = 0;  ///< reliable and ordered ones that had arrived before
  std::uint64_t messages_recovered = 0;   ///< lost ones that were rebuilt from parity
  std::uint64_t messages_expired = 0;     ///< discarded unsent: stale, or no room
  std::uint64_t messages_incomplete = 0;  ///< split ones of which pieces never came
  std::uint64_t overhead_bits_sent = 0;   ///< handshake, headers, acks, checks, padding
  CauseCounts drops;                      ///< datagrams, or parts of them, not accepted, by cause
  Duration smoothed_rtt{0};
  Duration rtt_variation{0};
  Duration min_rtt{0};
  double loss = 0;         ///< share of packets lost lately, 0 to 1
  Duration queue{0};       ///< what seems to stand in the path's queue
  double rate = 0;         ///< bytes a second that the path is thought to carry
  std::size_t window = 0;  ///< bytes that may be in flight
  std::size_t in_flight = 0;
  std::size_t mtu = kBaseDatagramBytes;  ///< largest datagram in use
  std::uint64_t path_changes = 0;        ///< addresses of the peer that have proven themselves
  std::uint64_t key_changes = 0;         ///< of the keys with which this end encrypts
};

/// How a client's link opens its connection.
struct ConnectOptions {
  Identity identity;
  /// 32 random bytes, new for each attempt: keys are made from them.
  Secret32 seed;
  /// The server's. Absent: plaintext mode, which works only with a server in plaintext mode.
  std::optional<PublicKey> server_key{};
  TransportKind transport_kind = TransportKind::datagrams;
  bool aes = true;       ///< AES-256-GCM where both ends have the hardware
  std::string ticket{};  ///< from the login, if the server asks for one. Never in plaintext mode.
  std::optional<Secret32> resume{};  ///< of an earlier connection; instead of a ticket
};

/// The right to come back once with the same identity after a break.
struct ResumeToken {
  Secret32 secret;
  Duration good_for{0};  ///< after the end of the connection
};

/// `now` is of any steady clock. If it jumps back, time stands still for the link until it has
/// caught up; a jump forward is a silence.
class KWIND_API Link {
 public:
  /// The client's end. Starts the handshake with the first poll_datagram(). Requires: a server key
  /// for a ticket or a resume token.
  static Link connect(ConnectOptions who, LinkOptions options, Time now);
  /// The server's end of an admitted connection, whose client is at `peer`.
  static Link accept(const Admission& admission, const Endpoint& peer, LinkOptions options,
                     Time now);

  Link(Link&&) noexcept;
  Link& operator=(Link&&) noexcept;
  ~Link();

  /// Takes a datagram from the peer's address. Errc::none if it was accepted; otherwise the cause,
  /// which is also counted, and nothing of the datagram had an effect, except that a verdict of
  /// `close` closes. Drain poll_event() after each call: a datagram is refused with inbox_full,
  /// and not acknowledged, while events wait that hold more than 512 KiB.
  Errc receive(Time now, std::span<const std::byte> datagram);
  /// The same for the server's end, whose client may change its address: data goes on to the old
  /// one until the new one has answered a challenge.
  Errc receive_from(Time now, const Endpoint& from, std::span<const std::byte> datagram);

  /// Writes the next datagram to send into `out`, at least kMaxDatagramBytes long, and returns its
  /// length, or 0 if there is none now. Call until 0.
  [[nodiscard]] std::size_t poll_datagram(Time now, std::span<std::byte> out);
  /// Where the datagram of the last poll_datagram() goes: the server's end only.
  [[nodiscard]] const Endpoint& destination() const;
  /// The client's address that has proven itself: the server's end only.
  [[nodiscard]] const Endpoint& peer() const;

  [[nodiscard]] std::optional<Event> poll_event();

  /// When wake() or poll_datagram() will have something to do without further input; kNever if
  /// never.
  [[nodiscard]] Time next_wakeup() const;
  /// Lets timers that are due act. Early or double calls change nothing.
  void wake(Time now);

  /// Queues the first `bits` bits of `payload` (copied) on `channel`. `tag`, below
  /// LinkOptions::tags, is where bits_sent() accounts them, repeats included. Errors: closed;
  /// message_too_large; queue_full (reliable and ordered channels, as ChannelSpec::at_limit says:
  /// nothing was queued, try again when acks have made room). Unreliable and sequenced messages
  /// never fail for lack of room: those still unsent are dropped, and counted as expired, when
  /// newer ones need it or they are stale.
  [[nodiscard]] Errc send(std::size_t channel, std::size_t tag, std::span<const std::byte> payload,
                          std::size_t bits);
  /// The same without a copy: `payload` is held, not copied, until it was sent (and acked, where
  /// the channel wants that). Requires: it is exactly as long as `bits` need.
  [[nodiscard]] Errc send(std::size_t channel, std::size_t tag, const SharedBytes& payload,
                          std::size_t bits);

  /// With LinkOptions::take_in_by_hand: the game took a message of `bits` bits that an event handed
  /// out, so that the peer may send on. Once for each message.
  void consume(std::size_t channel, std::size_t bits);

  /// Bytes that state may take of the path from now until about the next tick: what the window and
  /// the pace leave, less what already waits in front of it. O(channels).
  [[nodiscard]] std::size_t budget(Time now) const;

  /// Lets `payload source` fill what is free in the next `datagrams` datagrams after urgent
  /// messages and before others; nullptr: nobody. Call it each tick. Neither has to outlive the
  /// other, see PayloadSource.
  void schedule_payload(PayloadSource* payload_source, std::size_t datagrams);

  /// Delivers the reliable and ordered messages still queued (for at most LinkOptions::linger),
  /// then sends the peer a close frame with at most 96 bytes of `reason`, and ends with
  /// Event::closed, code closed_here, or `code`. The peer gets the reason; the code only if it is
  /// one of those that refuse, see Verdict.
  void close(Time now, std::string_view reason, Errc code = Errc::closed_here);
  /// Ends the connection at once, because the peer broke a rule of the program: queued
  /// messages are dropped, Event::closed with `code` follows the messages that had arrived, and for
  /// a second up to three datagrams send the peer at most 96 bytes of `reason`.
  void break_off(Time now, std::string_view reason, Errc code);
  /// Ends the time in which a draining connection repeats its close: its state is `closed`. Other
  /// states are not changed.
  void stop_draining();

  /// The stream that carried the datagrams has ended: so has the connection, with Event::closed,
  /// code transport_ended.
  void transport_ended(Time now);

  [[nodiscard]] State state() const;
  [[nodiscard]] std::uint16_t version() const;  ///< agreed version of the protocol; 0 before
  /// Agreed code tables: 0 the built-in one, else place in the client's list plus one.
  [[nodiscard]] std::uint8_t code_tables() const;
  [[nodiscard]] ConnectionId id() const;
  /// "ChaCha20-Poly1305", "AES-256-GCM" or "plaintext".
  [[nodiscard]] std::string_view protection() const;
  /// Client: whether the server took this connection for an earlier one's return.
  [[nodiscard]] bool resumed() const;
  /// Client: whether the server answered the hello, so that its silence afterwards is its own.
  [[nodiscard]] bool cookie_echoed() const;
  /// Client: how to come back after a break, if the server permits it.
  [[nodiscard]] std::optional<ResumeToken> resume() const;
  [[nodiscard]] const Stats& stats() const;
  /// Bits of messages and their frame heads sent so far, by tag.
  [[nodiscard]] std::span<const std::uint64_t> bits_sent() const;

 private:
  friend struct LinkAccess;  // for hosts of many links
  class Impl;
  explicit Link(std::unique_ptr<Impl> impl);
  std::unique_ptr<Impl> impl_;
};

}  // namespace kwind::link
