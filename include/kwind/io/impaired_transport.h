// Puts the simulated network's conditions before a real transport, inside one process: what is sent
// waits in one lane, what arrives in another. One transport, one thread.
#pragma once
#include <memory>

#include "kwind/core/compiler.h"
#include "kwind/io/pollable_transport.h"
#include "kwind/io/sim/simulated_path.h"

namespace kwind::io {

/// A real transport behind a bad path.
class KWIND_API ImpairedTransport final : public PollableTransport {
 public:
  /// `outward` holds for datagrams sent, `inward` for those received. Requires: `inner` carries
  /// datagrams, not a stream, which loses nothing.
  ImpairedTransport(std::unique_ptr<PollableTransport> inner, const sim::Conditions& outward,
                    const sim::Conditions& inward, std::uint64_t seed);

  [[nodiscard]] Endpoint local() const override { return inner_->local(); }
  std::optional<ReceivedDatagram> receive(Time now) override;
  void send(Time now, const Endpoint& to, std::span<const std::byte> bytes) override;
  void flush(Time now) override;
  [[nodiscard]] Time next_wakeup() const override;
  /// As the user of this transport sees it, before and after the lanes.
  [[nodiscard]] const TransportCounts& counts() const override { return counts_; }
  [[nodiscard]] const sim::SimulatedPathCounts& outward_counts() const { return outward_.counts(); }
  [[nodiscard]] const sim::SimulatedPathCounts& inward_counts() const { return inward_.counts(); }

 protected:
  [[nodiscard]] bool holds_some() const override { return holds_some_of(*inner_); }
  void add_waits(std::vector<Waiting>& out) const override { add_waits_of(*inner_, out); }

 private:
  std::unique_ptr<PollableTransport> inner_;
  sim::SimulatedPath outward_;
  sim::SimulatedPath inward_;
  sim::Datagram current_;
  TransportCounts counts_;
};

}  // namespace kwind::io
