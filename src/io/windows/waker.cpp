// A datagram socket that sends to itself: what WSAPoll waits for are sockets alone.
#include "kwind/io/waker.h"
#include "io/sockets.h"
#include "kwind/core/assert.h"

namespace kwind::io {

Waker::Waker() {
  KWIND_ASSERT(start_sockets());
  descriptor_ = open_socket(AF_INET, SOCK_DGRAM);
  KWIND_ASSERT(descriptor_ >= 0);
  Address own = to_system(Endpoint::loopback(0), AF_INET);
  KWIND_ASSERT(::bind(static_cast<SOCKET>(descriptor_), own.data(), own.length) == 0);
  const Endpoint here = local_address(descriptor_, Endpoint::loopback(0));
  own = to_system(here, AF_INET);
  KWIND_ASSERT(::connect(static_cast<SOCKET>(descriptor_), own.data(), own.length) == 0);
  wake_descriptor_ = descriptor_;
}
Waker::~Waker() {
  close_socket(descriptor_);
}

void Waker::wake() const {
  const std::byte one{1};
  (void)send_bytes(wake_descriptor_, std::span(&one, 1));  // full means that it wakes anyway
}

void Waker::clear() const {
  std::array<std::byte, 16> bytes{};
  while (receive_bytes(descriptor_, bytes) > 0) {
  }
}

}  // namespace kwind::io
