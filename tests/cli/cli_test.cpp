// The tool, the demo and the example as separate processes, with right and wrong use.
#include <gtest/gtest.h>

#include <algorithm>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <iterator>
#include <nlohmann/json.hpp>
#include <sstream>

#include "cli/cli_fixture.h"
#include "cli/relay_fixture.h"

namespace kwind {
namespace cli_test {

// Each file in cases/ holds shell commands, in which `kwind` is the tool, and what they print and
// exit with: "$ command", then its lines, then "exit N" where that is not 0.
TEST_F(Cli, CasesPrintWhatTheyShould) {
  int cases = 0;
  for (const auto& entry : fs::directory_iterator(KWIND_SOURCE_DIR "/tests/cli/cases")) {
    const std::string expected = read(entry.path());
    std::string got;
    for (std::size_t at = 0; at < expected.size();) {
      const std::size_t end = expected.find('\n', at);
      const std::string line = expected.substr(at, end - at);
      at = end + 1;
      if (!line.starts_with("$ ")) continue;
      ++cases;
      const std::string script = "cd " KWIND_SOURCE_DIR " && kwind() { " + kKwind +
                                 " \"$@\"; }; exec 2>&1; " + line.substr(2);
      const Finished done = run({"/bin/sh", "-c", script});
      got += line + "\n" + done.out;
      if (!got.ends_with('\n')) got += '\n';
      if (done.code != 0) got += "exit " + std::to_string(done.code) + "\n";
    }
    if (std::getenv("KWIND_REWRITE") != nullptr) std::ofstream(entry.path()) << got;
    EXPECT_EQ(got, expected) << entry.path();
  }
  EXPECT_GE(cases, 30);
}

TEST_F(Cli, CheckPrintsJson) {
  const Finished done = run({kKwind, "check", kHarbour, "--json"});
  EXPECT_EQ(done.code, 0);
  const auto json = nlohmann::json::parse(done.out);
  EXPECT_EQ(json["protocol"], "harbour");
  EXPECT_EQ(json["messages"][0]["name"], "Helm");
  EXPECT_EQ(json["messages"][0]["bits"]["most"], 15);
  EXPECT_EQ(json["messages"][0]["fields"][0]["type"], "real -1..1 step 1/64");
  EXPECT_TRUE(json["errors"].empty());
}

TEST_F(Cli, CheckReportsAllErrorsWithTheirPlaces) {
  const std::string file = write("wrong.kw",
                                 "protocol p 1\nchannel c orderd\nrecord R { x : int 5..1 }\n"
                                 "message M from client on c { r : Rr }\n");
  const Finished done = run({kKwind, "check", file});
  EXPECT_EQ(done.code, 1);
  EXPECT_EQ(done.out, "");
  for (const char* piece : {":2:11: error: `orderd` is not a delivery; did you mean `ordered`?",
                            ":3:20: error: the range is empty",
                            ":4:34: error: there is no type `Rr`; did "
                            "you mean `R`?",
                            "3 errors in"}) {
    EXPECT_NE(done.err.find(piece), std::string::npos) << piece << "\n" << done.err;
  }
  const Finished json = run({kKwind, "check", file, "--json"});
  EXPECT_EQ(json.code, 1);
  EXPECT_EQ(nlohmann::json::parse(json.out)["errors"].size(), 3U);
}

TEST_F(Cli, CheckSaysWhenAFileCannotBeRead) {
  for (const std::string& file : {(dir_ / "none.kw").string(), dir_.string()}) {
    const Finished done = run({kKwind, "check", file});
    EXPECT_EQ(done.code, 1);
    EXPECT_EQ(done.err, file + ": cannot read the file; check its name and permissions\n");
  }
}

TEST_F(Cli, GenWritesAHeaderOnceAndTouchesItOnlyWhenItChanges) {
  const std::string out = (dir_ / "made" / "here").string();
  const Finished first = run({kKwind, "gen", kHarbour, "--cpp", out});
  EXPECT_EQ(first.code, 0) << first.err;
  EXPECT_EQ(first.out, out + "/harbour.h: 10 headers written, 0 unchanged\n");
  EXPECT_TRUE(fs::exists(out + "/harbour/helm.h"));
  const auto written = fs::last_write_time(out + "/harbour.h");
  const Finished second = run({kKwind, "gen", kHarbour, "--cpp", out});
  EXPECT_EQ(second.out, out + "/harbour.h: 0 headers written, 10 unchanged\n");
  EXPECT_EQ(fs::last_write_time(out + "/harbour.h"), written);
  const Finished failed = run({kKwind, "gen", kHarbour, "--cpp", kHarbour});
  EXPECT_EQ(failed.code, 1);
  EXPECT_NE(failed.err.find("cannot write the file"), std::string::npos);
}

TEST_F(Cli, MisuseExitsWithTwoAndNamesTheNearest) {
  const auto misuse = [](const std::vector<std::string>& words, const std::string& expected) {
    std::vector<std::string> command = {kKwind};
    command.insert(command.end(), words.begin(), words.end());
    const Finished done = run(command);
    EXPECT_EQ(done.code, 2) << expected;
    EXPECT_NE(done.err.find(expected), std::string::npos) << done.err;
  };
  misuse({"demo", "--secnds", "3"}, "kwind demo: unknown option --secnds; did you mean --seconds?");
  misuse({"demo", "--bot=3"}, "kwind demo: unknown option --bot; did you mean --bots?");
  misuse({"chekc", kHarbour}, "kwind: unknown command chekc; did you mean check?");
  misuse({"check"}, "kwind check: FILE is required");
  misuse({"gen", kHarbour}, "kwind gen: say what to write");
  misuse({"demo", "--bots", "many"}, "--bots");
  misuse({"demo", "--bots", "41"}, "--bots");
  misuse({"demo", "--seconds", "0"}, "--seconds");
  misuse({"demo", "--loss", "99"}, "--loss");
  misuse({"demo", "--seed", "-1"}, "--seed");
  misuse({"demo", "--port", "70000"}, "--port");
  misuse({"demo", "--why", "Boat"}, "no type is called \"Boat\"; name an id, or Post, Crate");
  misuse({"demo", "--why", "gull"}, "no type is called \"gull\"");
  misuse({"demo", "--why", "0"}, "no entity has the id 0; the harbour has 1 to 1300");
  misuse({"demo", "--why", "99999999999999999999"}, "no entity has the id");
  misuse({"demo", "--why", ""}, "--why");
  EXPECT_EQ(run({kKwind}).code, 2);
}

TEST_F(Cli, HelpAndVersionSucceed) {
  const Finished help = run({kKwind, "--help"});
  EXPECT_EQ(help.code, 0);
  for (const char* word : {"check", "gen", "demo", "Example", "Exit codes"}) {
    EXPECT_NE(help.out.find(word), std::string::npos) << word;
  }
  for (const char* command : {"check", "gen", "demo"}) {
    const Finished done = run({kKwind, command, "--help"});
    EXPECT_EQ(done.code, 0);
    EXPECT_NE(done.out.find("Example"), std::string::npos) << command;
  }
  EXPECT_EQ(run({kKwind, "--version"}).out, "kwind 0.2.0\n");
}

TEST_F(Cli, DemoEndsInAgreementAndAReport) {
  const std::string report = (dir_ / "demo.html").string();
  // It runs in real time: where the machine stood still, the late joiner's second may have passed.
  Finished done;
  for (int attempt = 0; attempt < 3 && done.code != 0; ++attempt) {
    done =
        run({kKwind, "demo", "--seconds", "4", "--bots", "5", "--seed", "3", "--report", report});
  }
  EXPECT_EQ(done.code, 0) << done.out << done.err;
  for (const char* piece :
       {"datagrams are encrypted", " s   5 clients", "5 of 5 bots agree with the server", "as JSON",
        "late joiner           bot 5", "of 1300 in view", "Notice", "built-in codes", "bearing"}) {
    EXPECT_NE(done.out.find(piece), std::string::npos) << piece << "\n" << done.out;
  }
  const std::string html = read(report);
  EXPECT_NE(html.find("<span class=mode>encrypted</span>"), std::string::npos);
  std::size_t charts = 0;
  for (std::size_t at = html.find("<svg"); at != std::string::npos; at = html.find("<svg", at + 1))
    ++charts;
  EXPECT_EQ(charts, 4U);
  EXPECT_EQ(html.find("src="), std::string::npos) << "nothing is loaded from elsewhere";
}

TEST_F(Cli, DemoPrintsJsonAloneOnStdout) {
  const Finished done =
      run({kKwind, "demo", "--seconds", "3", "--bots", "2", "--loss", "10", "--json"});
  const auto json = nlohmann::json::parse(done.out);
  EXPECT_EQ(json["all_agree"], done.code == 0) << json.dump(1);
  EXPECT_EQ(json["mode"], "encrypted");
  EXPECT_EQ(json["bots"].size(), 2U);
  // As few as these where the machine stood still for most of the time.
  EXPECT_GT(json["bytes_sent"], 1000);
  EXPECT_GT(json["values_compared"], 50);
  EXPECT_GT(json["json_text_ratio"], 50);
  EXPECT_GT(json["per_client_tick"]["in_view"], 10);
  EXPECT_NE(done.err.find("clients"), std::string::npos) << "progress goes to stderr";
}

TEST_F(Cli, DemoSaysWhyEachClientGotAnUpdateOfAnEntity) {
  const Finished done = run(
      {kKwind, "demo", "--seconds", "4", "--bots", "2", "--loss", "0", "--why", "Tug", "--json"});
  const auto json = nlohmann::json::parse(done.out);
  const auto& why = json["why"];
  EXPECT_EQ(why["type"], "Tug");
  EXPECT_GT(why["entity"], 0);
  ASSERT_EQ(why["clients"].size(), 2U);
  int updates = 0;
  for (const auto& client : why["clients"]) {
    // Every tick has one reason or form; forms add up to the updates.
    const auto of = [&](const char* form) { return client["ticks"].value(form, 0); };
    EXPECT_EQ(of("full") + of("delta") + of("despawn") + of("fragments"), client["updates"]);
    EXPECT_EQ(client["updates"] == 0, client["bits"] == 0);
    updates += static_cast<int>(client["updates"]);
  }
  EXPECT_GT(updates, 5) << "a pilot sees the own tug: " << why.dump(1);

  const Finished text = run({kKwind, "demo", "--seconds", "2", "--bots", "1", "--why", "1"});
  for (const char* part : {"an update of entity 1, a Post, and why not", "bits each",
                           "longest wait, ticks", "out of view"}) {
    EXPECT_NE(text.out.find(part), std::string::npos) << part << "\n" << text.out;
  }
}

TEST_F(Cli, DemoNamesABusyPortAFullServerAndAMissingFolder) {
  FirstLight holder;
  const std::string port = holder.address.substr(holder.address.find(':') + 1);
  const Finished busy = run({kKwind, "demo", "--seconds", "2", "--port", port});
  EXPECT_EQ(busy.code, 1);
  EXPECT_EQ(busy.err,
            "cannot listen on 127.0.0.1:" + port +
                ": another program is using the address and port; choose another with --port, "
                "or 0 for any\n");
  const Finished full = run({kKwind, "demo", "--seconds", "3", "--bots", "3", "--capacity", "1"});
  EXPECT_EQ(full.code, 1);
  EXPECT_NE(
      full.out.find("does not agree: the server has no free place (1 of 1 places are taken); try "
                    "again when somebody has left"),
      std::string::npos)
      << full.out;
  const Finished folder = run({kKwind, "demo", "--report", (dir_ / "no" / "r.html").string()});
  EXPECT_EQ(folder.code, 1);
  EXPECT_NE(folder.err.find("there is no folder"), std::string::npos);
}

TEST_F(Cli, FirstLightClientsSeeEachOther) {
  FirstLight light;
  Process first({kClient, light.address, light.key, "3"});
  ASSERT_TRUE(light.server.wait_for("tug 1 is here"));
  Process second({kClient, light.address, light.key, "2"});
  ASSERT_TRUE(light.server.wait_for("tug 2 is here"));
  const Finished third = run({kClient, light.address, light.key, "1"});
  EXPECT_EQ(third.code, 1);
  EXPECT_EQ(third.err,
            light.address +
                ": the server has no free place (2 of 2 places are taken); try again when "
                "somebody has left\n");
  const Finished b = second.finish();
  EXPECT_EQ(b.code, 0) << b.err;
  EXPECT_NE(b.out.find("connected, encrypted with "), std::string::npos) << b.out;
  EXPECT_NE(b.out.find("tug 1 is at "), std::string::npos) << b.out;
  const Finished a = first.finish();
  EXPECT_EQ(a.code, 0);
  EXPECT_NE(a.out.find("tug 2 is at "), std::string::npos);
  EXPECT_TRUE(
      light.server.wait_for("tug 1 is gone: the peer closed the connection (the tour is over)"));
}

TEST_F(Cli, FirstLightNamesABusyPortAnUnreachableServerAndAWrongKey) {
  FirstLight light;
  const std::string port = light.address.substr(light.address.find(':') + 1);
  const Finished busy = run({kServer, port});
  EXPECT_EQ(busy.code, 1);
  EXPECT_EQ(busy.err, "cannot listen on `127.0.0.1:" + port +
                          "`: another program is using the address and port\n");
  const Finished nobody = run({kClient, "127.0.0.1:9", light.key});
  EXPECT_EQ(nobody.code, 1);
  EXPECT_EQ(nobody.err,
            "127.0.0.1:9: the server did not answer (no answer to the hello); check the address "
            "and port, "
            "that the server is running, and firewalls between\n");
  std::string other = light.key;
  other[7] = other[7] == 'A' ? 'B' : 'A';
  EXPECT_EQ(run({kClient, light.address, other}).err,
            light.address +
                ": the client holds another public key than this server's; ask for the server's "
                "present public key\n");
  EXPECT_EQ(run({kClient, "nonsense", light.key}).err,
            "server `nonsense`: the address cannot be understood or does not exist here; write "
            "HOST:PORT\n");
  EXPECT_EQ(
      run({kClient, light.address, "short"}).err,
      "server key `short`: a key is 43 characters of base64url; give the key or a file with it\n");
  EXPECT_EQ(run({kClient}).code, 2);
}

TEST_F(Cli, KeysAndTicketsGoTogether) {
  const std::string keys = dir_.string();
  const Finished made = run({kKwind, "keys", "--output", keys, "--json"});
  ASSERT_EQ(made.code, 0) << made.err;
  const auto json = nlohmann::json::parse(made.out);
  EXPECT_EQ(json["server_public_key"].get<std::string>() + "\n", read(keys + "/server.pub"));
  EXPECT_EQ(made.out.find(read(keys + "/server.key").substr(0, 43)), std::string::npos);
  for (const char* secret : {"/server.key", "/ticket.key"}) {
    EXPECT_EQ(fs::status(keys + secret).permissions(),
              fs::perms::owner_read | fs::perms::owner_write);
  }
  const std::string before = read(keys + "/server.key");
  const Finished again = run({kKwind, "keys", "--output", keys});
  EXPECT_EQ(again.code, 1);
  EXPECT_NE(again.err.find("is there already; nothing was written"), std::string::npos);
  EXPECT_EQ(read(keys + "/server.key"), before);

  const auto ticket = [&](const std::string& word, const std::vector<std::string>& more) {
    std::vector<std::string> command = {kKwind, "ticket", word};
    command.insert(command.end(), more.begin(), more.end());
    return run(command);
  };
  const Finished issued =
      ticket("issue", {"--ticket-key", keys + "/ticket.key", "--server-key", keys + "/server.pub",
                       "--subject", "pilot 7", "--claims", R"({"boat":"Tern"})"});
  ASSERT_EQ(issued.code, 0) << issued.err;
  const std::string text = issued.out.substr(0, issued.out.size() - 1);
  const std::vector<std::string> with = {"--ticket-key", keys + "/ticket.pub", "--server-key",
                                         json["server_public_key"]};
  auto words = with;
  words.insert(words.end(), {text, "--json"});
  const Finished good = ticket("check", words);
  EXPECT_EQ(good.code, 0) << good.err;
  EXPECT_EQ(nlohmann::json::parse(good.out)["boat"], "Tern");
  words[4] = text.substr(0, text.size() - 4) + "AAAA";
  const Finished forged = ticket("check", words);
  EXPECT_EQ(forged.code, 1);
  EXPECT_NE(forged.err.find("its signature is not of this key"), std::string::npos) << forged.err;
  EXPECT_EQ(ticket("show", {text}).code, 0);
  EXPECT_EQ(ticket("show", {"nonsense"}).code, 1);
  EXPECT_EQ(ticket("issue", {"--ticket-key", keys + "/ticket.pub", "--server-key",
                             keys + "/server.pub", "--subject", "x"})
                .err,
            keys +
                "/ticket.pub: not a private Ed25519 key as JSON Web Key; `kwind keys` writes "
                "ticket.key and ticket.pub\n");
  EXPECT_EQ(run({kKwind, "ticket"}).code, 2);
}

TEST_F(Cli, LagPutsABadPathBeforeARealServer) {
  FirstLight light;
  Process lag({kKwind, "lag", "--server", light.address, "--listen", "127.0.0.1:0", "--delay", "30",
               "--to-client-loss", "20", "--seconds", "5", "--json"});
  ASSERT_TRUE(lag.wait_for_error("listening on 127.0.0.1:"));
  const std::size_t at = lag.err().find("127.0.0.1:");
  const std::string address = lag.err().substr(at, lag.err().find(',', at) - at);
  Process other({kClient, light.address, light.key, "4"});
  const Finished through = run({kClient, address, light.key, "2"});
  EXPECT_EQ(through.code, 0) << through.err;
  EXPECT_NE(through.out.find("tug 1 is at "), std::string::npos) << through.out;
  EXPECT_EQ(other.finish().code, 0);
  const Finished done = lag.finish();
  EXPECT_EQ(done.code, 0) << done.err;
  const auto json = nlohmann::json::parse(done.out);
  EXPECT_EQ(json["clients"], 1);
  EXPECT_GT(json["to_server"]["datagrams"], 20);
  EXPECT_EQ(json["to_server"]["lost"], 0);
  EXPECT_GT(json["to_client"]["lost"], 0);
}

TEST_F(Cli, LagNamesWhatIsWrong) {
  const auto wrong = [](const std::vector<std::string>& words, int code, const std::string& what) {
    std::vector<std::string> command = {kKwind, "lag"};
    command.insert(command.end(), words.begin(), words.end());
    const Finished done = run(command);
    EXPECT_EQ(done.code, code) << what;
    EXPECT_NE(done.err.find(what), std::string::npos) << done.err;
  };
  wrong({}, 2, "--server HOST:PORT is required");
  wrong({"--server", "127.0.0.1:9", "--preset", "tunel"}, 2, "did you mean `tunnel`?");
  wrong({"--server", "nowhere"}, 1, "--server nowhere: not HOST:PORT");
  wrong({"--server", "127.0.0.1:9", "--loss", "101"}, 2, "--loss");
  wrong({"--server", "127.0.0.1:9", "--timetable", (dir_ / "none.toml").string()}, 1,
        "cannot read the file");
  const auto table = [&](const std::string& text, const std::string& what) {
    wrong({"--server", "127.0.0.1:9", "--timetable", write("t.toml", text)}, 1, what);
  };
  table("[[step]]\nat = 1\nlos = 5\n",
        "t.toml:3:7: no setting is called `los`; did you mean `loss`?");
  table("[[step]]\nat = 1\nloss = 500\n", "t.toml:3:8: `loss` is a number from 0 to 100");
  table("[[step]]\nat = 2\n[[step]]\nat = 1\n", "later than the step before");
  table("[[step]]\nat = 1\npreset = \"busy\"\n", "did you mean `bus`?");
  table("speed = 3\n", "a timetable is one [[step]] after the other");
  table("[[step\n", "t.toml:1:");
}

// docs/guide/evolution.md: three descriptions, and what `compare` says of the first and each other
// one; and two with entities.
TEST_F(Cli, TheGuideToEvolutionShowsWhatCompareSays) {
  const std::string page = read(KWIND_SOURCE_DIR "/docs/guide/evolution.md");
  const auto blocks = [&](const std::string& language) {
    std::vector<std::string> found;
    const std::string fence = "```" + language + "\n";
    for (std::size_t at = 0; (at = page.find(fence, at)) != std::string::npos;) {
      at += fence.size();
      found.push_back(page.substr(at, page.find("```", at) - at));
    }
    return found;
  };
  const auto descriptions = blocks("kw");
  const auto outputs = blocks("text");
  ASSERT_EQ(descriptions.size(), 5U);
  ASSERT_EQ(outputs.size(), 4U);
  const std::string wrong = [&] {
    std::string text = descriptions[1];
    return text.replace(text.find("text 60"), 7, "text 80");
  }();
  const std::string newer[] = {descriptions[1], wrong, descriptions[2], descriptions[4]};
  for (std::size_t i = 0; i < 4; ++i) {
    write("old.kw", descriptions[i < 3 ? 0 : 3]);
    write("new.kw", newer[i]);
    const Finished done =
        run({"/bin/sh", "-c", "cd " + dir_.string() + " && " + kKwind + " compare old.kw new.kw"});
    EXPECT_EQ(done.out, outputs[i]) << i << done.err;
    EXPECT_EQ(done.code, i == 1 ? 1 : 0) << i;
  }
}

TEST(Readme, ShowsDescriptionAndServerOfFirstLightAsTheyAre) {
  const std::string readme = read(KWIND_SOURCE_DIR "/README.md");
  for (const char* file : {"harbour.kw", "server.cpp"}) {
    const std::string text = read(std::string(KWIND_SOURCE_DIR "/examples/first_light/") + file);
    EXPECT_NE(readme.find("\n" + text + "```"), std::string::npos) << file;
    EXPECT_LE(std::count(text.begin(), text.end(), '\n'), 60) << file;
  }
}

}  // namespace cli_test
}  // namespace kwind
