// The receiving half of reliable and ordered delivery: each message once; reliable ones as they are
// complete, ordered ones in turn. Holds the sender to the window. One channel of one link, one
// thread.
#pragma once
#include <algorithm>
#include <cstdint>
#include <memory>
#include <vector>

#include "kwind/core/errors.h"
#include "link/delivery/assembly.h"
#include "link/delivery/inbox.h"
#include "link/delivery/xor_repair.h"
#include "link/slot_ring.h"

namespace kwind::link {

class ReliableReceiver {
 public:
  ReliableReceiver(bool ordered, std::size_t window_bytes)
      : ordered_(ordered), window_bytes_(window_bytes) {}

  /// Whether an honest sender may use the message's index now (invariant 1 of ReliableSender).
  [[nodiscard]] bool in_window(std::uint16_t low16) const;

  struct Taken {
    Errc error = Errc::none;  ///< window_exceeded, bad_piece: the connection must end
    bool doubled = false;     ///< it had arrived before
    unsigned recovered = 0;   ///< messages that parity gave
  };
  /// Takes a message or a piece, and adds what is complete and due to the inbox. Requires:
  /// in_window(frame.index).
  Taken receive(const Frame& frame, Inbox& inbox);
  /// Takes parity: if one of its messages is missing it is known now; if more are, the parity is
  /// kept until others have come. Requires: all of them are in the window.
  Taken receive_parity(const Frame& frame, Inbox& inbox);

  /// Whether messages that arrived wait for one of which nothing has.
  [[nodiscard]] bool stalled() const {
    return !slots_.empty() && slots_[slots_.begin()].stage == Stage::absent;
  }

  /// The game took a message of `bits` bits: its room may be used again.
  void handed_out(std::size_t bits) { taken_cost_ += bits::bytes_for(bits) + kMessageCost; }
  /// What the sender may start in all; grows as the game takes messages.
  [[nodiscard]] std::uint64_t limit() const { return taken_cost_ + window_bytes_; }
  /// Whether the sender should be sent the limit. What it was not sent is less than the room that a window
  /// has beyond its largest message, so that no message waits for ever.
  [[nodiscard]] bool should_advertise() const {
    return limit() >= advertised_ + std::min(window_bytes_ / 4, kUnsentBytes);
  }
  void advertised() { advertised_ = limit(); }

 private:
  static constexpr std::size_t kUnsentBytes = 32768;
  enum class Stage : std::uint8_t { absent, partial, complete, delivered };
  struct Slot {
    Stage stage = Stage::absent;
    std::vector<std::byte> payload;
    std::size_t bits = 0;
    std::unique_ptr<Assembly> assembly;
  };

  // Recovers the missing message of parity if it is the only one. `settled`: nothing more can come
  // of it.
  Taken recover(const PendingParity& parity, std::uint8_t channel, Inbox& inbox, bool& settled);
  void recover_pending(std::uint8_t channel, Inbox& inbox, Taken& taken);
  Taken take(const Frame& frame, Inbox& inbox);
  void deliver(Slot& slot, std::uint8_t channel, Inbox& inbox);

  bool ordered_;
  std::size_t window_bytes_;
  SlotRing<Slot> slots_;               // begin() is the first index not delivered
  std::unique_ptr<XorRepair> recent_;  // from the first parity on
  std::uint64_t started_cost_ = 0;
  std::uint64_t taken_cost_ = 0;
  std::uint64_t advertised_ = kFirstWindowBytes;
};

}  // namespace kwind::link
