// Ordered delivery: each message arrives exactly once, in the order of sending.
// The sender keeps a message until its packet is acked; the receiver keeps what came early.
// One channel of one link, one thread.
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

#include "inbox.h"
#include "kwind/bits/errors.h"
#include "slot_ring.h"

namespace kwind::link {

inline constexpr std::size_t kMostPerDatagram = 60;
inline constexpr std::uint64_t kWindowMessages = 512;
inline constexpr std::size_t kWindowBytes = std::size_t{128} * 1024;

class OrderedSender {
 public:
  explicit OrderedSender(std::size_t queue_messages) : limit_(queue_messages) {}

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

class OrderedReceiver {
 public:
  enum class Taken : std::uint8_t { delivered, kept, doubled };

  /// Whether the index is one that an honest sender may use now (invariant 1).
  [[nodiscard]] bool in_window(std::uint16_t low16) const;
  /// Takes a message; adds it, and all that waited for it, to the inbox once its turn has come.
  /// Requires: in_window(low16) and that `in` has `bits` bits.
  Taken receive(std::uint16_t low16, bits::Reader in, std::size_t bits, std::uint8_t channel,
                Inbox& inbox);

 private:
  struct Slot {
    bool present = false;
    std::vector<std::byte> payload;
    std::size_t bits = 0;
  };
  SlotRing<Slot> early_;  // begin() is the next index to deliver
};

}  // namespace kwind::link
