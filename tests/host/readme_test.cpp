// The code of docs/guide/messages.md and of the README, compiled, run and compared; what pages state of versions.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <fstream>
#include <iterator>
#include <set>
#include <sstream>

#include "kit/sim_hosts.h"
#include "kwind/host/tap_format.h"
#include "kwind/link/spec.h"
#include "routing.h"

namespace kwind::host {
namespace readme_test {

using namespace std::chrono_literals;
using namespace routing;

std::string text_of(const std::string& file) {
  std::ifstream in(file, std::ios::binary);
  return {std::istreambuf_iterator<char>(in), {}};
}

TEST(GuideToMessages, HandlersRequestsAndRoomsDoWhatItSays) {
  kit::SimHosts hosts(kProtocol);
  Server& server = hosts.server();
  Client& client = hosts.join();
  std::set<Peer> anchored;
  std::set<int> towed = {7};
  std::vector<std::string> log;
  const auto format = tap_format(tables::Messages{});
  // guide begins
  server.check<Helm>([&](Peer pilot, const Helm&) {  // runs before the handlers
    return anchored.contains(pilot) ? route::CheckResult::drop : route::CheckResult::accept;
  });
  server.on_request<TakeTow>([&](Peer, const TakeTow& ask, route::Responder<TakeTow> responder) {
    if (towed.contains(ask.barge)) {
      (void)responder.refuse(TakeTowRefusal::in_use, "the Lapwing has it");
    } else {
      (void)responder.reply({.line = 3});  // or keep `responder`, and reply later
    }
  });
  server.on<Hail>([&](Peer pilot, const Hail& hail) {
    server.rooms().move(pilot, "pier", "lock");  // a teleport: nothing lost, nothing twice
    server.send_to_room("lock", Hail{hail.number, "the gate opens"});  // encoded once
  });
  server.set_tap([&](const Tapped& seen) { log.push_back(format.line(seen)); });
  // guide ends
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

TEST(GuideToMessages, ShowsThatCodeAsItIs) {
  const std::string page = text_of(KWIND_SOURCE_DIR "/docs/guide/messages.md");
  const std::string self = text_of(KWIND_SOURCE_DIR "/tests/host/readme_test.cpp");
  const std::size_t begin = self.find("// guide begins\n") + 16;
  std::istringstream lines(self.substr(begin, self.find("  // guide ends") - begin));
  std::string shown;
  for (std::string line; std::getline(lines, line);)
    shown += (line.size() < 2 ? line : line.substr(2)) + "\n";
  EXPECT_NE(page.find("```cpp\n" + shown + "```"), std::string::npos) << shown;
}

// The README's server of replicated entities is a part of examples/lookout.
TEST(Readme, ShowsThePartOfTheLookoutServerAsItIs) {
  const std::string readme = text_of(KWIND_SOURCE_DIR "/README.md");
  const std::string example = text_of(KWIND_SOURCE_DIR "/examples/lookout/server.cpp");
  const std::size_t begin = example.find("  kwind::Replication state(");
  ASSERT_NE(begin, std::string::npos);
  std::istringstream lines(example.substr(begin, example.find("  fmt::print(\"listening") - begin));
  std::string shown;
  for (std::string line; std::getline(lines, line);)
    shown += (line.size() < 2 ? line : line.substr(2)) + "\n";
  EXPECT_NE(readme.find("```cpp\n" + shown + "```"), std::string::npos) << shown;
}

TEST(Readme, HasAtMostAThousandWordsAndAProgramWithinItsFirstFortyLines) {
  const std::string readme = text_of(KWIND_SOURCE_DIR "/README.md");
  std::istringstream words(readme);
  std::size_t count = 0;
  for (std::string word; words >> word;) ++count;
  EXPECT_LE(count, 1000U);
  const auto before = readme.substr(0, readme.find("```cpp"));
  EXPECT_LE(std::count(before.begin(), before.end(), '\n'), 40);
}

TEST(Stability, NamesTheVersionsOfTheWire) {
  const std::string page = text_of(KWIND_SOURCE_DIR "/docs/stability.md");
  for (const std::string& row : {fmt::format("| link version | {} |", link::kLinkVersion),
                                 fmt::format("| state version | {} |", schema::kStateVersion)}) {
    EXPECT_NE(page.find(row), std::string::npos) << row;
  }
}

}  // namespace readme_test
}  // namespace kwind::host
