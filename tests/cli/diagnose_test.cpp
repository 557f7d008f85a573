// `kwind diagnose` as a process, against servers that answer, refuse and are silent.
#include <gtest/gtest.h>

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <iterator>
#include <nlohmann/json.hpp>

#include "cli/cli_fixture.h"
#include "cli/relay_fixture.h"

namespace kwind {
namespace diagnose_cli_test {

TEST_F(Cli, DiagnoseGoesAsFarAsItCanAndNamesTheFirstWrongStep) {
  FirstLight light;
  const std::string description = KWIND_SOURCE_DIR "/examples/first_light/harbour.kw";
  const auto diagnose = [&](const std::vector<std::string>& words) {
    std::vector<std::string> command = {kKwind, "diagnose", "--json", "--seconds", "1"};
    command.insert(command.end(), words.begin(), words.end());
    const Finished done = run(command);
    auto json = nlohmann::json::parse(done.out, nullptr, false);
    EXPECT_EQ(json["fine"], done.code == 0) << done.out << done.err;
    return json["steps"];
  };
  const auto open = diagnose(
      {"--server", light.address, "--server-key", light.key, "--description", description});
  std::vector<std::string> names;
  for (const auto& step : open) {
    names.push_back(step["step"]);
    EXPECT_EQ(step["found"], "fine") << step;
  }
  EXPECT_EQ(names, (std::vector<std::string>{"name", "route", "port", "link version", "mode", "key",
                                             "description", "ticket", "connection", "round trip",
                                             "datagrams", "loss"}));
  EXPECT_EQ(open[10]["text"], "up to 1472 bytes pass");

  const auto last = [&](const std::vector<std::string>& words) { return diagnose(words).back(); };
  const auto keyless = last({"--server", light.address});
  EXPECT_EQ(keyless["step"], "key");
  EXPECT_EQ(keyless["found"], "unknown");
  EXPECT_EQ(last({"--server", light.address, "--plaintext"})["step"], "mode");
  EXPECT_EQ(last({"--server", light.address, "--server-key", std::string(43, 'A')})["text"],
            "this is not the public key of that server");
  EXPECT_EQ(last({"--server", light.address, "--server-key", light.key, "--description",
                  kHarbour})["text"],
            "this server speaks `first_light`");
  EXPECT_EQ(last({"--server", light.address, "--server-key", light.key, "--tcp"})["step"], "port");
  EXPECT_EQ(last({"--server", "127.0.0.1:9"})["text"],
            "the machine is there, and nobody listens on UDP port 9");
  EXPECT_EQ(last({"--server", "no.such.host.invalid:1"})["step"], "name");
  EXPECT_EQ(run({kKwind, "diagnose", "--server", light.address, "--server-key", "short"}).code, 1);
  EXPECT_EQ(run({kKwind, "diagnose", "--server", light.address, "--ticket", "x"}).code, 2);
  EXPECT_EQ(run({kKwind, "diagnose"}).code, 2);
}

// Over a path of 200 ms the first copy of what it sends is answered after that, whatever it sent
// meanwhile.
TEST_F(Cli, DiagnoseMeasuresFromTheCopyThatWasAnswered) {
  FirstLight light;
  Process lag({kKwind, "lag", "--server", light.address, "--listen", "127.0.0.1:0", "--delay",
               "100", "--seconds", "10", "--json"});
  ASSERT_TRUE(lag.wait_for_error("listening on 127.0.0.1:"));
  const std::size_t at = lag.err().find("127.0.0.1:");
  const std::string address = lag.err().substr(at, lag.err().find(',', at) - at);
  const Finished done =
      run({kKwind, "diagnose", "--server", address, "--server-key", light.key, "--seconds", "1"});
  const std::string found = word_after(done.out, "answers after ");
  ASSERT_FALSE(found.empty()) << done.out << done.err;
  EXPECT_GE(std::stod(found), 199) << done.out;
}

TEST_F(Cli, DiagnoseTellsAFirewallFromAClosedPort) {
  // A socket that takes and never answers is what a silent drop looks like.
  FirstLight light;
  Process lag({kKwind, "lag", "--server", light.address, "--listen", "127.0.0.1:0", "--loss", "100",
               "--seconds", "20"});
  ASSERT_TRUE(lag.wait_for("listening on 127.0.0.1:"));
  const std::size_t at = lag.out().find("127.0.0.1:");
  const std::string address = lag.out().substr(at, lag.out().find(',', at) - at);
  const Finished done = run({kKwind, "diagnose", "--server", address});
  EXPECT_EQ(done.code, 1);
  EXPECT_NE(done.out.find("nothing came back in 4 tries: a firewall drops"), std::string::npos)
      << done.out;
}

}  // namespace diagnose_cli_test
}  // namespace kwind
