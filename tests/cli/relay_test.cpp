// `kwind relay` as a process of its own, as its operators and clients see it.
#include <sys/resource.h>

#include <nlohmann/json.hpp>

#include "cli/relay_fixture.h"
#include "cli/terminal.h"
#include "crowd.h"
#include "kwind/host/client.h"
#include "kwind/io/clock.h"
#include "kwind/io/udp_transport.h"

namespace kwind {
namespace relay_test {

using namespace std::chrono_literals;

TEST_F(RelayTest, TwoPilotsOfTheExampleTalkThroughIt) {
  for (const bool tern_first : {true, false}) {
    const auto relay = start({settings()});
    Process first(talking({"--script", tern_first ? kTern : kHeron}));
    ASSERT_TRUE(relay->wait_for("client 1 is here, from 127.0.0.1:"));
    ASSERT_TRUE(first.wait_for("Welcome pilot=1")) << first.out();
    const Finished second = run(talking({"--script", tern_first ? kHeron : kTern}));
    EXPECT_EQ(second.code, 0) << second.err << second.out;
    EXPECT_NE(second.out.find("all 7 steps held"), std::string::npos) << second.out;
    const Finished done = first.finish();
    EXPECT_EQ(done.code, 0) << done.err << done.out;
    EXPECT_TRUE(relay->wait_for(" is gone: it left"));
    relay->signal(SIGTERM);
    EXPECT_EQ(relay->finish().code, 0);
  }
}

TEST_F(RelayTest, SigtermSaysGoodbyeToEveryone) {
  const auto relay = start({settings()});
  Process one(talking({"--script", script("expect Welcome\nexpect gone within 9s\n")}));
  Process other(talking({"--json", "--seconds", "9"}));
  ASSERT_TRUE(one.wait_for("Welcome pilot="));
  ASSERT_TRUE(other.wait_for("\"connected\""));
  relay->signal(SIGTERM);
  const Finished relay_done = relay->finish();
  EXPECT_EQ(relay_done.code, 0);
  EXPECT_NE(relay_done.out.find("ended"), std::string::npos);
  const Finished one_done = one.finish();
  EXPECT_EQ(one_done.code, 0) << one_done.err;
  EXPECT_NE(one_done.out.find("the relay is shutting down"), std::string::npos) << one_done.out;
  const Finished other_done = other.finish();
  EXPECT_EQ(other_done.code, 1);
  EXPECT_NE(other_done.out.find("\"cause\":\"closed_by_peer\""), std::string::npos)
      << other_done.out;
}

TEST_F(RelayTest, ClientsFindARestartedRelayAgain) {
  const Finished keys = run({kKwind, "keys", "--output", dir_.string()});
  ASSERT_EQ(keys.code, 0) << keys.err;
  const std::string file = settings("key_file = \"server.key\"");
  auto relay = start({file});
  Process pilot(talking({"--resume", "30", "--script",
                         script("expect Welcome\nexpect lost within 20s\nexpect here within 20s\n"
                                "expect Welcome\nsend Hail words=again\nexpect Hailed words=again\n"
                                "close\n")}));
  ASSERT_TRUE(pilot.wait_for("Welcome pilot=1"));
  relay->signal(SIGKILL);
  (void)relay->finish();
  const std::string key = key_;
  relay = start({file, "--listen", address_});
  EXPECT_EQ(key_, key) << "the key is kept in its file";
  const Finished done = pilot.finish();
  EXPECT_EQ(done.code, 0) << done.err << done.out;
}

TEST_F(RelayTest, AClientComesBackAfterABreakAsWhoItWas) {
  const auto relay = start({settings()});
  const std::string cut = write("cut.toml",
                                "[[step]]\nat = 3\nloss = 100\n"
                                "[[step]]\nat = 8\nloss = 0\n");
  Process lag({kKwind, "lag", "--server", address_, "--listen", "127.0.0.1:0", "--timetable", cut,
               "--seconds", "40"});
  ASSERT_TRUE(lag.wait_for("listening on 127.0.0.1:"));
  Process witness(
      talking({"--script", script("expect Welcome pilot=1\nexpect Here pilot=2 within 9s\n"
                                  "expect Hailed pilot=2 words=ahoy within 30s\n"
                                  "expect no Left within 100ms\n")}));
  ASSERT_TRUE(witness.wait_for("Welcome"));
  const std::size_t at = lag.out().find("127.0.0.1:");
  const std::string direct = address_;
  address_ = lag.out().substr(at, lag.out().find(',', at) - at);
  const Finished done = play(
      "expect Welcome pilot=2\nexpect lost within 20s\nexpect back within 20s\n"
      "expect Here pilot=1 within 2s    # what was kept is told again\n"
      "send Hail words=ahoy\nexpect Hailed pilot=2 words=ahoy\nwait 600ms\n",
      {"--idle-timeout", "1.5", "--resume", "30"});
  EXPECT_EQ(done.code, 0) << done.err << done.out;
  EXPECT_TRUE(relay->wait_for("client 2 is back"));
  const Finished witnessed = witness.finish();
  EXPECT_EQ(witnessed.code, 0) << witnessed.err << witnessed.out;
}

TEST_F(RelayTest, ItsKeeperSeesRemovesBarsAndSpeaks) {
  const auto relay = start({settings()});
  Process pilot(talking(
      {"--script", script("expect Welcome\nexpect Notice words=\"the lock closes\" within 9s\n"
                          "expect gone within 9s\n")}));
  ASSERT_TRUE(pilot.wait_for("Welcome"));
  relay->write_line("who");
  EXPECT_TRUE(relay->wait_for("client 1  room \"pier\"  127.0.0.1:")) << relay->out();
  relay->write_line("rooms");
  EXPECT_TRUE(relay->wait_for("\"pier\"  1 there"));
  relay->write_line("stats");
  EXPECT_TRUE(relay->wait_for("1 of 64 places taken"));
  relay->write_line("say the lock closes");
  EXPECT_TRUE(relay->wait_for("said to 1"));
  relay->write_line("kik 1");
  EXPECT_TRUE(relay->wait_for("\"kik\" is no command; did you mean `kick`?"));
  relay->write_line("kick 7");
  EXPECT_TRUE(relay->wait_for("\"7\" is no client's number; `who` lists the clients"));
  relay->write_line("kick 1 too loud");
  const Finished removed = pilot.finish();
  EXPECT_EQ(removed.code, 0) << removed.err;
  EXPECT_NE(removed.out.find("too loud"), std::string::npos) << removed.out;

  Process other(talking({"--seconds", "9"}));
  ASSERT_TRUE(other.wait_for("Welcome pilot=2")) << "numbers are used again after all others";
  relay->write_line("ban 2");
  EXPECT_TRUE(relay->wait_for("client 2 is banned: \"127.0.0.1\""));
  EXPECT_EQ(other.finish().code, 1);
  const Finished banned = run(talking({"--seconds", "9"}));
  EXPECT_EQ(banned.code, 1);
  EXPECT_NE(banned.out.find("banned"), std::string::npos) << banned.out;
  EXPECT_EQ(banned.out.find("Welcome"), std::string::npos) << banned.out;
  relay->write_line("unban 127.0.0.1");
  EXPECT_TRUE(relay->wait_for("\"127.0.0.1\" may come"));
  EXPECT_EQ(play("expect Welcome\n").code, 0);
  relay->write_line("quit");
  EXPECT_EQ(relay->finish().code, 0);
}

TEST_F(RelayTest, ItsTapShowsMessagesAndNothingThatMovesACursor) {
  const auto relay = start({settings()});
  relay->write_line("tap on");
  EXPECT_EQ(play("expect Welcome\nsend Hail words=\"\\u001b[2Jred \\u202eback\"\n"
                 "expect Hailed\nclose\n")
                .code,
            0);
  EXPECT_TRUE(relay->wait_for("from   1  Hail words=\"\\u001b[2Jred \\u202eback\""))
      << relay->out();
  EXPECT_TRUE(relay->wait_for("to     1  Hailed pilot=1 words="));
  relay->write_line("tap json");
  EXPECT_EQ(play("expect Welcome\nclose\n").code, 0);
  EXPECT_TRUE(relay->wait_for("\"type\":\"Welcome\""));
  relay->write_line("tap off");
  relay->write_line("quit");
  const Finished done = relay->finish();
  EXPECT_EQ(done.out.find('\x1b'), std::string::npos);
  std::istringstream lines(done.out);
  int objects = 0;
  for (std::string line; std::getline(lines, line);) {
    if (!line.starts_with('{')) continue;
    const auto json = nlohmann::json::parse(line);
    EXPECT_TRUE(json.contains("fields") && json.contains("time") && json.contains("client"));
    ++objects;
  }
  EXPECT_GE(objects, 1);
}

TEST_F(RelayTest, ReadsItsSettingsAgainAndKeepsTheOldOnesIfTheyAreWrong) {
  const std::string file = settings();
  const auto relay = start({file});
  Process pilot(talking({"--script", script("expect Welcome\nwait 100ms\nsend Hail words=one\n"
                                            "expect Hailed words=one\n"
                                            "expect Notice within 9s\nsend Hail words=two\n"
                                            "expect no Hailed within 700ms\n")}));
  ASSERT_TRUE(pilot.wait_for("Hailed pilot=1 words=one"));
  const std::string good = read(file);
  std::string changed = good;
  changed.replace(changed.find("to = \"room\" "), 11, "to = \"others\"");
  write("pier.toml", changed + "\n[messages.Hai]\n");
  relay->signal(SIGHUP);
  EXPECT_TRUE(relay->wait_for_error("there is no message \"Hai\"; did you mean Hail?"));
  EXPECT_NE(relay->err().find(file + ":"), std::string::npos) << relay->err();
  EXPECT_TRUE(relay->wait_for("the settings stay as they were"));
  changed.insert(changed.find("listen ="), "max_clients = 10\n");
  write("pier.toml", changed);
  relay->signal(SIGHUP);
  EXPECT_TRUE(relay->wait_for("settings read again; with the next start: max_clients"))
      << relay->out();
  relay->write_line("say now");
  const Finished done = pilot.finish();
  EXPECT_EQ(done.code, 0) << done.err << done.out;
}

// The number of clients changes with the next start only: until then rules must do for the old one.
TEST_F(RelayTest, RulesOfAReloadMustDoForAsManyClientsAsThereMayBe) {
  write("few.kw",
        "protocol few 1\nchannel c ordered\n"
        "message Say from both on c { who : int 0..2, words : text 20 }\n");
  const auto settings_of = [&](int clients, bool tells_sender) {
    return write("few.toml", "description = \"few.kw\"\nlisten = \"127.0.0.1:0\"\nmax_clients = " +
                                 std::to_string(clients) + "\n[messages.Say]\n" +
                                 (tells_sender ? "sender = \"who\"\n" : ""));
  };
  const auto relay = start({settings_of(5, false)});
  settings_of(2, true);
  relay->signal(SIGHUP);
  EXPECT_TRUE(relay->wait_for_error("`who` of Say holds 0 to 2, and clients are numbered 1 to 5"));
  EXPECT_TRUE(relay->wait_for("the settings stay as they were"));
  settings_of(2, false);
  relay->signal(SIGHUP);
  EXPECT_TRUE(relay->wait_for("with the next start: max_clients"));
}

TEST_F(RelayTest, SettingsNameFileLineKeyAndWhatWouldBeRight) {
  write("pier.kw", read(kPier));
  const std::string file = write("pier.toml",
                                 "description = \"pier.kw\"\n"
                                 "listn = \"127.0.0.1:0\"\n"
                                 "max_clients = 65\n"
                                 "log = \"event\"\n"
                                 "[limits]\n"
                                 "queue_messages = \"many\"\n"
                                 "[rooms]\n"
                                 "further = [\"roads\", 3]\n");
  const Finished first = run({kKwind, "relay", file});
  EXPECT_EQ(first.code, 1);
  for (const char* piece :
       {"pier.toml:2:1: error: there is no setting `listn` here; did you mean `listen`?",
        "pier.toml:4:7: error: `log` is one of \"quiet\", \"events\", \"messages\"; did you mean "
        "\"events\"?",
        "pier.toml:6:18: error: `queue_messages` is a number from 1 to 1000000",
        "pier.toml:8:11: error: `further` is a list of names: [\"north\", \"south\"]",
        "listn = \"127.0.0.1:0\"\n"}) {
    EXPECT_NE(first.err.find(piece), std::string::npos) << piece << "\n" << first.err;
  }
  write("pier.toml",
        "description = \"pier.kw\"\nmax_clients = 65\n[messages.Hail]\nas = \"Hailed\"\n"
        "sender = \"pilot\"\n[messages.Move]\n[messages.Here]\n[messages.Sail]\nto = \"nobody\"\n"
        "enters = \"rom\"\n");
  const Finished second = run({kKwind, "relay", file});
  EXPECT_EQ(second.code, 1);
  for (const char* piece :
       {"pier.toml:5:10: error: `pilot` of Hailed holds 0 to 64, and clients are numbered 1 to 65; "
        "say `peers up to 66`, or lower max_clients",
        "pier.toml:6:1: error: Move cannot be sent to clients; name with `as` which message they "
        "get instead, or set `to` to \"nobody\"",
        "pier.toml:7:1: error: Here travels from the server only; clients cannot send it",
        "pier.toml:10:10: error: Sail has no field `rom`; did you mean `room`?"}) {
    EXPECT_NE(second.err.find(piece), std::string::npos) << piece << "\n" << second.err;
  }
  const Finished none = run({kKwind, "relay", (dir_ / "none.toml").string()});
  EXPECT_EQ(none.code, 1);
  EXPECT_NE(none.err.find("cannot read the file; `kwind relay --settings` prints one"),
            std::string::npos);
  const Finished broken = run({kKwind, "relay", write("broken.toml", "listen = \n")});
  EXPECT_EQ(broken.code, 1);
  EXPECT_NE(broken.err.find("broken.toml:1:"), std::string::npos) << broken.err;
}

TEST_F(RelayTest, ThePrintedSettingsAreCompleteAndRight) {
  const Finished plain = run({kKwind, "relay", "--settings"});
  const Finished checked = run({kKwind, "relay", "--check", write("plain.toml", plain.out)});
  EXPECT_EQ(checked.code, 0) << checked.err;
  write("pier.kw", read(kPier));
  const std::string pier = (dir_ / "pier.kw").string();
  const Finished with = run({kKwind, "relay", "--settings", "--description", pier});
  for (const char* piece :
       {"[messages.Move]", "[messages.Hail]", "# [joining]", "max_clients = 64"}) {
    EXPECT_NE(with.out.find(piece), std::string::npos) << piece;
  }
  EXPECT_EQ(with.out.find("[messages.Moved]"), std::string::npos) << "clients cannot send it";
  // It names the description that it was made for.
  const Finished with_checked = run({kKwind, "relay", "--check", write("with.toml", with.out)});
  EXPECT_EQ(with_checked.code, 0) << with_checked.err;
}

TEST_F(RelayTest, PassesOnOpaqueBytesWithoutAnySettings) {
  const std::string opaque = write("opaque.kw", run({kKwind, "relay", "--opaque"}).out);
  // A remark about rules is none.
  const std::string file =
      write("bytes.toml", "# see [messages.NAME] and [say]\nmax_clients = 3\n");
  const auto relay = start({file, "--listen", "127.0.0.1:0"});
  Process one(talking({"--script", script("expect Welcome you=1\nexpect Joined who=2 within 9s\n"
                                          "send Ordered bytes=cafe from=9\n"
                                          "expect Sequenced from=2 bytes=01ff within 9s\n"
                                          "expect Left who=2 within 9s\n")},
                      opaque));
  ASSERT_TRUE(one.wait_for("Welcome you=1"));
  const Finished two = run(talking({"--script", script("expect Welcome you=2\nexpect Joined who=1\n"
                                                       "expect Ordered from=1 bytes=cafe\n"
                                                       "send Sequenced bytes=01ff\nwait 200ms\n"
                                                       "close\n")},
                                   opaque));
  EXPECT_EQ(two.code, 0) << two.err << two.out;
  const Finished done = one.finish();
  EXPECT_EQ(done.code, 0) << done.err << done.out;
}

TEST_F(RelayTest, AsksForAPasswordOrATicket) {
  {
    const auto relay = start({settings("", "\n[admission]\npassword = \"low tide\"\n")});
    const Finished without = run(talking({"--seconds", "9"}));
    EXPECT_EQ(without.code, 1);
    EXPECT_NE(without.out.find("the server asks for a ticket"), std::string::npos) << without.out;
    EXPECT_EQ(run(talking({"--seconds", "9", "--ticket", "high tide"})).code, 1);
    for (int i = 0; i < 2; ++i) {
      EXPECT_EQ(play("expect Welcome\n", {"--ticket", "low tide"}).code, 0);
    }
  }
  const std::string secrets = (dir_ / "secrets").string();
  ASSERT_EQ(run({kKwind, "keys", "--output", secrets}).code, 0);
  EXPECT_EQ(fs::status(secrets).permissions(), fs::perms::owner_all);
  const auto relay = start({settings("key_file = \"secrets/server.key\"",
                                     "\n[admission]\nticket_key = \"secrets/ticket.pub\"\n"
                                     "banned = [\"Heron\"]\n")});
  const auto ticket = [&](const std::string& subject) {
    const Finished made = run({kKwind, "ticket", "issue", "--ticket-key", secrets + "/ticket.key",
                               "--server-key", secrets + "/server.pub", "--subject", subject});
    EXPECT_EQ(made.code, 0) << made.err;
    return write(subject + ".ticket", made.out);
  };
  EXPECT_EQ(play("expect Welcome\nclose\n", {"--ticket", ticket("Tern")}).code, 0);
  EXPECT_TRUE(relay->wait_for("client 1 \"Tern\" is here"));
  const Finished banned = run(talking({"--seconds", "9", "--ticket", ticket("Heron")}));
  EXPECT_EQ(banned.code, 1);
  EXPECT_NE(banned.out.find("banned"), std::string::npos) << banned.out;
  // A name may have a blank.
  Process seventh(talking({"--seconds", "9", "--ticket", ticket("pilot 7")}));
  ASSERT_TRUE(seventh.wait_for("Welcome pilot="));
  const std::string number = seventh.out().substr(seventh.out().find("Welcome pilot=") + 14, 1);
  relay->write_line("ban " + number);
  EXPECT_TRUE(relay->wait_for("is banned: \"pilot 7\"")) << relay->out();
  EXPECT_EQ(seventh.finish().code, 1);
  EXPECT_EQ(run(talking({"--seconds", "9", "--ticket", ticket("pilot 7")})).code, 1);
  relay->write_line("unban \"pilot 7\"");
  EXPECT_TRUE(relay->wait_for("\"pilot 7\" may come")) << relay->out();
  EXPECT_EQ(play("expect Welcome\nclose\n", {"--ticket", ticket("pilot 7")}).code, 0);
}

TEST_F(RelayTest, BansAddressesOfIPv6) {
  std::string file = settings("", "\n[admission]\nbanned = [\"::1\"]\n");
  std::string text = read(file);
  text.replace(text.find("127.0.0.1:0"), 11, "[::1]:0");
  write("pier.toml", text);
  Process relay({kKwind, "relay", file});
  if (!relay.wait_for("try it: kwind talk")) {
    // Settings that are refused are no reason to skip.
    ASSERT_EQ(relay.err().find("pier.toml"), std::string::npos) << relay.err();
    GTEST_SKIP() << "no IPv6 here: " << relay.err();
  }
  relay.read_to_end_of_line();
  address_ = word_after(relay.out(), "--server ");
  key_ = word_after(relay.out(), "--server-key ");
  EXPECT_TRUE(address_.starts_with("[::1]:")) << address_;
  const Finished banned = run(talking({"--seconds", "9"}));
  EXPECT_EQ(banned.code, 1);
  EXPECT_NE(banned.out.find("banned"), std::string::npos) << banned.out;
}

TEST_F(RelayTest, RoomsKeepTheirMembersApart) {
  const auto relay = start({settings()});
  Process lock(talking({"--script", script("expect Welcome\nsend Sail room=lock\n"
                                           "expect Here pilot=2 within 9s\n"
                                           "expect Hailed pilot=2 words=inside within 9s\n"
                                           "expect no Hailed words=outside within 300ms\n")}));
  ASSERT_TRUE(relay->wait_for("client 1 is in room \"lock\""));
  const Finished other = play(
      "expect Welcome pilot=2\nexpect no Here within 200ms\nsend Hail words=outside\n"
      "expect Hailed words=outside\nsend Sail room=lock\nexpect Here pilot=1\n"
      "send Hail words=inside\nexpect Hailed words=inside\nsend Sail room=nowhere\nwait 200ms\n");
  EXPECT_EQ(other.code, 0) << other.err << other.out;
  EXPECT_TRUE(relay->wait_for("client 2 wants to enter \"nowhere\", which is no room"));
  const Finished done = lock.finish();
  EXPECT_EQ(done.code, 0) << done.err << done.out;
}

// The 1000th client comes in, the first beyond finds no room, and when one leaves there is.
TEST_F(RelayTest, HoldsAThousandAndRefusesTheNext) {
  rlimit files{};
  ::getrlimit(RLIMIT_NOFILE, &files);
  files.rlim_cur = files.rlim_max;
  ASSERT_EQ(::setrlimit(RLIMIT_NOFILE, &files), 0);
  const std::string crowd = write("crowd.kw", read(KWIND_SOURCE_DIR "/tests/cli/crowd.kw"));
  const std::string file = write("crowd.toml",
                                 "description = \"crowd.kw\"\nlisten = \"127.0.0.1:0\"\n"
                                 "max_clients = 1000\nlog = \"quiet\"\n"
                                 "[welcome]\nas = \"Welcome\"\nsender = \"pilot\"\n");
  const auto relay = start({file});
  const auto server = io::resolve(address_);
  const auto key = link::parse_public_key(key_);
  ASSERT_TRUE(server && key);
  constexpr std::size_t kMany = 1000;
  std::vector<std::unique_ptr<io::UdpTransport>> transports;
  std::vector<std::unique_ptr<host::Client>> clients;
  std::size_t welcome = 0;
  std::uint64_t numbers = 0;
  const auto turn = [&] {
    std::vector<io::PollableTransport*> waits;
    waits.reserve(transports.size());
    for (const auto& transport : transports) waits.push_back(transport.get());
    io::wait_for_any(waits, io::now() + 5ms);
    for (const auto& client : clients) {
      client->receive(io::now());
      client->flush(io::now());
    }
  };
  for (std::size_t i = 0; i < kMany; ++i) {
    auto transport =
        io::UdpTransport::open(Endpoint::v4(127, 0, static_cast<std::uint8_t>(1 + i / 16), 1, 0));
    ASSERT_TRUE(transport);
    transports.push_back(std::move(*transport));
    host::ClientOptions who;
    who.server_key = *key;
    who.timeouts.handshake = 30s;
    who.timeouts.idle_timeout = 60s;
    clients.push_back(std::make_unique<host::Client>(*transports.back(), *server, crowd::kProtocol,
                                                     io::now(), who));
    clients.back()->on<crowd::Welcome>([&](const crowd::Welcome& hello) {
      ++welcome;
      numbers += hello.pilot;
    });
    if (i % 8 == 7) turn();
  }
  const Time end = io::now() + 60s;
  while (welcome < kMany && io::now() < end) turn();
  ASSERT_EQ(welcome, kMany);
  EXPECT_EQ(numbers, kMany * (kMany + 1) / 2) << "each number once, from 1 to 1000";
  const Finished refused = run(talking({"--seconds", "9"}, crowd));
  EXPECT_EQ(refused.code, 1);
  EXPECT_NE(refused.out.find("the server has no free place (1000 of 1000 places are taken)"),
            std::string::npos)
      << refused.out;
  clients[17]->close("home");
  for (int i = 0; i < 100 && !clients[17]->ended(); ++i) turn();
  EXPECT_TRUE(clients[17]->ended());
  // Its place stays taken while the server may still have to answer its last datagrams.
  for (const Time free = io::now() + 1500ms; io::now() < free;) turn();
  Process late(talking({"--script", script("expect Welcome pilot=18\n")}, crowd));
  while (io::now() < end && late.out().find("held") == std::string::npos) {
    turn();
    (void)late.wait_for("held", 10ms);
  }
  EXPECT_EQ(late.finish().code, 0) << late.err() << late.out();
}

TEST_F(RelayTest, EndsWithItsTerminal) {
  for (const bool by_key : {true, false}) {
    kit::Terminal relay({kKwind, "relay", settings()});
    ASSERT_TRUE(relay.wait_for("try it: kwind talk")) << relay.shown();
    ASSERT_TRUE(relay.wait_for("> "));
    relay.type("who\r");
    ASSERT_TRUE(relay.wait_for("nobody is here")) << relay.shown();
    ASSERT_TRUE(relay.wait_for("> ")) << relay.shown();
    if (by_key) {
      relay.type("\x04");
      EXPECT_TRUE(relay.wait_for("closing all connections")) << relay.shown();
    } else {
      relay.hang_up();
    }
    EXPECT_EQ(relay.exit_code(), 0);
  }
}

}  // namespace relay_test
}  // namespace kwind
