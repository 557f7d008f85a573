// A real UDP socket for IPv6 and IPv4, non-blocking, with batched system calls (recvmmsg, sendmmsg)
// and segmentation offload for several datagrams to one peer.
// One transport, one thread.
#pragma once
#include <memory>
#include <span>
#include <string>
#include <string_view>

#include "kwind/core/compiler.h"
#include "kwind/core/errors.h"
#include "kwind/io/pollable_transport.h"

namespace kwind::io {

/// A UDP socket.
class KWIND_API UdpTransport final : public PollableTransport {
 public:
  /// Opens a socket on `local`; port 0 lets the system choose one.
  /// Errors: address_in_use, bad_address, no_permission, socket_failure.
  static Result<std::unique_ptr<UdpTransport>> open(const Endpoint& local);
  ~UdpTransport() override;

  [[nodiscard]] Endpoint local() const override;
  std::optional<ReceivedDatagram> receive(Time now) override;
  void send(Time now, const Endpoint& to, std::span<const std::byte> bytes) override;
  void flush(Time now) override;
  [[nodiscard]] const TransportCounts& counts() const override;

 protected:
  [[nodiscard]] bool holds_some() const override;
  void add_waits(std::vector<Waiting>& out) const override;

 private:
  struct State;
  explicit UdpTransport(std::unique_ptr<State> state);
  std::unique_ptr<State> state_;
};

/// Where a port is opened that talks to `remote`: loopback of the same family if that is a loopback
/// address, else all addresses; the system chooses the number.
[[nodiscard]] KWIND_API Endpoint local_for(const Endpoint& remote);
/// Where a client reaches what listens at `address`: loopback if that is all addresses.
[[nodiscard]] KWIND_API Endpoint reachable(const Endpoint& address);

/// "127.0.0.1:4000", "localhost:4000" or another host name that the system can resolve.
/// Blocks while resolving. Errors: bad_address, also for link-local IPv6 addresses (fe80::): they
/// need an interface beside them, which an Endpoint does not have.
KWIND_API Result<Endpoint> resolve(std::string_view host_and_port);

}  // namespace kwind::io
