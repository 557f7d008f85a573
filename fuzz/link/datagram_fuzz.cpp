// A peer that passed the handshake and then sends anything: acks, frames, numbers, pieces. Input:
// parts of [length][flags][number low][number high][body...]; the check is put right, so that the
// fuzzer reaches what lies behind it. Every fourth part is sent as it is, with a wrong one.
#include <array>
#include <cstdint>
#include <cstdlib>
#include <vector>

#include "kit/forge.h"
#include "kit/sim_pair.h"
#include "link/packet_number.h"

using namespace kwind;

extern "C" int kwind_fuzz_one(const std::uint8_t* data, std::size_t size) {
  link::LinkOptions options;
  options.channels = kit::every_delivery();
  options.tags = 1;
  Time now{std::chrono::seconds(100)};
  link::Link server =
      link::Link::accept(kit::forged_admission(), Endpoint::loopback(9), options, now);
  std::uint64_t expected = 0;
  std::size_t parts = 0;
  std::array<std::byte, link::kMaxDatagramBytes> out{};
  const std::array<std::byte, 40> payload{};
  while (size >= 4 && parts < 200) {
    const std::size_t length = std::min<std::size_t>(data[0], size - 4);
    const std::uint64_t number = link::expand16(expected, data[2] | std::uint64_t{data[3]} << 8);
    auto datagram = kit::forged_datagram(kit::forged_keys(), kit::kForgedId, number, true,
                                         (data[1] & 0x10) != 0, [&](bits::Writer& writer) {
                                           for (std::size_t i = 0; i < length; ++i)
                                             writer.put(data[4 + i], 8);
                                         });
    if (parts % 4 == 3) datagram.back() ^= std::byte{1};
    if (server.receive(now, datagram) == Errc::none) expected = std::max(expected, number + 1);
    while (const auto event = server.poll_event()) {
      if (event->kind == link::Event::Kind::message && event->payload.size() * 8 < event->bits) {
        std::abort();
      }
    }
    if (server.state() == link::State::open) {
      (void)server.send(data[1] % options.channels.size(), 0, payload, data[1]);
    }
    now += std::chrono::milliseconds(data[1]);
    server.wake(now);
    for (int sent = 0; server.poll_datagram(now, out) > 0; ++sent) {
      if (sent > 1000) std::abort();  // it never stops sending
    }
    data += 4 + length;
    size -= 4 + length;
    ++parts;
  }
  return 0;
}
