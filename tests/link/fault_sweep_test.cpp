// Single faults: the 1st, 2nd, ... datagram of a scenario is lost, doubled, delayed, cut or
// flipped, until a run ends with the fault not met.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "kit/promises.h"

namespace kwind {
namespace fault_sweep_test {

using namespace std::chrono_literals;
using kit::at;
using kit::SimPair;
using kit::SimPairOptions;

enum class Fault : std::uint8_t { lost, doubled, delayed, cut, flipped };

// A run under the options given. Returns how many datagrams it put on the wire.
using Scenario = std::size_t (*)(SimPairOptions options);

std::size_t run_promises(SimPairOptions options, const std::function<void(SimPair&, int)>& tick) {
  options.conditions.delay = 30ms;
  SimPair pair(options);
  kit::Promises promises(pair, 9);
  const auto hear = [&](bool at_server, const link::Event& event) {
    promises.hear(at_server, event);
    ASSERT_NE(event.kind, link::Event::Kind::closed) << event.text;
  };
  for (int i = 0; i < 40; ++i) {
    pair.run_until(at(50ms * i), hear);
    if (tick) tick(pair, i);
    promises.send_tick(false);
    promises.send_tick(true);
  }
  pair.run_until(at(6s), hear);
  promises.expect_complete();
  EXPECT_EQ(promises.opened(), 2);
  return pair.datagrams();
}

std::size_t talk(SimPairOptions options) {
  return run_promises(std::move(options), {});
}

std::size_t talk_in_plaintext(SimPairOptions options) {
  options.mode = link::Mode::plaintext;
  return run_promises(std::move(options), {});
}

std::size_t change_keys(SimPairOptions options) {
  options.adjust = [](link::LinkOptions& link) { link.key_datagrams = 8; };
  return run_promises(std::move(options), {});
}

std::size_t move(SimPairOptions options) {
  return run_promises(std::move(options), [](SimPair& pair, int tick) {
    if (tick == 20) pair.move_client(Endpoint::v4(10, 9, 8, 7, 6));
  });
}

std::size_t transfer(SimPairOptions options) {
  options.conditions.delay = 30ms;
  SimPair pair(options);
  std::vector<std::byte> large(150000);
  for (std::size_t i = 0; i < large.size(); ++i) large[i] = static_cast<std::byte>(i * 7);
  bool sent = false;
  bool arrived = false;
  for (int i = 0; i < 200 && !arrived; ++i) {
    pair.run_until(at(50ms * i), [&](bool at_server, const link::Event& event) {
      if (!at_server || event.kind != link::Event::Kind::message) return;
      EXPECT_TRUE(
          std::equal(large.begin(), large.end(), event.payload.begin(), event.payload.end()));
      arrived = true;
    });
    if (!sent && pair.client().state() == link::State::open) {
      sent = true;
      EXPECT_EQ(pair.client().send(6, 0, large, large.size() * 8), Errc::none);
    }
  }
  EXPECT_TRUE(arrived) << "a stuck transfer";
  return pair.datagrams();
}

// What was sent before close() arrives, then the reason; both ends are done.
std::size_t close(SimPairOptions options) {
  options.conditions.delay = 30ms;
  SimPair pair(options);
  int heard = 0;
  std::string reason;
  const auto hear = [&](bool at_server, const link::Event& event) {
    if (!at_server) return;
    if (event.kind == link::Event::Kind::message) ++heard;
    if (event.kind == link::Event::Kind::closed) reason = event.text;
  };
  pair.run_until(at(1s), hear);
  for (int i = 0; i < 5; ++i) {
    EXPECT_EQ(pair.client().send(2, 0, std::array<std::byte, 9>{}, 72), Errc::none);
  }
  pair.client().close(pair.now(), "supper");
  pair.run_until(at(6s), hear);
  EXPECT_EQ(heard, 5);
  EXPECT_EQ(reason, "supper");
  EXPECT_EQ(pair.client().state(), link::State::closed);
  EXPECT_EQ(pair.server().state(), link::State::closed);
  return pair.datagrams();
}

std::size_t refuse(SimPairOptions options) {
  options.conditions.delay = 30ms;
  options.adjust_door = [](link::ListenerOptions& door) { door.identity.name = "another"; };
  SimPair pair(options);
  Errc why = Errc::none;
  pair.run_until(at(6s), [&](bool, const link::Event& event) { why = event.code; });
  EXPECT_EQ(why, Errc::protocol_name);
  return pair.datagrams();
}

TEST(Handshakes, TwoCopiesOfEveryDatagramMakeOneConnection) {
  SimPairOptions options{.seed = 3};
  for (std::size_t i = 0; i < 12; ++i) options.repeat.insert(i);
  EXPECT_GT(talk(options), 50U);
}

struct Named {
  const char* name;
  Scenario run;
};
class SingleFaults : public testing::TestWithParam<std::tuple<Named, Fault>> {};

TEST_P(SingleFaults, OfAnyOneDatagramLoseNoPromise) {
  const auto& [scenario, fault] = GetParam();
  std::size_t hit = 0;
  for (std::size_t sent = 1; hit < sent; ++hit) {
    SCOPED_TRACE(fmt::format("datagram {}", hit));
    SimPairOptions options{.seed = 3};
    switch (fault) {
      case Fault::lost: options.lose = {hit}; break;
      case Fault::doubled: options.repeat = {hit}; break;
      case Fault::delayed: options.delay = {hit}; break;
      case Fault::cut:
        options.alter = [hit](std::size_t n, std::vector<std::byte>& bytes) {
          if (n == hit) bytes.resize(bytes.size() * (1 + hit % 4) / 5);
        };
        break;
      case Fault::flipped:
        options.alter = [hit](std::size_t n, std::vector<std::byte>& bytes) {
          const std::size_t place = hit * 37 % (bytes.size() * 8);
          if (n == hit) bytes[place / 8] ^= std::byte{1} << (place % 8);
        };
        break;
    }
    sent = scenario.run(std::move(options));
    if (HasFailure()) break;
  }
  EXPECT_GT(hit, 3U) << "the scenario sent next to nothing";
}

std::string name_of(const testing::TestParamInfo<std::tuple<Named, Fault>>& info) {
  static constexpr const char* kFaults[] = {"lost", "doubled", "delayed", "cut", "flipped"};
  return fmt::format("{}_{}", std::get<0>(info.param).name,
                     kFaults[static_cast<std::size_t>(std::get<1>(info.param))]);
}

INSTANTIATE_TEST_SUITE_P(
    All, SingleFaults,
    testing::Combine(testing::Values(Named{"talk", talk}, Named{"plaintext", talk_in_plaintext},
                                     Named{"keys", change_keys}, Named{"move", move},
                                     Named{"transfer", transfer}, Named{"close", close},
                                     Named{"refuse", refuse}),
                     testing::Values(Fault::lost, Fault::doubled, Fault::delayed, Fault::cut,
                                     Fault::flipped)),
    name_of);

}  // namespace fault_sweep_test
}  // namespace kwind
