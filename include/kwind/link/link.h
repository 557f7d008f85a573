// One end of one connection: a state machine over datagrams.
// Takes bytes and a time; gives bytes, events and the next wake-up. No sockets, clock, randomness
// or log. The host pumps it; Listener makes the server's end. One link, one thread at a time.
#pragma once
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <string_view>

#include "kwind/bits/errors.h"
#include "kwind/bits/time.h"
#include "kwind/link/spec.h"

namespace kwind::link {

enum class State : std::uint8_t {
  greeting,  ///< client: hello sent, no welcome yet
  opening,   ///< server: welcome sent, no datagram of the client's yet
  open,
  closing,   ///< close() was called; reliable messages and the close are being delivered
  draining,  ///< the peer closed; its close is acknowledged for a while
  closed,
};

struct Event {
  enum class Kind : std::uint8_t {
    opened,   ///< messages may be sent now
    message,  ///< channel, payload, bits
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
  std::uint64_t messages_repeated = 0;  ///< reliable and ordered ones sent once more
  std::uint64_t messages_stale = 0;  ///< sequenced messages older than the last delivered: dropped
  std::uint64_t messages_doubled = 0;    ///< reliable and ordered ones that had arrived before
  std::uint64_t messages_expired = 0;    ///< unsent ones given up for newer ones (outbox_bytes)
  std::uint64_t overhead_bits_sent = 0;  ///< handshake, headers, acks, checks, padding
  CauseCounts drops;                     ///< datagrams received and not accepted, by cause
  Duration smoothed_rtt{0};
  Duration rtt_variation{0};
  Duration least_rtt{0};
};

/// The server's half of a finished handshake; from Listener::receive.
struct Admission {
  ConnectionId id{};
  std::uint64_t client_nonce = 0;
  std::uint64_t server_nonce = 0;
  std::uint16_t version = 0;  ///< the agreed version of the protocol
};

class Link {
 public:
  /// The client's end. Starts the handshake with the first poll_datagram(). `nonce` must be 64
  /// random bits, new for each attempt.
  static Link connect(Identity identity, std::uint64_t nonce, LinkOptions options, Time now);
  /// The server's end of an admitted connection.
  static Link accept(const Admission& admission, LinkOptions options, Time now);

  Link(Link&&) noexcept;
  Link& operator=(Link&&) noexcept;
  ~Link();

  /// Takes a datagram from the peer's address. Errc::none if it was accepted; otherwise the cause,
  /// which is also counted, and nothing of the datagram had an effect, except that a verdict of
  /// `close` closes. Drain poll_event() after each call: a datagram is refused with queue_full
  /// while events wait that hold more than 512 KiB.
  Errc receive(Time now, std::span<const std::byte> datagram);

  /// Writes the next datagram to send into `out`, at least kMaxDatagramBytes long, and returns its
  /// length, or 0 if there is none now. Call until 0.
  [[nodiscard]] std::size_t poll_datagram(Time now, std::span<std::byte> out);

  [[nodiscard]] std::optional<Event> poll_event();

  /// When wake() or poll_datagram() will have something to do without further input; kNever if
  /// never.
  [[nodiscard]] Time next_wakeup() const;
  /// Lets timers that are due act. Early or double calls change nothing.
  void wake(Time now);

  /// Queues the first `bits` bits of `payload` (copied) on `channel`. `tag`, below
  /// LinkOptions::tags, is where bits_sent() accounts them, repeats included. Errors: closed;
  /// message_too_large; queue_full (reliable and ordered channels: nothing was queued, try
  /// again when acks have made room). Unreliable and sequenced messages never fail for lack of
  /// room: those still unsent are dropped, and counted as expired, when newer ones need it.
  [[nodiscard]] Errc send(std::size_t channel, std::size_t tag, std::span<const std::byte> payload,
                          std::size_t bits);

  /// Delivers the reliable and ordered messages still queued (for at most LinkOptions::linger),
  /// then tells the peer, with at most 96 bytes of `reason`, and ends with Event::closed, code
  /// closed_here.
  void close(Time now, std::string_view reason);

  [[nodiscard]] State state() const;
  [[nodiscard]] std::uint16_t version() const;  ///< agreed version of the protocol; 0 before
  [[nodiscard]] const Stats& stats() const;
  /// Bits of messages and their frame heads sent so far, by tag.
  [[nodiscard]] std::span<const std::uint64_t> bits_sent() const;

 private:
  class Impl;
  explicit Link(std::unique_ptr<Impl> impl);
  std::unique_ptr<Impl> impl_;
};

}  // namespace kwind::link
