// `kwind talk` as a process of its own, in a pipe and in a terminal; and the harbour that
// remembers.
#include <cmath>
#include <cstdio>
#include <nlohmann/json.hpp>

#include "cli/relay_fixture.h"
#include "cli/terminal.h"

namespace kwind {
namespace talk_test {

class TalkTest : public RelayTest {
 protected:
  // A talk that is a server.
  std::unique_ptr<Process> listen(const std::string& file, std::vector<std::string> more) {
    std::vector<std::string> command = {kKwind, "talk", file, "--listen", "127.0.0.1:0"};
    command.insert(command.end(), more.begin(), more.end());
    auto server = std::make_unique<Process>(command);
    EXPECT_TRUE(server->wait_for("listening: kwind talk")) << server->err();
    server->read_to_end_of_line();
    address_ = word_after(server->out(), "--server ");
    key_ = word_after(server->out(), "--server-key ");
    return server;
  }
  std::string world_ = KWIND_SOURCE_DIR "/examples/descriptions/world.kw";
};

TEST_F(TalkTest, IsAServerThatAClientCanBeTriedAgainst) {
  const auto server = listen(world_, {"--script", script("expect here\n"
                                                         "expect TakeTow barge.id=7\nreply line=3\n"
                                                         "expect TakeTow barge.id=8\n"
                                                         "refuse in_use the Lapwing has it\n"
                                                         "to 1 Spark at=1,2,3.5 toward=1,0,0\n"
                                                         "expect gone within 9s\n")});
  const Finished client =
      run(talking({"--script", script("expect here\nsend TakeTow barge=7/2\n"
                                      "expect TakeTowAnswer outcome.reply.line=3\n"
                                      "wait 300ms   # at most 4/s\nsend TakeTow barge=8\n"
                                      "expect TakeTowAnswer outcome.refused.reason=in_use "
                                      "outcome.refused.words=\"the Lapwing has it\"\n"
                                      "expect Spark at[2]=3.5\nclose\n")},
                  world_));
  EXPECT_EQ(client.code, 0) << client.err << client.out;
  const Finished done = server->finish();
  EXPECT_EQ(done.code, 0) << done.err << done.out;
}

TEST_F(TalkTest, SpeaksLinesOfJsonInPipes) {
  const auto server = listen(kPier, {"--seconds", "20"});
  Process client(talking({"--json"}));
  ASSERT_TRUE(client.wait_for("\"connected\""));
  client.write_line(R"({"type":"Hail","fields":{"words":"ahoy"}})");
  client.write_line(R"({"type":"Hail","fields":{"wods":"ahoy"}})");
  client.write_line(R"({"type":"Move","fields":{"x":2000,"y":0}})");
  client.write_line(R"({"type":"Hailed","fields":{}})");
  client.write_line("types");  // what it says is no event: not among the lines of JSON
  ASSERT_TRUE(server->wait_for("Hail words=ahoy"));
  server->write_line("Hailed pilot=3 words=\"and to you\"");
  ASSERT_TRUE(client.wait_for("and to you"));
  client.close_input();
  const Finished done = client.finish();
  EXPECT_EQ(done.code, 1) << "three lines could not be sent";
  std::vector<nlohmann::json> lines;
  std::istringstream text(done.out);
  for (std::string line; std::getline(text, line);) lines.push_back(nlohmann::json::parse(line));
  std::vector<std::string> problems;
  for (const auto& line : lines) {
    if (line["event"] == "problem") problems.push_back(line["text"]);
    if (line["event"] == "received") {
      EXPECT_EQ(line["type"], "Hailed");
      EXPECT_EQ(line["channel"], "office");
      EXPECT_EQ(line["fields"]["pilot"], 3);
    }
  }
  ASSERT_EQ(problems.size(), 3U) << done.out;
  EXPECT_NE(problems[0].find("wods"), std::string::npos) << problems[0];
  EXPECT_EQ(problems[1], "x: 2000.0 is not within real -1024..<1024 step 1/16");
  EXPECT_EQ(problems[2], "Hailed travels server -> client only");
}

TEST_F(TalkTest, AScriptThatFailsSaysWhereAndWhatCameInstead) {
  const auto relay = start({settings()});
  const std::string wanted = script(
      "expect Welcome pilot=1\nsend Hail words=ahoy\nexpect Hailed words=adieu within 300ms\n");
  const Finished done = run(talking({"--script", wanted}));
  EXPECT_EQ(done.code, 1);
  EXPECT_NE(done.err.find(wanted + ": line 3: expect Hailed words=adieu within 300ms: not within "
                                   "0.3 s; the last that came: Hailed pilot=1 words=ahoy"),
            std::string::npos)
      << done.err;
  const Finished unwanted =
      play("expect Welcome\nsend Hail words=ahoy\nexpect no Hailed within 2s\n");
  EXPECT_EQ(unwanted.code, 1);
  EXPECT_NE(unwanted.err.find("line 3"), std::string::npos) << unwanted.err;
}

TEST_F(TalkTest, EveryProblemOfAScriptIsToldBeforeItStarts) {
  const std::string wrong = script(
      "# nothing here\nsned Hail\nsend Hial words=x\nexpect Hailed word=x\nwait long\n"
      "expect Hailed words<4\nsend Move x=5000 y=0\n");
  const Finished done = run({kKwind, "talk", kPier, "--script", wrong});
  EXPECT_EQ(done.code, 1);
  for (const char* piece : {":2: \"sned\" is no step; did you mean `send`?",
                            ":3: there is no message \"Hial\"; did you mean Hail?",
                            ":4: there is no field \"word\" in it; did you mean words?",
                            ":5: \"long\" is no time; write 500ms or 2s",
                            ":7: Move: x: 5000.0 is not within real -1024..<1024 step 1/16"}) {
    EXPECT_NE(done.err.find(piece), std::string::npos) << piece << "\n" << done.err;
  }
  EXPECT_EQ(run({kKwind, "talk", kPier, "--server", "127.0.0.1:1"}).code, 2) << "no key";
  EXPECT_EQ(run({kKwind, "talk", kPier, "--listen", "127.0.0.1:0", "--server", "x:1"}).code, 2);
  EXPECT_EQ(run({kKwind, "talk", (dir_ / "none.kw").string()}).code, 1);
  const Finished nowhere = run({kKwind, "talk", kPier, "--server", "nowhere", "--plaintext"});
  EXPECT_EQ(nowhere.code, 1);
  EXPECT_NE(nowhere.err.find("nowhere"), std::string::npos) << nowhere.err;
}

TEST_F(TalkTest, TypedCommandsExplainThemselves) {
  const auto server = listen(kPier, {});
  Process client(talking({}));
  ASSERT_TRUE(client.wait_for("connected, encrypted with"));
  const std::pair<const char*, const char*> typed_lines[] = {
      {"help", "answer the oldest request that waits"},
      {"types", "send  moves     Move"},
      {"types Move", "x            real -1024..<1024 step 1/16"},
      {"who", "the server"},
      {"stats", "round trip"},
      {"reply x=1", "not sent: nobody waits for a reply"},
      {"Hial words=x", "not sent: there is no message \"Hial\"; did you mean Hail?"},
      {"Move x=far y=0", "not sent: Move: x: expected a number, found \"far\"; it is real"},
      {"Hail words=\"two words\"", "sent  office    Hail words=\"two words\""}};
  for (const auto& [typed, expected] : typed_lines) {
    client.write_line(typed);
    EXPECT_TRUE(client.wait_for(expected)) << typed << "\n" << client.out();
  }
  server->write_line("to 2 Hailed words=x");
  EXPECT_TRUE(server->wait_for("not sent: Hailed: no connection has this number"));
  server->write_line("close 1 the pier closes");
  EXPECT_TRUE(client.wait_for("the pier closes"));
  EXPECT_EQ(client.finish().code, 1);
}

TEST_F(TalkTest, TextBeyondAsciiCanBeTyped) {
  const auto server = listen(kPier, {});
  kit::Terminal client(talking({}));
  ASSERT_TRUE(client.wait_for("connected, encrypted with")) << client.shown();
  client.type("Hail words=\"h\u00e4 gr\u00fc\u00dfe\"\r");
  EXPECT_TRUE(server->wait_for("h\u00e4 gr\u00fc\u00dfe")) << client.shown();
}

TEST_F(TalkTest, WhatIsBeingTypedSurvivesWhatArrives) {
  const auto server = listen(kPier, {});
  kit::Terminal client(talking({}));
  ASSERT_TRUE(client.wait_for("connected, encrypted with")) << client.shown();
  client.type("Mo\t");  // completed
  EXPECT_TRUE(client.wait_for("Move ")) << client.shown();
  client.type("x=1 y=2\r");
  EXPECT_TRUE(client.wait_for("sent  moves     Move x=1.0 y=2.0")) << client.shown();
  EXPECT_TRUE(client.wait_for("> ")) << client.shown();
  server->write_line("Notice words=zeroth");
  EXPECT_TRUE(client.wait_for("Notice words=zeroth\r\n> ")) << client.shown();
  client.type("Hail words=later");
  EXPECT_TRUE(client.wait_for("Hail words=later")) << client.shown();
  client.type("\x1b[D");                                 // one to the left
  EXPECT_TRUE(client.wait_for("\b")) << client.shown();  // it got there before the message does
  server->write_line("Notice words=first");
  EXPECT_TRUE(client.wait_for("Notice words=first\r\n> Hail words=later\x1b[1D")) << client.shown();
  client.type("X\r");
  EXPECT_TRUE(client.wait_for("sent  office    Hail words=lateXr")) << client.shown();
  EXPECT_TRUE(client.wait_for("> ")) << client.shown();
  EXPECT_EQ(client.shown().find("zeroth\r\n> Move"), std::string::npos) << client.shown();
  client.type("\x04");  // the input ends
  EXPECT_EQ(client.exit_code(), 0) << client.shown();
}

// ---- the harbour that remembers ----

TEST_F(Cli, AHarbourRemembersItsPilotsThroughKillMinusNine) {
  const std::string store = (dir_ / "harbour.db").string();
  const std::string server_program = KWIND_BINARY_DIR "/examples/harbour_server";
  const std::string pilot_program = KWIND_BINARY_DIR "/examples/harbour_pilot";
  const auto start = [&](std::string& address) {
    auto server =
        std::make_unique<Process>(std::vector<std::string>{server_program, "0", store, "0.5"});
    EXPECT_TRUE(server->wait_for("listening on 127.0.0.1:")) << server->err();
    server->read_to_end_of_line();
    address = word_after(server->out(), "harbour_pilot ");
    return server;
  };
  // "Tern is at 1.5, 20.0", the last of them.
  const auto last_place = [](const std::string& out, const std::string& marker) {
    const std::size_t at = out.rfind(marker);
    double x = 0;
    double y = 0;
    if (at != std::string::npos) std::sscanf(out.c_str() + at + marker.size(), "%lf, %lf", &x, &y);
    return std::pair(x, y);
  };
  std::string address;
  auto server = start(address);
  Process pilot({pilot_program, address, "Tern", "30"});
  ASSERT_TRUE(server->wait_for("Tern sails from 0.0, 0.0"));
  for (int i = 0; i < 7; ++i) ASSERT_FALSE(pilot.read_line().empty());
  const auto seen = last_place(pilot.out(), "Tern is at ");
  server->signal(SIGKILL);
  (void)server->finish();
  server = start(address);
  const Finished again = run({pilot_program, address, "Tern", "1"});
  EXPECT_EQ(again.code, 0) << again.err;
  ASSERT_TRUE(server->wait_for("Tern sails from "));
  server->read_to_end_of_line();
  const auto from = last_place(server->out(), "Tern sails from ");
  const double lost = std::hypot(seen.first - from.first, seen.second - from.second);
  EXPECT_GT(std::hypot(from.first, from.second), 5) << "it had sailed for three seconds";
  // Half a second between writes, and half a second at most between what the pilot said: 8.2 m/s.
  EXPECT_LT(lost, 10);
  // It left; what was written then is where it starts, with the same server and with the next.
  const auto left = last_place(again.out, "Tern is at ");
  server->signal(SIGTERM);
  EXPECT_EQ(server->finish().code, 0);
  server = start(address);
  EXPECT_EQ(run({pilot_program, address, "Tern", "1"}).code, 0);
  ASSERT_TRUE(server->wait_for("Tern sails from "));
  server->read_to_end_of_line();
  const auto then = last_place(server->out(), "Tern sails from ");
  EXPECT_LT(std::hypot(then.first - left.first, then.second - left.second), 6);
}

TEST_F(Cli, EachPilotTellsOfItsOwnTugAndHasOneName) {
  Process server(
      {KWIND_BINARY_DIR "/examples/harbour_server", "0", (dir_ / "harbour.db").string()});
  ASSERT_TRUE(server.wait_for("listening on 127.0.0.1:"));
  server.read_to_end_of_line();
  const std::string address = word_after(server.out(), "harbour_pilot ");
  const std::string program = KWIND_BINARY_DIR "/examples/harbour_pilot";
  Process tern({program, address, "Tern", "30"});
  for (int i = 0; i < 6; ++i) ASSERT_FALSE(tern.read_line().empty());
  Process heron({program, address, "Heron", "30"});
  const std::string line = heron.read_line();
  double x = 99;
  double y = 99;
  ASSERT_EQ(std::sscanf(line.c_str(), "Heron is at %lf, %lf", &x, &y), 2) << line;
  EXPECT_LT(std::hypot(x, y), 8) << "it has just sailed; Tern is elsewhere";
  const std::string talk = std::string(KWIND_SOURCE_DIR) + "/examples/harbour/harbour.kw";
  // A name that is taken, and a second name.
  const auto run_script = [&](const char* name, const std::string& text) {
    return run(
        {kKwind, "talk", talk, "--server", address, "--plaintext", "--script", write(name, text)});
  };
  const Finished taken =
      run_script("a.talk", "send Enter name=Tern cargo=salt\nexpect gone within 5s\n");
  EXPECT_NE(taken.out.find("the name is taken"), std::string::npos) << taken.out << taken.err;
  const Finished twice = run_script(
      "b.talk",
      "send Enter name=\"Avocet\\u001b[2J\" cargo=salt\nexpect Arrival name=\"Avocet\\u001b[2J\"\n"
      "send Enter name=Plover cargo=salt\nexpect no Arrival within 500ms\n");
  EXPECT_EQ(twice.code, 0) << twice.out << twice.err;
  server.signal(SIGTERM);
  const Finished done = server.finish();
  EXPECT_NE(done.out.find("Avocet"), std::string::npos);
  EXPECT_EQ(done.out.find('\x1b'), std::string::npos);
  EXPECT_EQ(done.out.find("Plover"), std::string::npos) << done.out;
}

// Its connection is over before the server reads of its beginning.
TEST_F(Cli, TheServerInCOutlivesClientsThatLeaveAtOnce) {
  Process server({KWIND_BINARY_DIR "/examples/c_tug_server", "0"});
  ASSERT_TRUE(server.wait_for("listening: c_tug "));
  server.read_to_end_of_line();
  const std::string address = word_after(server.out(), "c_tug ");
  const std::string key = word_after(server.out(), address + " ");
  for (int i = 0; i < 5; ++i) {
    const Finished left = run(
        {kKwind, "talk", std::string(KWIND_SOURCE_DIR) + "/examples/c_tug/towage.kw", "--server",
         address, "--server-key", key, "--script", write("leave.talk", "expect here\nclose\n")});
    EXPECT_EQ(left.code, 0) << i << left.out << left.err;
  }
}

}  // namespace talk_test
}  // namespace kwind
