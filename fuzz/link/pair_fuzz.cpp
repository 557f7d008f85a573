// Two honest links and a network that does with each datagram what the input says: lose, double,
// delay, cut, flip a bit, send back, or change the client's address. Whatever it does, the promises
// of the deliveries hold, and once it stops both ends come to rest.
#include <cstdint>
#include <cstdlib>
#include <map>
#include <set>
#include <vector>

#include "kit/sim_pair.h"
#include "kwind/bits/reader.h"
#include "kwind/bits/writer.h"

using namespace kwind;
using namespace std::chrono_literals;

namespace {

struct Heard {
  std::uint32_t sent = 0;
  std::set<std::uint32_t> seen;
};

}  // namespace

extern "C" int kwind_fuzz_one(const std::uint8_t* data, std::size_t size) {
  if (size < 4 || size > 2000) return 0;
  kit::SimPairOptions options{.seed = data[0] + 1U, .conditions = {.delay = 20ms}};
  const std::uint8_t* const end = data + size;
  const std::uint8_t* at = data + 2;
  options.adjust = [&](link::LinkOptions& link) { link.key_datagrams = 4U + data[1]; };
  kit::SimPair* running = nullptr;
  options.alter = [&](std::size_t, std::vector<std::byte>& bytes) {
    if (at == end) return;
    const std::uint8_t fate = *at++;
    const std::uint8_t more = at < end ? *at : std::uint8_t{0};
    switch (fate % 8) {
      case 1: bytes.clear(); break;
      case 2: bytes.resize(bytes.size() * more / 256); break;
      case 3: bytes[more % bytes.size()] ^= std::byte{1} << (fate / 8 % 8); break;
      case 4: bytes.insert(bytes.end(), more, std::byte{0}); break;
      case 5:
        if (running != nullptr && running->has_server()) {
          (void)running->client().receive(running->now(), bytes);
          (void)running->server().receive(running->now(), bytes);
        }
        break;
      case 6:
        if (running != nullptr) {
          running->move_client(Endpoint::v4(10, 0, 0, fate, static_cast<std::uint16_t>(1 + more)));
        }
        break;
      default: break;
    }
  };
  kit::SimPair pair(options);
  running = &pair;
  std::map<std::pair<bool, std::size_t>, Heard> heard;
  bool closed = false;
  const auto hear = [&](bool at_server, const link::Event& event) {
    closed = closed || event.kind == link::Event::Kind::closed;
    if (event.kind != link::Event::Kind::message) return;
    Heard& channel = heard[{!at_server, event.channel}];
    const auto number = static_cast<std::uint32_t>(bits::Reader(event.payload, event.bits).get(32));
    if (number >= channel.sent) std::abort();               // never sent
    if (!channel.seen.insert(number).second) std::abort();  // twice
    const Delivery delivery = pair.channels()[event.channel].delivery;
    if (delivery == Delivery::ordered && channel.seen.size() != number + 1U) std::abort();
    if (delivery == Delivery::sequenced && *channel.seen.rbegin() != number) std::abort();
  };
  const auto send = [&](link::Link& link, bool from_server) {
    if (link.state() != link::State::open) return;
    for (std::size_t c = 0; c < pair.channels().size(); ++c) {
      Heard& channel = heard[{from_server, c}];
      std::vector<std::byte> payload(c == 2 && channel.sent % 8 == 7 ? 3000 : 8 + c);
      bits::Writer out(payload);
      out.put(channel.sent, 32);
      out.finish();
      if (link.send(c, 0, payload, payload.size() * 8) == Errc::none) ++channel.sent;
    }
  };
  for (int tick = 0; tick < 40; ++tick) {
    pair.run_until(kit::at(50ms * tick), hear);
    send(pair.client(), false);
    if (pair.has_server()) send(pair.server(), true);
  }
  at = end;  // from here on the network only delays
  pair.run_until(kit::at(12s), hear);
  // The network may have kept them apart until a timeout; otherwise all that was promised arrived.
  if (closed || !pair.has_server()) return 0;
  for (const auto& [where, channel] : heard) {
    if (is_reliable(pair.channels()[where.second].delivery) &&
        channel.seen.size() != channel.sent) {
      std::abort();
    }
  }
  return 0;
}
