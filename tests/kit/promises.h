// Sends numbered messages on all deliveries, both ways, and holds what arrives against the
// promises.
#pragma once
#include <gtest/gtest.h>

#include <array>
#include <random>
#include <set>

#include "kit/sim_pair.h"
#include "kwind/bits/reader.h"
#include "kwind/bits/writer.h"

namespace kwind::kit {

class Promises {
 public:
  Promises(SimPair& pair, std::uint64_t seed) : pair_(pair), random_(seed) {}

  /// What one end sends in one tick: a state value, an unreliable one, and now and then orders.
  void send_tick(bool from_server) {
    if (from_server && !pair_.has_server()) return;
    link::Link& link = from_server ? pair_.server() : pair_.client();
    if (link.state() != link::State::open) return;
    Side& side = sides_[from_server ? 1 : 0];
    send(link, 0, side.next_unreliable++, 8 + random_() % 300);
    send(link, 1, side.next_sequenced++, 8 + random_() % 100);
    for (auto orders = random_() % 4; orders > 1; --orders) {
      // Most are small, some fill most of a datagram.
      const std::size_t bytes = random_() % 20 == 0 ? 900 + random_() % 150 : 4 + random_() % 40;
      send(link, 2, side.next_ordered++, bytes * 8);
      if (orders == 2) send(link, 3, side.next_reliable++, bytes * 8);
    }
  }

  void hear(bool at_server, const link::Event& event) {
    if (event.kind == link::Event::Kind::opened) ++opened_;
    if (event.kind != link::Event::Kind::message) return;
    Side& sender = sides_[at_server ? 0 : 1];
    bits::Reader in(event.payload, event.bits);
    const std::uint64_t number = in.get(32);
    // The rest repeats the number, so that a wrong splice shows.
    while (in.left_bits() >= 32) ASSERT_EQ(in.get(32), number);
    switch (event.channel) {
      case 0:
        EXPECT_TRUE(sender.seen_unreliable.insert(number).second) << "unreliable twice: " << number;
        EXPECT_LT(number, sender.next_unreliable);
        break;
      case 1:
        EXPECT_TRUE(!sender.any_sequenced || number > sender.newest_sequenced)
            << number << " after " << sender.newest_sequenced;
        EXPECT_LT(number, sender.next_sequenced);
        sender.any_sequenced = true;
        sender.newest_sequenced = number;
        ++sender.heard_sequenced;
        break;
      case 3:
        EXPECT_TRUE(sender.seen_reliable.insert(number).second) << "reliable twice: " << number;
        EXPECT_LT(number, sender.next_reliable);
        break;
      default:
        EXPECT_EQ(number, sender.heard_ordered) << "ordered out of order";
        ++sender.heard_ordered;
    }
  }

  /// Every ordered and reliable message has arrived, and some of the others.
  void expect_complete() const {
    for (const Side& side : sides_) {
      EXPECT_GT(side.next_ordered, 0U);
      EXPECT_EQ(side.heard_ordered, side.next_ordered);
      EXPECT_EQ(side.seen_reliable.size(), side.next_reliable);
      EXPECT_GT(side.seen_unreliable.size(), side.next_unreliable / 3);
      EXPECT_GT(side.heard_sequenced, side.next_sequenced / 8);
    }
  }
  [[nodiscard]] int opened() const { return opened_; }
  [[nodiscard]] std::uint64_t ordered_sent() const {
    return sides_[0].next_ordered + sides_[1].next_ordered;
  }

 private:
  struct Side {
    std::uint64_t next_unreliable = 0;
    std::uint64_t next_sequenced = 0;
    std::uint64_t next_ordered = 0;
    std::set<std::uint64_t> seen_unreliable;
    bool any_sequenced = false;
    std::uint64_t newest_sequenced = 0;
    std::uint64_t heard_sequenced = 0;
    std::uint64_t heard_ordered = 0;
    std::uint64_t next_reliable = 0;
    std::set<std::uint64_t> seen_reliable;
  };

  void send(link::Link& link, std::size_t channel, std::uint64_t number, std::size_t bits) {
    std::array<std::byte, link::kMaxMessageBytes> memory{};
    bits::Writer out(memory);
    const std::size_t size = std::max<std::size_t>(32, bits);
    while (out.bit_count() + 32 <= size) out.put(number, 32);
    out.put(0, static_cast<unsigned>(size - out.bit_count()));
    out.finish();
    ASSERT_EQ(link.send(channel, channel, memory, out.bit_count()), Errc::none);
  }

  SimPair& pair_;
  std::mt19937_64 random_;
  std::array<Side, 2> sides_;  // client, server
  int opened_ = 0;
};

}  // namespace kwind::kit
