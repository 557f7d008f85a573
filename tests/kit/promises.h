// Sends numbered messages on all channels, both ways, and holds what arrives against the promises
// of their deliveries.
#pragma once
#include <gtest/gtest.h>

#include <array>
#include <random>
#include <set>
#include <vector>

#include "kit/sim_pair.h"
#include "kwind/bits/reader.h"
#include "kwind/bits/writer.h"

namespace kwind::kit {

class Promises {
 public:
  Promises(SimPair& pair, std::uint64_t seed) : pair_(pair), random_(seed) {
    for (auto& side : sides_) side.resize(pair.channels().size());
  }

  /// What one end sends in one tick: state on its channels, and now and then orders, a few of them
  /// split.
  void send_tick(bool from_server) {
    if (from_server && !pair_.has_server()) return;
    link::Link& link = from_server ? pair_.server() : pair_.client();
    if (link.state() != link::State::open) return;
    for (std::size_t c = 0; c < pair_.channels().size(); ++c) {
      const link::ChannelSpec& spec = pair_.channels()[c];
      std::size_t times = 1;
      std::size_t bytes = 4 + random_() % 36;
      if (is_reliable(spec.delivery)) {
        times = random_() % 4 / 2;
        if (random_() % 20 == 0) bytes = 900 + random_() % 150;  // most of a datagram
        if (random_() % 200 == 0) bytes = 1100 + random_() % 9000;
      } else if (spec.split && random_() % 30 == 0) {
        bytes = 1100 + random_() % 5000;
      }
      for (; times > 0; --times) {
        send(link, c, sides_[from_server ? 1 : 0][c].sent++, bytes * 8 + random_() % 8);
      }
    }
  }

  /// One small message on each channel.
  void send_one_each(bool from_server) {
    link::Link& link = from_server ? pair_.server() : pair_.client();
    for (std::size_t c = 0; c < pair_.channels().size(); ++c) {
      send(link, c, sides_[from_server ? 1 : 0][c].sent++, 32);
    }
  }

  void hear(bool at_server, const link::Event& event) {
    if (event.kind == link::Event::Kind::opened) ++opened_;
    if (event.kind != link::Event::Kind::message) return;
    Heard& heard = sides_[at_server ? 0 : 1][event.channel];
    bits::Reader in(event.payload, event.bits);
    const std::uint64_t number = in.get(32);
    // The rest repeats the number, so that a wrong splice shows.
    while (in.left_bits() >= 32) ASSERT_EQ(in.get(32), number);
    ASSERT_LT(number, heard.sent);
    const bool is_new = heard.seen.insert(number).second;
    switch (pair_.channels()[event.channel].delivery) {
      case Delivery::unreliable:
      case Delivery::reliable: EXPECT_TRUE(is_new) << "twice: " << number; break;
      case Delivery::sequenced:
        EXPECT_TRUE(is_new && number == *heard.seen.rbegin()) << number << " is not the newest";
        break;
      case Delivery::ordered:
        EXPECT_EQ(number + 1, heard.seen.size()) << "ordered out of order";
        break;
    }
  }

  /// Every reliable message has arrived, and some of the others.
  void expect_complete() const {
    for (const auto& side : sides_) {
      for (std::size_t c = 0; c < side.size(); ++c) {
        SCOPED_TRACE("channel " + std::to_string(c));
        EXPECT_GT(side[c].sent, 0U);
        if (is_reliable(pair_.channels()[c].delivery)) {
          EXPECT_EQ(side[c].seen.size(), side[c].sent);
        } else {
          EXPECT_GT(side[c].seen.size(), side[c].sent / 8);
        }
      }
    }
  }
  [[nodiscard]] int opened() const { return opened_; }
  [[nodiscard]] std::size_t heard(bool at_server, std::size_t channel) const {
    return sides_[at_server ? 0 : 1][channel].seen.size();
  }

 private:
  struct Heard {
    std::uint64_t sent = 0;
    std::set<std::uint64_t> seen;
  };

  void send(link::Link& link, std::size_t channel, std::uint64_t number, std::size_t bits) {
    const std::size_t size = std::max<std::size_t>(32, bits);
    std::vector<std::byte> memory(bits::bytes_for(size) + 8);
    bits::Writer out(memory);
    while (out.bit_count() + 32 <= size) out.put(number, 32);
    out.put(0, static_cast<unsigned>(size - out.bit_count()));
    out.finish();
    ASSERT_EQ(link.send(channel, channel, memory, out.bit_count()), Errc::none);
  }

  SimPair& pair_;
  std::mt19937_64 random_;
  std::array<std::vector<Heard>, 2> sides_;  // sent by the client, by the server
  int opened_ = 0;
};

/// Both ends send each `step` for as long as `sending`; at `end` all promises are kept, and the
/// connection was never closed.
inline void expect_kept(SimPair& pair, Promises& promises, Duration sending, Duration step,
                        Duration end) {
  const auto hear = [&](bool at_server, const link::Event& event) {
    promises.hear(at_server, event);
    ASSERT_NE(event.kind, link::Event::Kind::closed) << event.text;
  };
  for (Duration t{0}; t < sending; t += step) {
    pair.run_until(at(t), hear);
    promises.send_tick(false);
    promises.send_tick(true);
  }
  pair.run_until(at(end), hear);
  promises.expect_complete();
}

}  // namespace kwind::kit
