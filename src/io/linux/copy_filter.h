// Detects duplicates in a packet capture of all interfaces: the system shows a packet once for each
// interface that the packet passes, a bridge and its port for instance. Pure; one thread.
#pragma once
#include <array>
#include <cstddef>
#include <cstdint>
#include <span>

#include "kwind/core/time.h"

namespace kwind::io {

class CopyFilter {
 public:
  /// Upper bound for the time that a packet takes between two interfaces of one machine.
  static constexpr Duration kLongest = std::chrono::milliseconds(20);

  /// Whether another interface showed the same bytes within kLongest. A packet that a program sends
  /// twice appears twice on one interface, and is no copy. O(kPackets + bytes).
  bool is_copy(Time now, unsigned interface, std::span<const std::byte> packet) {
    const std::uint64_t hash = hash_of(packet);
    for (SeenPacket& seen : seen_) {
      if (seen.hash != hash || seen.bytes != packet.size() || seen.interface == interface ||
          now - seen.at > kLongest) {
        continue;
      }
      return true;
    }
    seen_[next_] = {hash, packet.size(), interface, now};
    next_ = (next_ + 1) % kPackets;
    return false;
  }

 private:
  static constexpr std::size_t kPackets = 256;
  struct SeenPacket {
    std::uint64_t hash = 0;
    std::size_t bytes = 0;  // 0: none
    unsigned interface = 0;
    Time at{};
  };
  // FNV-1a.
  static std::uint64_t hash_of(std::span<const std::byte> packet) {
    std::uint64_t hash = 0xcbf29ce484222325U;
    for (const std::byte byte : packet) {
      hash = (hash ^ std::to_integer<std::uint64_t>(byte)) * 0x100000001b3U;
    }
    return hash;
  }
  std::array<SeenPacket, kPackets> seen_{};
  std::size_t next_ = 0;
};

}  // namespace kwind::io
