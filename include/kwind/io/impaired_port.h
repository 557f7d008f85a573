// Puts the simulated network's conditions before a real port, inside one process: what is sent
// waits in one lane, what arrives in another. One port, one thread.
#pragma once
#include <memory>

#include "kwind/io/port.h"
#include "kwind/io/sim/lane.h"

namespace kwind::io {

class ImpairedPort final : public LivePort {
 public:
  /// `outward` holds for datagrams sent, `inward` for those received.
  ImpairedPort(std::unique_ptr<LivePort> inner, const sim::Conditions& outward,
               const sim::Conditions& inward, std::uint64_t seed);

  [[nodiscard]] Endpoint local() const override { return inner_->local(); }
  std::optional<Received> receive(Time now) override;
  void send(Time now, const Endpoint& to, std::span<const std::byte> bytes) override;
  void flush(Time now) override;
  [[nodiscard]] Time next_wakeup() const override;
  /// As the user of this port sees it, before and after the lanes.
  [[nodiscard]] const PortCounts& counts() const override { return counts_; }
  [[nodiscard]] const sim::LaneCounts& outward_counts() const { return outward_.counts(); }
  [[nodiscard]] const sim::LaneCounts& inward_counts() const { return inward_.counts(); }

 protected:
  [[nodiscard]] bool holds_some() const override { return holds_some_of(*inner_); }
  void add_waits(std::vector<Waiting>& out) const override { add_waits_of(*inner_, out); }

 private:
  std::unique_ptr<LivePort> inner_;
  sim::Lane outward_;
  sim::Lane inward_;
  sim::Datagram current_;
  PortCounts counts_;
};

}  // namespace kwind::io
