// What is sent over a path and how long each message took: raw UDP, the kernel's TCP with
// TCP_NODELAY, and links. All on one clock.
#pragma once
#include <atomic>
#include <cstdint>
#include <memory>
#include <string>
#include <vector>

#include "kwind/core/time.h"
#include "kwind/link/link.h"
#include "path/tun_path.h"

namespace kwind::bench {

struct Load {
  double per_second = 60;
  std::size_t message_bytes = 40;
  Duration warm_up = std::chrono::seconds(5);  ///< messages before are not counted
  Duration time = std::chrono::seconds(60);
};

/// Delays beyond the path's one way, in milliseconds, sorted. Of what comes in order also those of
/// messages that had not arrived when the flow ended: as late as the end was.
struct Delays {
  std::vector<double> ms;
  std::uint64_t sent = 0;
  std::uint64_t arrived = 0;
  [[nodiscard]] double at(double share) const;
};

struct FlowResult {
  Delays delays;
  std::uint64_t bulk_bytes = 0;  ///< that arrived after the warm-up
  link::Stats client;
  std::string problem;
};

/// A flow from the first end of a path to the second: threads that start at once and end by
/// themselves.
class Flow {
 public:
  virtual ~Flow() = default;
  virtual void start(Forwarder& forwarder, std::size_t path) = 0;
  virtual FlowResult finish() = 0;
};

/// `control` is the kernel's congestion control; `greedy` sends as fast as it may instead of
/// messages.
std::unique_ptr<Flow> tcp_flow(const Load& load, Duration one_way, const std::string& control,
                               bool greedy, std::uint16_t port);
std::unique_ptr<Flow> udp_flow(const Load& load, Duration one_way, std::uint16_t port);
/// Messages on a channel of `spec`; with `greedy_bulk` a second one, ordered and bulk, always has
/// more to send.
std::unique_ptr<Flow> link_flow(const Load& load, Duration one_way, const link::ChannelSpec& spec,
                                bool greedy_bulk, std::uint16_t port);

}  // namespace kwind::bench
