// Sees the IP packets that pass this machine's interfaces, without taking part: a capture at any
// end, of any program. Needs the right to open packet sockets (CAP_NET_RAW). One thread.
#pragma once
#include <memory>
#include <optional>
#include <span>

#include "kwind/core/compiler.h"
#include "kwind/core/errors.h"
#include "kwind/core/time.h"

namespace kwind::io {

/// Sees the IP packets of this machine.
class KWIND_API Sniffer {
 public:
  /// Errors: no_permission, socket_failure.
  static Result<std::unique_ptr<Sniffer>> open();
  ~Sniffer();

  /// The next packet, from its IP header on: valid until the next call. Datagrams that left this
  /// machine by segmentation offload are one packet: only the hardware cuts them. Each packet once,
  /// those between programs of this machine too. Waits until io::now() reaches `until` at most.
  std::optional<std::span<const std::byte>> next(Time until);
  /// Packets that the system dropped because this was too slow.
  [[nodiscard]] std::uint64_t missed();

 private:
  struct State;
  explicit Sniffer(std::unique_ptr<State> state);
  std::unique_ptr<State> state_;
};

}  // namespace kwind::io
