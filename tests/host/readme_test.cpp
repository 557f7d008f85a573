// What the README shows of handlers, requests and rooms, compiled and run.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <fstream>
#include <iterator>
#include <set>
#include <sstream>

#include "kit/sim_hosts.h"
#include "kwind/host/tap_format.h"
#include "routing.h"

namespace kwind::host {
namespace {

using namespace std::chrono_literals;
using namespace routing;

std::string text_of(const std::string& file) {
  std::ifstream in(file, std::ios::binary);
  return {std::istreambuf_iterator<char>(in), {}};
}

TEST(Readme, HandlersRequestsAndRoomsDoWhatItSays) {
  kit::SimHosts hosts(kProtocol);
  Server& server = hosts.server();
  Client& client = hosts.join();
  std::set<Peer> anchored;
  std::set<int> towed = {7};
  std::vector<std::string> log;
  const auto format = tap_format(tables::Messages{});
  // README begins
  server.check<Helm>([&](Peer pilot, const Helm&) {  // before handlers: allow, drop, blame, close
    return anchored.contains(pilot) ? route::CheckResult::drop : route::CheckResult::accept;
  });
  server.on_request<TakeTow>([&](Peer, const TakeTow& ask, route::Answer<TakeTow> answer) {
    if (towed.contains(ask.barge)) {
      (void)answer.refuse(TakeTowRefusal::in_use, "the Lapwing has it");
    } else {
      (void)answer.reply({.line = 3});  // or keep `answer`, and reply some ticks later
    }
  });
  server.on<Hail>([&](Peer pilot, const Hail& hail) {
    server.rooms().move(pilot, "pier", "lock");  // a teleport: nothing lost, nothing twice
    server.send_to_room("lock", Hail{hail.number, "the gate opens"});  // encoded once
  });
  server.set_tap([&](const Tapped& seen) { log.push_back(format.line(seen)); });
  // README ends
  std::string heard;
  client.on<Hail>([&](const Hail& hail) { heard = hail.words; });
  std::string outcomes;
  const auto note = [&](const route::Outcome<TakeTow>& outcome) {
    outcomes += outcome ? std::to_string(outcome.reply.line) : outcome.words;
    outcomes += ";";
  };
  hosts.run(300ms);
  (void)client.request(TakeTow{1}, 1s, note);
  (void)client.request(TakeTow{7}, 1s, note);
  (void)client.send(Hail{1, "open up"});
  hosts.run(300ms);
  EXPECT_EQ(heard, "the gate opens");
  EXPECT_EQ(outcomes, "3;the Lapwing has it;");
  ASSERT_EQ(log.size(), 6U);
  EXPECT_NE(log[0].find("in    1 TakeTow{barge: 1}"), std::string::npos) << log[0];
  EXPECT_NE(log[5].find("out   1 Hail{number: 1, words: \"the gate opens\"}"), std::string::npos)
      << log[5];
}

TEST(Readme, ShowsThatCodeAsItIs) {
  const std::string readme = text_of(KWIND_SOURCE_DIR "/README.md");
  const std::string self = text_of(KWIND_SOURCE_DIR "/tests/host/readme_test.cpp");
  const std::size_t begin = self.find("// README begins\n") + 17;
  std::istringstream lines(self.substr(begin, self.find("  // README ends") - begin));
  std::string shown;
  for (std::string line; std::getline(lines, line);) shown += line.substr(2) + "\n";
  EXPECT_NE(readme.find("```cpp\n" + shown + "```"), std::string::npos) << shown;
}

}  // namespace
}  // namespace kwind::host
