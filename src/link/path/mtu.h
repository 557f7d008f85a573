// Finds how large datagrams the path carries (RFC 8899): tries the next size with a datagram that
// is padded to it, and goes back to the base when large ones vanish. Only once something has to be
// sent that would fill more than the base. One link, one thread.
#pragma once
#include <array>
#include <cstddef>
#include <cstdint>

#include "kwind/core/time.h"
#include "kwind/link/spec.h"

namespace kwind::link {

class PathMtu {
 public:
  explicit PathMtu(bool discover) : discover_(discover) {}

  [[nodiscard]] std::size_t current() const { return current_; }
  /// A datagram was filled to the brim: larger ones would be of use.
  void wanted() { wanted_ = true; }
  /// The size to probe now, 0 for none.
  [[nodiscard]] std::size_t probe_due(Time now) const {
    if (!discover_ || !wanted_ || in_flight_ || now < next_probe_) return 0;
    return next_ < kSizes.size() ? kSizes[next_] : 0;
  }
  /// A probe of `size` is sent; returns the token by which its fate is reported.
  std::uint64_t probe_sent(std::size_t size) {
    in_flight_ = true;
    return path_ << 16 | size;
  }
  void probe_acked(std::uint64_t token) {
    if (token >> 16 != path_) return;  // of the path before
    const std::size_t size = token & 0xffff;
    in_flight_ = false;
    tries_ = 0;
    vanished_ = 0;
    if (size > current_) current_ = size;
    while (next_ < kSizes.size() && kSizes[next_] <= current_) ++next_;
  }
  void probe_lost(Time now, std::uint64_t token) {
    if (token >> 16 != path_) return;
    in_flight_ = false;
    // RFC 8899, 5.1.2: three tries. Then this size is too large, for the next ten minutes at least.
    if (++tries_ < 3) return;
    tries_ = 0;
    next_ = kSizes.size();
    next_probe_ = now + kTryAgain;
  }
  /// The ten minutes are over, or the path is another.
  void look_again(Time now) {
    if (next_ < kSizes.size() || now < next_probe_) return;
    next_ = 0;
    while (next_ < kSizes.size() && kSizes[next_] <= current_) ++next_;
  }
  void reset(Time now) {
    const std::uint64_t path = path_ + 1;
    *this = PathMtu(discover_);
    path_ = path;
    next_probe_ = now;
  }

  // Datagrams above the base size: when several in a row vanish and smaller ones do not, or nothing
  // arrives at all, the path swallows them (RFC 8899, 4.3).
  void large_acked() { vanished_ = 0; }
  /// True if the size has just gone back to the base.
  bool large_lost(Time now, std::size_t packets) {
    vanished_ += packets;
    return vanished_ >= kVanished && back_to_base(now);
  }
  /// So many probes in a row, of the base size, met with silence: what is in flight may be too
  /// large.
  static constexpr unsigned kSilentProbes = 2;
  bool back_to_base(Time now) {
    if (current_ == kBaseDatagramBytes) return false;
    current_ = kBaseDatagramBytes;
    vanished_ = 0;
    next_ = kSizes.size();
    next_probe_ = now + kTryAgain;
    return true;
  }

 private:
  static constexpr std::size_t kVanished = 6;
  static constexpr Duration kTryAgain = std::chrono::minutes(10);
  // IPv4 and IPv6 over Ethernet, with and without a tunnel's or DSL's own headers.
  static constexpr std::array<std::size_t, 4> kSizes{1300, 1392, 1452, 1472};
  bool discover_;
  std::uint64_t path_ = 0;  // how often it was another one
  bool wanted_ = false;
  bool in_flight_ = false;
  std::size_t current_ = kBaseDatagramBytes;
  std::size_t next_ = 0;
  unsigned tries_ = 0;
  std::size_t vanished_ = 0;
  Time next_probe_{};
};

}  // namespace kwind::link
