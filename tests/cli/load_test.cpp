// `kwind load` as a process, against servers of its own and of others.
#include <gtest/gtest.h>

#include <nlohmann/json.hpp>

#include "cli/cli_fixture.h"

namespace kwind {
namespace load_test {

TEST_F(Cli, LoadRampsBotsInTheHarbourAndDrawsIt) {
  const std::string picture = (dir_ / "load.svg").string();
  const Finished done = run({kKwind, "load", "--harbour", "--bots", "5..15/5", "--hold", "1.5",
                             "--limit", "tick=10000", "--limit", "loss=100", "--chart", picture});
  EXPECT_EQ(done.code, 0) << done.out << done.err;
  for (const char* piece :
       {"\n     5      5 ", "\n    10     10 ", "\n    15     15 ", "round trip, ms",
        "between snapshots of a bot, ms", "0 that could not be read", "held at 15 bots"}) {
    EXPECT_NE(done.out.find(piece), std::string::npos) << piece << "\n" << done.out;
  }
  EXPECT_NE(read(picture).find("server tick, 99th percentile"), std::string::npos);
}

TEST_F(Cli, LoadSaysWhichLimitBrokeAndWhatHeld) {
  const Finished done = run({kKwind, "load", "--harbour", "--plaintext", "--bots", "3",
                             "--entities", "1300..5300/2000", "--hold", "1", "--limit", "gap=0.5"});
  EXPECT_EQ(done.code, 1) << done.out;
  EXPECT_NE(done.out.find("broke at 1300 entities: gap = "), std::string::npos) << done.out;
  EXPECT_NE(done.out.find("is above 0.5: between two snapshots"), std::string::npos);
  const Finished grown = run({kKwind, "load", "--harbour", "--bots", "3", "--entities",
                              "1300..3300/2000", "--hold", "1", "--json"});
  EXPECT_EQ(grown.code, 0) << grown.err;
  const auto json = nlohmann::json::parse(grown.out);
  ASSERT_EQ(json["steps"].size(), 2U);
  EXPECT_EQ(json["steps"][1]["entities"], 3300);
  EXPECT_EQ(json["steps"][1]["there"], 3);
  EXPECT_GT(json["steps"][1]["entities_seen"].get<double>(),
            2 * json["steps"][0]["entities_seen"].get<double>());
  EXPECT_GT(json["steps"][1]["snapshots"].get<int>(), 20);
  EXPECT_EQ(json["steps"][1]["snapshots_refused"], 0);
  EXPECT_TRUE(json["broken"].is_null());
}

TEST_F(Cli, LoadEndsAtTheLastStepHoweverLargeAStepIs) {
  const Finished done =
      run({kKwind, "load", "--harbour", "--bots", "2..3/18446744073709551615", "--hold", "1"});
  EXPECT_EQ(done.code, 0) << done.out << done.err;
  EXPECT_NE(done.out.find("held at 3 bots"), std::string::npos) << done.out;
}

TEST_F(Cli, LoadSeesTicksOfItsOwnServerAlone) {
  FirstLight light;
  const Finished done =
      run({kKwind, "load", KWIND_SOURCE_DIR "/examples/first_light/harbour.kw", "--server",
           light.address, "--server-key", light.key, "--limit", "tick=5"});
  EXPECT_EQ(done.code, 2) << done.out;
  EXPECT_NE(done.err.find("with --harbour"), std::string::npos) << done.err;
}

// Bots at a server with two places.
Finished load(const FirstLight& server, std::vector<std::string> words) {
  const std::string description = KWIND_SOURCE_DIR "/examples/first_light/harbour.kw";
  words.insert(words.begin(), {kKwind, "load", description, "--server", server.address,
                               "--server-key", server.key});
  return run(words);
}

TEST_F(Cli, LoadTalksToAnyServerThatHasADescription) {
  FirstLight light;
  const Finished done =
      load(light, {"--bots", "2", "--hold", "2", "--message-rate", "20", "--json"});
  EXPECT_EQ(done.code, 0) << done.out << done.err;
  const auto step = nlohmann::json::parse(done.out)["steps"][0];
  EXPECT_EQ(step["there"], 2);
  EXPECT_GT(step["messages_sent"].get<int>(), 20);
  EXPECT_GT(step["messages_received"].get<int>(), 20);
  EXPECT_GT(step["round_trip_ms"]["count"].get<int>(), 3);
  EXPECT_TRUE(light.server.wait_for("tug 2 is gone: the peer closed the connection (the bots"))
      << "they say goodbye";
}

TEST_F(Cli, LoadSaysWhyBotsAreNotThere) {
  FirstLight light;
  const Finished full = load(light, {"--bots", "3", "--hold", "1"});
  EXPECT_EQ(full.code, 1);
  EXPECT_NE(full.out.find("1 bot: the server has no free place"), std::string::npos) << full.out;
  light.key[5] = light.key[5] == 'A' ? 'B' : 'A';
  const Finished refused = load(light, {"--bots", "2", "--hold", "1"});
  EXPECT_EQ(refused.code, 1);
  EXPECT_NE(refused.out.find("broke at 2 bots: gone = 100.00 %"), std::string::npos)
      << refused.out << refused.err;
}

TEST_F(Cli, LoadNamesWhatIsWrong) {
  const auto wrong = [](std::vector<std::string> words) {
    words.insert(words.begin(), {kKwind, "load"});
    return run(words);
  };
  struct Case {
    std::vector<std::string> words;
    int code;
    const char* says;
  };
  const std::vector<Case> cases{
      {{}, 2, "name a server with --server HOST:PORT, or --harbour"},
      {{"--harbour", "--bots", "10..5/1"}, 2, "--bots 10..5/1: write a number"},
      {{"--harbour", "--bots", "0"}, 2, "--bots 0: write a number"},
      {{"--harbour", "--limit", "speed=3"}, 2, "--limit speed=3: write NAME=NUMBER"},
      {{"--harbour", "--limit", "rtt=fast"}, 2, "round trip, 99th percentile"},
      {{"--harbour", "--server", "127.0.0.1:1"}, 2, "leave --server out"},
      {{"--harbour", "--entities", "10"}, 2, "--entities: 1300 to 60000"},
      {{"--harbour", "--bots", "1..3/1", "--entities", "1300..1400/50"}, 2, "not both"},
      {{"--server", "127.0.0.1:4000"}, 2, "name the server's description"},
      {{kHarbour, "--server", "127.0.0.1:4000"},
       2,
       "give the server's --server-key, or --plaintext"},
      {{kHarbour, "--server", "127.0.0.1", "--plaintext"}, 1, "127.0.0.1: "},
      {{kHarbour, "--server", "192.0.2.1:4000", "--plaintext"}, 2, "this machine only"},
      {{"--harbour", "--chart", "load.gif"}, 2, "--chart writes FILE.svg or FILE.png"},
      {{"--harbour", "--chart", "/no/such/load.png"}, 1, "there is no folder /no/such"},
      {{"nothing.kw", "--server", "127.0.0.1:4000", "--plaintext"}, 1, "nothing.kw"},
  };
  for (const Case& each : cases) {
    const Finished done = wrong(each.words);
    EXPECT_EQ(done.code, each.code) << each.says << done.out << done.err;
    EXPECT_NE(done.err.find(each.says), std::string::npos) << each.says << "\n" << done.err;
  }
}

}  // namespace load_test
}  // namespace kwind
