// A peer that passed the handshake and then sends anything, checks and all: acks, frames, numbers.
// Input: pieces of [length][flags][number low][number high][body...]; the check is put right, so
// that the fuzzer reaches what lies behind it. Every fourth piece is sent as it is, without.
#include <array>
#include <cstdint>
#include <cstdlib>
#include <vector>

#include "kwind/bits/digest.h"
#include "kwind/bits/writer.h"
#include "kwind/link/link.h"
#include "link/handshake.h"
#include "link/packet_number.h"

using namespace kwind;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const link::Admission admission{link::ConnectionId{0x00010000}, 7, 8, 1};
  link::LinkOptions options;
  options.channels = {
      {Delivery::unreliable}, {Delivery::sequenced}, {Delivery::ordered}, {Delivery::reliable}};
  options.tags = 1;
  Time now{std::chrono::seconds(100)};
  link::Link server = link::Link::accept(admission, options, now);
  const link::CheckKeys keys = link::make_check_keys(7, 8, admission.id);
  std::uint64_t expected = 0;
  std::size_t pieces = 0;
  std::array<std::byte, link::kMaxDatagramBytes> out{};
  const std::array<std::byte, 40> payload{};
  while (size >= 4 && pieces < 200) {
    const std::size_t length = std::min<std::size_t>(data[0], size - 4);
    std::vector<std::byte> datagram(7 + length + 4);
    bits::Writer writer(datagram);
    writer.put(1U | (data[1] & 0x10U), 8);
    writer.put(0x00010000, 32);
    const std::uint64_t low = data[2] | std::uint64_t{data[3]} << 8;
    writer.put(low, 16);
    for (std::size_t i = 0; i < length; ++i) writer.put(data[4 + i], 8);
    const std::size_t body = writer.finish();
    const std::uint64_t number = link::expand16(expected, low);
    if (pieces % 4 != 3) {
      writer.put(bits::keyed_check(keys.up, std::span(datagram).first(body), number), 32);
      writer.finish();
    }
    if (server.receive(now, datagram) == Errc::none) expected = std::max(expected, number + 1);
    while (const auto event = server.poll_event()) {
      if (event->kind == link::Event::Kind::message && event->payload.size() * 8 < event->bits) {
        std::abort();
      }
    }
    if (server.state() == link::State::open) {
      (void)server.send(data[1] % 4, 0, payload, data[1]);
    }
    now += std::chrono::milliseconds(data[1]);
    server.wake(now);
    for (int sent = 0; server.poll_datagram(now, out) > 0; ++sent) {
      if (sent > 1000) std::abort();  // it never stops sending
    }
    data += 4 + length;
    size -= 4 + length;
    ++pieces;
  }
  return 0;
}
