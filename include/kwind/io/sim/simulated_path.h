// One direction of a bad path: takes datagrams, gives them back late, out of order, twice or never.
// Pure: virtual time, and chance from a seed; the same calls give the same results everywhere.
#pragma once
#include <cstdint>
#include <random>
#include <span>
#include <vector>

#include "kwind/core/compiler.h"
#include "kwind/core/endpoint.h"
#include "kwind/core/time.h"

namespace kwind::io::sim {

/// How bad a path is: delay, jitter, loss, duplicates, reordering, rate.
struct KWIND_API Conditions {
  Duration delay{0};   ///< one way, on average
  Duration jitter{0};  ///< each datagram's delay is even between delay - jitter and delay + jitter
  double loss = 0;     ///< share of datagrams that vanish, 0 to 1
  /// Mean length of a run of losses, in datagrams (Gilbert model); 1: independent losses. At
  /// least 1.
  double loss_run = 1;
  double duplicate = 0;  ///< share that arrives twice, each copy with a delay of its own
  double reorder = 0;    ///< share that is held back, so that later ones overtake
  Duration reorder_delay = std::chrono::milliseconds(40);  ///< by which it is held back
  /// Bottleneck: bytes a second, IPv4 and UDP headers counted; 0: none.
  double rate = 0;
  /// ... and what may wait before it; what finds no room is lost.
  std::size_t queue_bytes = 65536;
};
/// What a datagram takes of a path's rate beyond its bytes.
inline constexpr std::size_t kIpUdpHeaderBytes = 28;

/// A datagram under way.
struct Datagram {
  Endpoint from;
  Endpoint to;
  std::vector<std::byte> bytes;
};

/// What a path did with the datagrams that it took.
struct SimulatedPathCounts {
  std::uint64_t taken = 0;
  std::uint64_t lost = 0;
  std::uint64_t duplicated = 0;
  std::uint64_t reordered = 0;   ///< were held back
  std::uint64_t overflowed = 0;  ///< found no room in the bottleneck's queue
  std::uint64_t bytes_out = 0;   ///< of those that were not lost, headers counted

  void add(const SimulatedPathCounts& other) {
    taken += other.taken;
    lost += other.lost;
    duplicated += other.duplicated;
    reordered += other.reordered;
    overflowed += other.overflowed;
    bytes_out += other.bytes_out;
  }
};

/// One direction of a bad path, in virtual time.
class KWIND_API SimulatedPath {
 public:
  SimulatedPath(Conditions conditions, std::uint64_t seed)
      : conditions_(conditions), random_(seed) {}

  /// New conditions hold for datagrams pushed from now on.
  void set_conditions(const Conditions& conditions) { conditions_ = conditions; }
  void push(Time now, const Endpoint& from, const Endpoint& to, std::span<const std::byte> bytes);
  /// Takes the datagram that is due first, if it is due by `now`. O(log of the number in flight).
  bool pop(Time now, Datagram& out);
  /// When the next datagram is due; kNever if none is in flight.
  [[nodiscard]] Time next() const { return under_way_.empty() ? kNever : under_way_.front().due; }
  [[nodiscard]] const SimulatedPathCounts& counts() const { return counts_; }

 private:
  struct UnderWay {
    Time due{};
    std::uint64_t order = 0;  // equal times leave in the order of arrival
    Datagram datagram;
  };
  static bool later(const UnderWay& a, const UnderWay& b) {
    return a.due != b.due ? a.due > b.due : a.order > b.order;
  }
  [[nodiscard]] double loss_now() const;
  void add(Time now, const Endpoint& from, const Endpoint& to, std::span<const std::byte> bytes);
  // Even in 0 <= x < 1. Not std::uniform_real_distribution, which differs between libraries.
  double chance() { return static_cast<double>(random_() >> 11) * 0x1p-53; }

  Conditions conditions_;
  std::mt19937_64 random_;
  std::vector<UnderWay> under_way_;  // a heap, the first due on top
  std::uint64_t order_ = 0;
  Time free_at_{};  // when the bottleneck has sent what it has
  bool losing_ = false;
  SimulatedPathCounts counts_;
};

}  // namespace kwind::io::sim
