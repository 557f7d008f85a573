// Shows every datagram that passes a transport to whoever wants to keep it: a capture at this end.
// Time is that of the call. One transport, one thread.
#pragma once
#include <functional>
#include <memory>
#include <utility>

#include "kwind/core/compiler.h"
#include "kwind/io/pollable_transport.h"

namespace kwind::io {

/// Passes everything on to another transport, and shows it.
class KWIND_API CapturingTransport final : public PollableTransport {
 public:
  using Watcher = std::function<void(Time now, const Endpoint& from, const Endpoint& to,
                                     std::span<const std::byte> datagram)>;

  /// `watcher` is called for each datagram that is sent or received, except for unusable ones,
  /// which are received empty; it must not call the transport.
  CapturingTransport(std::unique_ptr<PollableTransport> inner, Watcher watcher)
      : inner_(std::move(inner)), watcher_(std::move(watcher)) {}

  [[nodiscard]] Endpoint local() const override { return inner_->local(); }
  std::optional<ReceivedDatagram> receive(Time now) override {
    auto received = inner_->receive(now);
    if (received && !received->bytes.empty())
      watcher_(now, received->from, local(), received->bytes);
    return received;
  }
  void send(Time now, const Endpoint& to, std::span<const std::byte> bytes) override {
    watcher_(now, local(), to, bytes);
    inner_->send(now, to, bytes);
  }
  void flush(Time now) override { inner_->flush(now); }
  [[nodiscard]] Time next_wakeup() const override { return inner_->next_wakeup(); }
  [[nodiscard]] const TransportCounts& counts() const override { return inner_->counts(); }
  [[nodiscard]] bool is_stream() const override { return inner_->is_stream(); }
  [[nodiscard]] bool has_connections() const override { return inner_->has_connections(); }
  std::optional<Endpoint> take_ended() override { return inner_->take_ended(); }
  void keep(const Endpoint& peer) override { inner_->keep(peer); }
  void end(const Endpoint& peer) override { inner_->end(peer); }

 protected:
  [[nodiscard]] bool holds_some() const override { return holds_some_of(*inner_); }
  void add_waits(std::vector<Waiting>& out) const override { add_waits_of(*inner_, out); }

 private:
  std::unique_ptr<PollableTransport> inner_;
  Watcher watcher_;
};

}  // namespace kwind::io
