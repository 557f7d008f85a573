// Captures from the command line: recorded, explained, trained on.
#include <gtest/gtest.h>

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <iterator>
#include <nlohmann/json.hpp>

#include "cli/cli_fixture.h"
#include "cli/relay_fixture.h"
#include "kit/sweep.h"

namespace kwind {
namespace capture_cli_test {

TEST_F(Cli, ADemoIsRecordedAndExplained) {
  const std::string capture = (dir_ / "demo.pcapng").string();
  const std::string keys = (dir_ / "demo.keys").string();
  const std::string opened = (dir_ / "opened.pcapng").string();
  const Finished demo = run({kKwind, "demo", "--seconds", "3", "--bots", "3", "--loss", "8",
                             "--record", capture, "--key-log", keys});
  EXPECT_NE(demo.out.find("KEYS of all datagrams are written to " + keys), std::string::npos)
      << demo.out << demo.err;
  EXPECT_EQ(fs::status(keys).permissions(), fs::perms::owner_read | fs::perms::owner_write);
  const Finished done = run({kKwind, "explain", kWorld, "--capture", capture, "--key-log", keys,
                             "--output", opened, "--first", "0", "--fields", "--json"});
  ASSERT_EQ(done.code, 0) << done.err;
  const auto json = nlohmann::json::parse(done.out);
  EXPECT_EQ(json["connections"], 3);
  EXPECT_EQ(json["not_opened"], 0);
  double rows = 0;
  for (const auto& row : json["rows"]) {
    rows += row["up"]["bytes"].get<double>() + row["down"]["bytes"].get<double>();
  }
  EXPECT_DOUBLE_EQ(rows, json["bytes_up"].get<double>() + json["bytes_down"].get<double>());
  std::size_t schedules = 0;
  std::size_t hails = 0;
  for (const auto& datagram : json["datagrams"]) {
    for (const auto& part : datagram.value("parts", nlohmann::json::array())) {
      if (part["what"] == "state") ++schedules;
      if (part["what"] != "Hail") continue;
      ++hails;
      EXPECT_EQ(part["fields"][0]["path"], "count");
    }
  }
  EXPECT_GT(schedules, 200U) << "state down, inputs up";
  EXPECT_GT(hails, 0U);

  const Finished people = run({kKwind, "explain", kWorld, "--capture", opened, "--first", "40"});
  EXPECT_EQ(people.code, 0) << people.err;
  EXPECT_NE(people.out.find("Enter on office"), std::string::npos) << people.out;
  EXPECT_NE(people.out.find("more; --first 0 lists them all"), std::string::npos);
  const Finished locked = run({kKwind, "explain", kWorld, "--capture", capture, "--first", "1"});
  EXPECT_EQ(locked.code, 1);
  EXPECT_NE(locked.err.find("datagrams stay encrypted; --key-log FILE opens them"),
            std::string::npos);
  // The keys fit, the description does not: that is what is said.
  const Finished other =
      run({kKwind, "explain", kHarbour, "--capture", capture, "--key-log", keys, "--first", "1"});
  EXPECT_EQ(other.code, 1);
  EXPECT_NE(other.err.find("datagrams are open and do not fit " + kHarbour), std::string::npos)
      << other.err;
  EXPECT_EQ(other.err.find("keys are not in that file"), std::string::npos) << other.err;
}

// Some minutes of traffic. A pcapng file may have several sections: those of a short one, again and
// again.
TEST_F(Cli, ALongCaptureIsReadToItsEnd) {
  const std::string capture = (dir_ / "short.pcapng").string();
  const std::string keys = (dir_ / "short.keys").string();
  run({kKwind, "demo", "--seconds", "5", "--bots", "4", "--record", capture, "--key-log", keys});
  const std::string text = read(capture);
  ASSERT_GT(text.size(), 10000U);
  const std::size_t copies = (std::size_t{kit::kSanitized ? 3 : 12} << 20) / text.size();
  std::string long_text;
  for (std::size_t i = 0; i < copies; ++i) long_text += text;
  const std::string long_capture = write("long.pcapng", long_text);
  const auto datagrams = [&](const std::string& file) {
    const Finished done =
        run({kKwind, "explain", kWorld, "--capture", file, "--key-log", keys, "--json"});
    EXPECT_EQ(done.code, 0) << done.err;
    std::size_t count = 0;
    if (done.code != 0) return count;
    const auto explained = nlohmann::json::parse(done.out);
    for (const auto& row : explained["rows"]) {
      if (row["what"] != "headers") continue;
      count += row["up"]["count"].get<std::size_t>() + row["down"]["count"].get<std::size_t>();
    }
    return count;
  };
  const std::size_t short_count = datagrams(capture);
  EXPECT_GT(short_count, 50U);
  EXPECT_EQ(datagrams(long_capture), copies * short_count);
  const Finished trained = run({kKwind, "train", kWorld, long_capture, "--key-log", keys, "-o",
                                (dir_ / "long.codes").string()});
  EXPECT_EQ(trained.code, 0) << trained.err;
}

TEST_F(Cli, CodesAreTrainedTriedAndUsed) {
  const std::string capture = (dir_ / "day.pcapng").string();
  const std::string keys = (dir_ / "day.keys").string();
  const std::string codes = (dir_ / "day.codes").string();
  run({kKwind, "demo", "--seconds", "6", "--bots", "6", "--record", capture, "--key-log", keys});
  const Finished made =
      run({kKwind, "train", kWorld, capture, "--key-log", keys, "-o", codes, "--advise"});
  ASSERT_EQ(made.code, 0) << made.err;
  EXPECT_EQ(made.err, "");
  // From what cannot be read no codes are made.
  const std::string none = (dir_ / "none.codes").string();
  const auto other = [&](const std::string& description) {
    const Finished done = run({kKwind, "train", KWIND_SOURCE_DIR "/examples/" + description,
                               capture, "--key-log", keys, "-o", none});
    EXPECT_EQ(done.code, 1);
    EXPECT_FALSE(fs::exists(none));
    return done.err;
  };
  const std::string unread = other("lookout/lookout.kw");
  EXPECT_NE(unread.find("no state could be read"), std::string::npos) << unread;
  // The server spoke version 1, and this one has another version 2.
  const std::string older = other("descriptions/world.kw");
  EXPECT_NE(older.find("train with the one that the server had"), std::string::npos) << older;
  for (const char* piece : {"Gull", "bearing", "entropy", "with tables trained on other clients",
                            "Snapshots", "Tug.speed: `hold` takes", "both ends have to hold it",
                            "all snapshots were exact: a server with speculative baselines"}) {
    EXPECT_NE(made.out.find(piece), std::string::npos) << piece << made.out;
  }
  const std::string text = read(codes);
  EXPECT_EQ(text.rfind("kwind code tables 3 for harbour_world\ndigest ", 0), 0U);
  const Finished fits =
      run({kKwind, "train", kWorld, capture, "--key-log", keys, "--check", codes, "--json"});
  EXPECT_EQ(fits.code, 0) << fits.out << fits.err;
  const auto json = nlohmann::json::parse(fits.out);
  EXPECT_EQ(json["fits"], true);
  EXPECT_EQ(json["unread"], 0);
  EXPECT_EQ(json["clients"], 6);
  EXPECT_EQ(json["modes"], "exact");
  // In use, and agreed in the handshake.
  const Finished used =
      run({kKwind, "demo", "--seconds", "3", "--bots", "2", "--code-tables", codes});
  EXPECT_NE(used.out.find("trained codes"), std::string::npos) << used.out << used.err;

  const auto wrong = [](const std::vector<std::string>& words, int code, const std::string& what) {
    std::vector<std::string> command = {kKwind, "train"};
    command.insert(command.end(), words.begin(), words.end());
    const Finished done = run(command);
    EXPECT_EQ(done.code, code) << what << done.out;
    EXPECT_NE(done.err.find(what), std::string::npos) << done.err;
  };
  wrong({kWorld, capture}, 2, "say either -o FILE, to write code tables, or --check FILE");
  wrong({kWorld, capture, "-o", codes}, 1, "were not opened: give their keys with --key-log");
  wrong({kWorld, keys, "-o", codes}, 1, "a pcapng or pcap file is needed");
  wrong({kHarbour, capture, "-o", codes}, 1, "has no entities");
  std::string changed = text;
  changed.replace(changed.find("Gull continuing 1 ") + 18, 1, "9");
  const std::string bad = write("bad.codes", changed);
  wrong({kWorld, capture, "--key-log", keys, "--check", bad}, 1, "bad.codes:");
  wrong({kWorld, capture, "--key-log", keys, "--check", write("no.codes", "no codes")}, 1,
        "make one with `kwind train`");
  const Finished demo = run({kKwind, "demo", "--seconds", "2", "--code-tables", bad});
  EXPECT_EQ(demo.code, 1);
  EXPECT_NE(demo.err.find("train the tables again"), std::string::npos) << demo.err;
}

TEST_F(Cli, ExplainNamesWhatIsWrongWithACapture) {
  const auto wrong = [](const std::vector<std::string>& words, int code, const std::string& what) {
    std::vector<std::string> command = {kKwind, "explain", kHarbour};
    command.insert(command.end(), words.begin(), words.end());
    const Finished done = run(command);
    EXPECT_EQ(done.code, code) << what;
    EXPECT_NE(done.err.find(what), std::string::npos) << done.err;
  };
  wrong({}, 2, "MESSAGE and HEX are required, or --capture FILE");
  wrong({"Helm", "50", "--capture", "x"}, 2, "not both");
  wrong({"--capture", (dir_ / "none").string()}, 1, "cannot be read");
  const std::string text = write("text", "a letter, not a capture");
  wrong({"--capture", text}, 1, "a pcapng or pcap file is needed, as `kwind record` writes");
  const std::string empty = write("empty.pcapng", "");
  const std::string nobody = (dir_ / "nobody.pcapng").string();
  run({kKwind, "record", "--port", "5998", "--output", nobody, "--seconds", "0.3"});
  if (fs::exists(nobody)) {  // recording a port takes rights that not everybody has
    const Finished none = run({kKwind, "explain", kHarbour, "--capture", nobody, "--json"});
    EXPECT_TRUE(nlohmann::json::parse(none.out)["rows"].empty()) << none.out;
  }
  wrong({"--capture", empty}, 1, "the file is no capture");
  const std::string capture = (dir_ / "d.pcapng").string();
  // Whether its bots agree is another test's business.
  run({kKwind, "demo", "--seconds", "2", "--bots", "1", "--loss", "0", "--plaintext", "--record",
       capture});
  ASSERT_TRUE(fs::exists(capture));
  wrong({"--capture", capture, "--key-log", text}, 1, "line 1: not a key");
  const std::string whole = read(capture);
  const std::string cut = write("cut.pcapng", whole.substr(0, whole.size() / 2 * 2 - 6));
  const Finished early = run({kKwind, "explain", kWorld, "--capture", cut, "--first", "1"});
  EXPECT_EQ(early.code, 0);
  EXPECT_NE(early.err.find("ends within a packet; what came before it is shown"), std::string::npos)
      << early.err;
}

TEST_F(Cli, RecordStandsBetweenAClientAndItsServer) {
  FirstLight light;
  const std::string capture = (dir_ / "seen.pcapng").string();
  Process record({kKwind, "record", "--server", light.address, "--listen", "127.0.0.1:0",
                  "--output", capture, "--json"});
  ASSERT_TRUE(record.wait_for_error("listening on 127.0.0.1:"));
  const std::size_t at = record.err().find("127.0.0.1:");
  const std::string address = record.err().substr(at, record.err().find(',', at) - at);
  EXPECT_EQ(run({kClient, address, light.key, "1"}).code, 0);
  record.signal(SIGINT);
  const Finished done = record.finish();
  EXPECT_EQ(done.code, 0) << done.err;
  EXPECT_GT(nlohmann::json::parse(done.out)["datagrams"], 15);
  const Finished explained =
      run({kKwind, "explain", KWIND_SOURCE_DIR "/examples/first_light/harbour.kw", "--capture",
           capture, "--json"});
  const auto json = nlohmann::json::parse(explained.out);
  EXPECT_EQ(json["connections"], 1);
  EXPECT_EQ(json["datagrams"][0]["form"], "hello");
  EXPECT_EQ(json["datagrams"][0]["bytes"], 1200);
  EXPECT_EQ(json["datagrams"][1]["form"], "cookie");
  EXPECT_EQ(json["datagrams"][2]["form"], "connect");
  EXPECT_EQ(json["datagrams"][3]["form"], "accept");

  EXPECT_EQ(run({kKwind, "record", "--output", capture}).code, 2);
  EXPECT_EQ(run({kKwind, "record", "--output", capture, "--port", "4000", "--server", "x:1"}).code,
            2);
  const Finished nowhere = run({kKwind, "record", "--output", (dir_ / "no" / "f").string(),
                                "--server", light.address, "--listen", "127.0.0.1:0"});
  EXPECT_EQ(nowhere.code, 1);
  EXPECT_NE(nowhere.err.find("cannot be written"), std::string::npos);
}

}  // namespace capture_cli_test
}  // namespace kwind
