// The sending half of ordered and reliable delivery: a message is kept, and sent again when its
// packet is lost, until a packet with it is acked. The receiving halves are in ordered.h and
// reliable.h. One channel of one link, one thread.
//
// Invariant 1: the sender has no message in flight kWindowMessages or more beyond its oldest
// unacked
//   one, nor more than kWindowBytes in flight. A receiver that sees more closes.
// Invariant 2: 16-bit indices are never ambiguous: a packet that may still be accepted is at most
//   2 x 256 numbers from the newest, each has at most kMostPerDatagram messages of a channel, and
//   512 x 60 + 512 < 2^15.
#pragma once
#include <cstdint>
#include <optional>
#include <span>
#include <vector>

#include "kwind/bits/errors.h"
#include "kwind/bits/writer.h"
#include "slot_ring.h"

namespace kwind::link {

inline constexpr std::size_t kMostPerDatagram = 60;
inline constexpr std::uint64_t kWindowMessages = 512;
inline constexpr std::size_t kWindowBytes = std::size_t{128} * 1024;

class ReliableSender {
 public:
  explicit ReliableSender(std::size_t queue_messages) : limit_(queue_messages) {}

  /// Copies a message to the end of the queue. Errors: queue_full.
  Errc push(std::size_t tag, std::span<const std::byte> payload, std::size_t bits);

  struct Outgoing {
    std::uint64_t index;
    std::size_t tag;
    std::span<const std::byte> payload;
    std::size_t bits;
    bool repeated;
  };
  /// The next message to be sent, if there is one and the window allows it.
  [[nodiscard]] std::optional<Outgoing> peek() const;
  /// The message that peek() gave was put into a packet.
  void sent(std::uint64_t index);
  void acked(std::uint64_t index);
  /// Its packet was lost, or a probe repeats it: it waits to be sent again unless acked by now.
  void lost(std::uint64_t index);
  /// Whether every message has been acked.
  [[nodiscard]] bool idle() const { return slots_.empty(); }

 private:
  enum class Stage : std::uint8_t { waiting, in_flight, acked };
  struct Slot {
    std::vector<std::byte> payload;
    std::size_t bits = 0;
    std::size_t tag = 0;
    Stage stage = Stage::waiting;
    bool sent_before = false;
  };

  void find_waiting();

  std::size_t limit_;
  SlotRing<Slot> slots_;
  std::uint64_t waiting_ = 0;  // no message before it waits
  std::size_t bytes_in_flight_ = 0;
};

}  // namespace kwind::link
