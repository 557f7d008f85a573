// A real path between two network namespaces of this process: two TUN devices and a forwarder with
// delay, loss, a bottleneck and a byte-limited queue, from a seed. For comparing with the kernel's
// own TCP; needs the right to make namespaces (root). Nothing of it is visible outside the process.
#pragma once
#include <cstdint>
#include <deque>
#include <functional>
#include <memory>
#include <random>
#include <string>
#include <thread>
#include <vector>

#include "kwind/core/time.h"

namespace kwind::bench {

struct PathSpec {
  Duration delay{0};  ///< one way
  double loss = 0;    ///< of each IP packet, each way
  double rate = 0;    ///< bytes a second at IP level, each way; 0: none
  std::size_t queue_bytes = 65536;
  std::uint64_t seed = 1;
  double loss_run = 1;  ///< losses come in runs of this many on average; 1: each for itself
  double reorder = 0;   ///< share of packets that is held back by 30 ms
};

struct PathCounts {
  std::uint64_t packets[2] = {0, 0};  ///< from the first end, from the second; lost ones counted
  std::uint64_t bytes[2] = {0, 0};    ///< IP level
  std::uint64_t lost[2] = {0, 0};
  std::uint64_t overflowed[2] = {0, 0};
};

/// Forwards for any number of paths on one thread, and knows how late it was.
class Forwarder {
 public:
  Forwarder();
  ~Forwarder();
  Forwarder(const Forwarder&) = delete;
  Forwarder& operator=(const Forwarder&) = delete;

  /// Makes a path; returns its number. Throws std::runtime_error with what the system said.
  std::size_t add(const PathSpec& spec);
  /// Runs `work` on a thread of its own in the namespace of one end (0 or 1) of a path, where the
  /// ends have the addresses 10.77.0.1 and 10.77.0.2.
  std::thread run_at(std::size_t path, int end, std::function<void()> work) const;
  void start();
  void stop();
  /// After stop().
  [[nodiscard]] const PathCounts& counts(std::size_t path) const;
  static constexpr Duration kLate = std::chrono::milliseconds(10);
  /// How much later than due packets left: the share above kLate, and the worst.
  [[nodiscard]] double late_share() const;
  [[nodiscard]] Duration worst_lateness() const { return worst_; }

 private:
  struct Packet {
    Time due;
    std::vector<char> bytes;
  };
  struct Way {
    int in = -1;
    int out = -1;
    std::deque<Packet> under_way;  // by due
    Time free_at{};
    std::mt19937_64 random;
    bool losing = false;  // within a run of losses
  };
  struct Path {
    PathSpec spec;
    int namespaces[2] = {-1, -1};
    int tuns[2] = {-1, -1};
    Way ways[2];
    PathCounts counts;
  };

  void loop();
  void take(Path& path, int way, Time now);

  std::vector<std::unique_ptr<Path>> paths_;
  std::thread thread_;
  int stop_event_ = -1;
  std::uint64_t forwarded_ = 0;
  std::uint64_t late_ = 0;
  Duration worst_{0};
};

}  // namespace kwind::bench
