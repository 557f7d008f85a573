// Every command used wrongly: options at their limits and beyond, files that are none, output that
// cannot be written. One clear line, the right exit code, and no abort.
#include <arpa/inet.h>
#include <netinet/udp.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <unistd.h>

#include <regex>
#include <thread>

#include <nlohmann/json.hpp>

#include "cli/cli_fixture.h"
#include "cli/relay_fixture.h"
#include "kwind/io/udp_transport.h"

namespace kwind {
namespace misuse_test {

constexpr const char* kAsking =
    "protocol asking 1\nchannel c ordered\n"
    "message Hi from both on c { n : int 0..100 }\n"
    "message Up from client on c { n : int 0..100 }\n"
    "request Ask from client on c { n : int 0..3, w : text 8 } reply { m : int 0..3 }\n"
    "request Tell from server on c { n : int 0..3, w : text 8 } reply { m : int 0..3 }\n";

class Misuse : public Cli {
 protected:
  void SetUp() override {
    Cli::SetUp();
    asking_ = write("asking.kw", kAsking);
    key_ = std::string(43, 'A');
  }
  // `line` is a command of the shell in which `kwind` is the tool, and the test's folder is the
  // present one.
  Finished shell(const std::string& line) {
    return run({"/bin/sh", "-c",
                "cd " + dir_.string() + " && kwind() { " + kKwind + " \"$@\"; }; " + line});
  }
  void expect(const std::string& line, int code, const std::string& words) {
    const Finished done = shell(line);
    EXPECT_EQ(done.code, code) << line << "\n" << done.err;
    EXPECT_NE(done.err.find(words), std::string::npos) << line << "\n" << done.err;
    EXPECT_EQ(done.err.find("terminate called"), std::string::npos) << line;
  }
  std::string asking_;
  std::string key_;
};

TEST_F(Misuse, IsToldInASentence) {
  write("empty", "");
  const std::string long_ticket(701, 'a');
  const struct {
    std::string line;
    int code;
    std::string words;
  } cases[] = {
      {"kwind talk asking.kw --server 127.0.0.1:5 --plaintext --ticket abc", 2, "only encrypted"},
      {"kwind load asking.kw --server 127.0.0.1:5 --plaintext --ticket abc --bots 1 --hold 1", 2,
       "only encrypted"},
      {"kwind talk asking.kw --listen 0.0.0.0:0 --plaintext", 2, "this machine only"},
      {"kwind talk asking.kw --server 192.0.2.2:5 --plaintext", 2, "this machine only"},
      {"kwind talk asking.kw --server 127.0.0.1:5 --plaintext --server-key " + key_, 2,
       "leave the key out"},
      {"kwind talk asking.kw --server 127.0.0.1:5 --server-key " + key_ + " --ticket " +
           long_ticket,
       2, "at most 700"},
      {"kwind load asking.kw --server 127.0.0.1:5 --server-key " + key_ + " --ticket " +
           long_ticket,
       2, "at most 700"},
      {"echo 'Hi n=5' | kwind talk asking.kw --server 127.0.0.1:9 --plaintext --seconds 0.3", 1,
       "did not answer"},
      {"kwind load --harbour --bots 70000", 2, "--bots: 1 to 60000"},
      {"kwind load --harbour --bots 1 --hold 1 --server-key " + key_, 2,
       "leave FILE, --server-key"},
      {"kwind load --harbour asking.kw --bots 1 --hold 1", 2, "leave FILE"},
      {"kwind load --harbour --bots 1 --hold nan", 2, "--hold"},
      {"kwind load --harbour --bots 1 --seed -1", 2, "--seed"},
      {"kwind lag --server 127.0.0.1:5 --seed -1 --seconds 0.1", 2, "--seed"},
      {"kwind lag --server 127.0.0.1:5 --loss nan", 2, "--loss"},
      {"kwind lag --server 127.0.0.1:5 --delay nan", 2, "--delay"},
      {"kwind lag --server 127.0.0.1:5 --seconds nan", 2, "--seconds"},
      {"printf '[[step]]\\nat = nan\\n' > t.toml; kwind lag --server 127.0.0.1:5 --timetable "
       "t.toml",
       1, "`at`"},
      {"printf '[[step]]\\nat = 1\\nto_server = 50\\n' > t.toml; kwind lag --server 127.0.0.1:5 "
       "--timetable "
       "t.toml",
       1, "`to_server` is a table"},
      {"kwind demo --seconds nan", 2, "--seconds"},
      {"kwind demo --seconds 2 --bots 1 --record a.x --key-log a.x", 2, "two files"},
      {"kwind demo --seconds 2 --bots 1 --report .", 1, "is a folder"},
      {"kwind record --port 5999 --listen 127.0.0.1:99 -o x.pcapng --seconds 0.1", 2,
       "--listen goes with --server"},
      {"kwind explain asking.kw Hi 05 --output o.pcapng", 2, "go with --capture"},
      {"kwind diagnose --server 127.0.0.1:5 --server-key nothere", 1, "a key is"},
      {"kwind ticket issue --ticket-key k --server-key s --subject ''", 2, "must not be empty"},
      {"kwind ticket issue --ticket-key k --server-key s --subject \"$(printf '\\377')\"", 2,
       "no UTF-8"},
      {"kwind ticket issue --ticket-key k --server-key s --subject x --id \"$(printf '\\377')\"", 2,
       "no UTF-8"},
      {"kwind train asking.kw empty -o c.codes", 1, "no entities"},
      {"kwind check /dev/zero", 1, "/dev/zero"},
      {"printf 'protocol p 1\\ninclude \"/dev/zero\"\\n' > z.kw; kwind check z.kw", 1, "z.kw:2"},
  };
  for (const auto& each : cases) expect(each.line, each.code, each.words);
}

TEST_F(Misuse, SettingsOfARelayThatCouldNotWorkAreToldByCheck) {
  const struct {
    const char* text;
    const char* words;
  } cases[] = {
      {"[joining]\nas = \"Ask\"\n", "Ask travels from clients only"},
      {"[joining]\nas = \"Tell\"\n", "Tell belongs to a request"},
      {"[welcome]\nas = \"Tell\"\n", "Tell belongs to a request"},
      {"[leaving]\nas = \"Tell\"\n", "Tell belongs to a request"},
      {"[say]\nmessage = \"Tell\"\nfield = \"w\"\n", "Tell belongs to a request"},
      {"[messages.Up]\nto = \"nobody\"\nkeep = \"room\"\n", "Up cannot be sent to clients"},
      {"[rooms]\nfirst = \"\"\n", "`first` is the name of a room"},
      {"[admission]\npassword = \"salt \"\n", "ends with a blank"},
      {"key_file = \"nothere.key\"\n", "nothere.key"},
      {"listen = \"nonsense\"\n", "nonsense is not HOST:PORT"},
      {"plaintext = true\nlisten = \"0.0.0.0:4000\"\n", "this machine only"},
      {"[admission]\nticket_key = \"nothere.pub\"\n", "nothere.pub"},
  };
  for (const auto& each : cases) {
    write("relay.toml", std::string("description = \"asking.kw\"\n") + each.text);
    expect("kwind relay relay.toml --check", 1, each.words);
  }
  write("relay.toml", "description = \"asking.kw\"\n[messages.Up]\nto = \"nobody\"\n");
  EXPECT_EQ(shell("kwind relay relay.toml --check").code, 0);
}

TEST_F(Misuse, OutputThatCannotBeWrittenIsAFailure) {
  for (const char* command : {"--help", "relay --settings", "check asking.kw", "gen --help",
                              "demo --seconds 2 --bots 1 --json", "explain asking.kw Hi 05",
                              "lag --server 127.0.0.1:5 --seconds 0.1", "budget --help"}) {
    expect(std::string("kwind ") + command + " > /dev/full", 1, "No space left on device");
    expect(std::string("kwind ") + command + " >&-", 1, "standard output could not be written");
  }
}

// The operator's commands come from standard input: no socket may be taken for it.
TEST_F(Misuse, StrangersDatagramsAreNoCommandsWhereStandardInputIsClosed) {
  const std::string listen = "127.0.0.1:46" + std::to_string(10 + ::getpid() % 90);
  Process relay({"/bin/sh", "-c", "exec " + kKwind + " relay --listen " + listen + " <&-"});
  ASSERT_TRUE(relay.wait_for("try it: kwind talk")) << relay.err();
  auto port = io::UdpTransport::open(Endpoint::loopback(0));
  ASSERT_TRUE(port);
  const auto to = Endpoint::parse(listen);
  ASSERT_TRUE(to);
  const std::string quit = "quit\n";
  for (int i = 0; i < 20; ++i) {
    (*port)->send(Time{}, *to, std::as_bytes(std::span(quit)));
    (*port)->flush(Time{});
    ::usleep(20000);
  }
  const Finished there = run({kKwind, "diagnose", "--server", listen});
  EXPECT_NE(there.out.find("answers"), std::string::npos) << there.out << there.err;
  relay.signal(SIGTERM);
  const Finished done = relay.finish();
  EXPECT_EQ(done.out.find("closing all connections"), done.out.rfind("closing all connections"));
  EXPECT_EQ(done.code, 0) << done.err;
}

TEST_F(Misuse, AnEndlessPipeKeepsTheRelayFromNothing) {
  const std::string listen = "127.0.0.1:47" + std::to_string(10 + ::getpid() % 90);
  for (const char* pipe : {"yes who", "cat /dev/zero"}) {
    Process relay({"/bin/sh", "-c",
                   std::string(pipe) + " | exec " + kKwind + " relay --listen " + listen + " > '" +
                       (dir_ / "out.txt").string() + "' & echo $!; wait $!"});
    ASSERT_TRUE(relay.wait_for("\n"));
    const std::string process = std::to_string(std::stoi(relay.out()));
    ::usleep(400000);
    const Finished there = run({kKwind, "diagnose", "--server", listen});
    EXPECT_NE(there.out.find("answers"), std::string::npos) << there.out << there.err;
    ASSERT_EQ(run({"/bin/sh", "-c", "kill -TERM " + process}).code, 0);
    EXPECT_EQ(relay.finish().code, 0) << pipe;
  }
}

TEST_F(Misuse, KeysReplaceNoDevicePipeOrLink) {
  const fs::path fifo = dir_ / "pipe";
  ASSERT_EQ(::mkfifo(fifo.c_str(), 0600), 0);
  const Finished piped = shell(
      "cat pipe > got.txt & kwind demo --seconds 2 --bots 1 --key-log pipe; "
      "code=$?; wait; exit $code");
  EXPECT_TRUE(fs::is_fifo(fifo));
  EXPECT_NE(read(dir_ / "got.txt").find("\"cipher\""), std::string::npos)
      << "its reader got the keys";
  const std::string other = write("other", "mine\n");
  fs::create_symlink(other, dir_ / "link");
  const Finished linked = shell("kwind demo --seconds 2 --bots 1 --key-log link");
  EXPECT_EQ(linked.code, 1);
  EXPECT_NE(linked.err.find("link is not followed"), std::string::npos) << linked.err;
  EXPECT_EQ(read(other), "mine\n");
  // An old file that others may read becomes its owner's alone.
  write("old.keys", "something old that is longer than nothing\n");
  fs::permissions(dir_ / "old.keys", fs::perms::all);
  (void)shell("kwind demo --seconds 2 --bots 1 --key-log old.keys");
  EXPECT_EQ(fs::status(dir_ / "old.keys").permissions(),
            fs::perms::owner_read | fs::perms::owner_write);
  EXPECT_EQ(read(dir_ / "old.keys").find("something old"), std::string::npos);
}

TEST_F(Misuse, AScriptThatExpectsNobodySaysWhoCame) {
  Process server({kKwind, "talk", asking_, "--listen", "127.0.0.1:0", "--plaintext"});
  ASSERT_TRUE(server.wait_for("--server "));
  server.read_to_end_of_line();
  const std::string address = word_after(server.out(), "--server ");
  for (const char* what : {"here", "Hi"}) {
    const std::string script =
        write("no.talk", std::string("expect no ") + what + " within 200ms\n");
    const Finished done =
        run({kKwind, "talk", asking_, "--server", address, "--plaintext", "--script", script});
    const bool came = std::string(what) == "here";
    EXPECT_EQ(done.code, came ? 1 : 0) << done.err;
    EXPECT_EQ(done.err.find("it came: here") != std::string::npos, came) << done.err;
  }
}

TEST_F(Misuse, TheLoopbackOfIPv6WorksAsThatOfIPv4) {
  Process server({kKwind, "talk", asking_, "--listen", "[::1]:0", "--plaintext"});
  if (!server.wait_for("--server ")) GTEST_SKIP() << "no IPv6 here";
  server.read_to_end_of_line();
  const std::string address = word_after(server.out(), "--server ");
  const std::string script = write("here.talk", "expect here\nsend Hi n=7\nwait 200ms\n");
  const Finished done =
      run({kKwind, "talk", asking_, "--server", address, "--plaintext", "--script", script});
  EXPECT_EQ(done.code, 0) << done.err << done.out;
  const Finished load = run(
      {kKwind, "load", asking_, "--server", address, "--plaintext", "--bots", "2", "--hold", "1"});
  EXPECT_EQ(load.code, 0) << load.out << load.err;
}

TEST_F(Misuse, LongDatagramsAreDroppedAndCountedNotCut) {
  Process lag({kKwind, "lag", "--listen", "127.0.0.1:0", "--server", "127.0.0.1:9", "--seconds",
               "2", "--json"});
  ASSERT_TRUE(lag.wait_for_error("server at ")) << lag.err();
  const std::string where = word_after(lag.err(), "listening on ");
  const auto to = Endpoint::parse(where.substr(0, where.find(',')));
  ASSERT_TRUE(to) << lag.err();
  const int socket = ::socket(AF_INET, SOCK_DGRAM, 0);
  sockaddr_in address{};
  address.sin_family = AF_INET;
  address.sin_port = htons(to->port);
  address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  const std::vector<char> bytes(3000, 'x');
  for (int i = 0; i < 5; ++i) {
    ::sendto(socket, bytes.data(), bytes.size(), 0, reinterpret_cast<sockaddr*>(&address),
             sizeof address);
  }
  ::close(socket);
  const Finished done = lag.finish();
  EXPECT_NE(done.out.find("\"too_long\": 5"), std::string::npos) << done.out;
  EXPECT_NE(done.err.find("5 datagrams were longer than 2048 bytes"), std::string::npos);
}

// A part names no protocol: it may use what only the including file declares.
TEST_F(Misuse, FmtLaysOutPartsWhateverTheyNameAndWholeFilesOnlyIfTheyAreRight) {
  write("part.kw",
        "# for the protocol harbour\nrecord Spot {x:int 0..9 since 2\n by : peer\n"
        " of : ref Tug}\nmessage Hail from both on office{at:Spot}\n");
  EXPECT_EQ(shell("kwind fmt part.kw").code, 0);
  EXPECT_NE(read(dir_ / "part.kw").find("x  : int 0..9 since 2"), std::string::npos)
      << read(dir_ / "part.kw");
  EXPECT_EQ(shell("kwind fmt --check part.kw").code, 0);
  write("whole.kw", "protocol\tp 1\nchannel c ordered\nmessage M from client on c{at:Spot}\n");
  expect("kwind fmt whole.kw", 1, "there is no type `Spot`");
  write("broken.kw", "record Spot { x : int 0.. }\n");
  expect("kwind fmt broken.kw", 1, "broken.kw:1:");
}

// The system shows what left by segmentation offload as one packet: that is said.
TEST_F(Misuse, MergedDatagramsInARecordingAreTold) {
  const std::string number = std::to_string(20000 + ::getpid() % 20000);
  Process record({kKwind, "record", "--port", number, "--output", (dir_ / "r.pcapng").string(),
                  "--seconds", "2"});
  if (!record.wait_for("recording UDP")) GTEST_SKIP() << "needs root: " << record.err();
  const int socket = ::socket(AF_INET, SOCK_DGRAM, 0);
  const int size = 1000;
  ASSERT_EQ(::setsockopt(socket, SOL_UDP, UDP_SEGMENT, &size, sizeof size), 0);
  sockaddr_in address{};
  address.sin_family = AF_INET;
  address.sin_port = htons(static_cast<std::uint16_t>(std::stoi(number)));
  address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  const std::vector<char> bytes(8000, 'x');
  ::sendto(socket, bytes.data(), bytes.size(), 0, reinterpret_cast<sockaddr*>(&address),
           sizeof address);
  ::close(socket);
  const Finished done = record.finish();
  EXPECT_NE(done.err.find("segmentation offload"), std::string::npos) << done.err << done.out;
}

// Settings name files as seen from their own folder, wherever they were printed from.
TEST_F(Misuse, SettingsThatGoToAFileElsewhereNameTheDescriptionFromThere) {
  const Finished done = shell(
      "mkdir sub && kwind relay --settings --description asking.kw > sub/relay.toml && "
      "grep '^description' sub/relay.toml && kwind relay --check sub/relay.toml");
  EXPECT_EQ(done.code, 0) << done.err;
  EXPECT_NE(done.out.find("description = \"../asking.kw\""), std::string::npos) << done.out;
  EXPECT_NE(shell("kwind relay --settings --description asking.kw | grep '^description'")
                .out.find("description = \"asking.kw\""),
            std::string::npos);
  EXPECT_NE(shell("kwind relay --settings > sub/plain.toml; grep '^description' sub/plain.toml")
                .out.find("description = \"\""),
            std::string::npos);
}

// A step that was cut short is not one that held.
TEST_F(Misuse, ALoadThatIsStoppedSaysHowFarItWas) {
  Process load({kKwind, "load", "--harbour", "--plaintext", "--bots", "2..4/2", "--hold", "2"});
  ASSERT_TRUE(load.wait_for("\n     2 "));
  std::this_thread::sleep_for(std::chrono::milliseconds(300));  // into the next step
  load.signal(SIGINT);
  const Finished done = load.finish();
  EXPECT_NE(done.out.find("stopped at 4 bots, before they were measured\nheld at 2 bots"),
            std::string::npos)
      << done.out;
}

TEST_F(Misuse, TrainWritesOverNothingThatItReads) {
  const std::string world = KWIND_SOURCE_DIR "/examples/harbour/harbour_world.kw";
  write("d.pcapng", "anything");
  expect("kwind train " + world + " d.pcapng -o d.pcapng", 2, "is what is read; name another file");
  EXPECT_EQ(read((dir_ / "d.pcapng").string()), "anything");
}

// More words than turns of the loop: what is asked for is sent.
TEST_F(Misuse, ALoadSaysAsMuchAsItsRateStates) {
  Process server({kKwind, "talk", asking_, "--listen", "127.0.0.1:0", "--plaintext"});
  ASSERT_TRUE(server.wait_for("--server "));
  server.read_to_end_of_line();
  const std::string address = word_after(server.out(), "--server ");
  const Finished load = run({kKwind, "load", asking_, "--server", address, "--plaintext", "--bots",
                             "1", "--hold", "4", "--message-rate", "500", "--json"});
  const auto step = nlohmann::json::parse(load.out)["steps"][0];
  const double said =
      step["messages_sent"].get<double>() + step["messages_held_back"].get<double>();
  EXPECT_GT(said / step["seconds"].get<double>(), 300) << load.out << load.err;
}

// Every option of every command, with words that none of them takes: a sentence, and no fault.
TEST_F(Misuse, EveryOptionRefusesWhatItCannotBe) {
  const std::string help = shell("kwind --help").out;
  std::istringstream lines(help.substr(help.find("Subcommands:")));
  std::size_t commands = 0;
  std::size_t options = 0;
  for (std::string line; std::getline(lines, line);) {
    if (!line.starts_with("  ") || line.size() < 3 || line[2] == ' ') continue;
    const std::string command = line.substr(2, line.find(' ', 2) - 2);
    ++commands;
    std::istringstream about(shell("kwind " + command + " --help").out);
    for (std::string option; std::getline(about, option);) {
      const std::size_t at = option.find("--");
      // A flag has no value: the text behind its name is far away.
      if (at == std::string::npos || at > 8 || option.find("--help") != std::string::npos) continue;
      const std::size_t end = option.find(' ', at);
      if (end == std::string::npos || option[end + 1] == ' ') continue;
      ++options;
      const std::string name = option.substr(at, end - at);
      // Nobody means these, whatever the option is: an empty word, and 5,000 letters of nothing.
      for (const std::string value : {"''", "\"$(printf 'a%.0s' $(seq 5000))\" --no-such-option"}) {
        const Finished done = shell("kwind " + command + " " + name + " " + value + " < /dev/null");
        EXPECT_TRUE(done.code == 1 || done.code == 2)
            << command << " " << name << " " << value.substr(0, 10) << ": " << done.code;
        EXPECT_FALSE(done.err.empty()) << command << " " << name;
        EXPECT_EQ(done.err.find("terminate called"), std::string::npos) << command << " " << name;
      }
    }
  }
  EXPECT_GE(commands, 18U);
  EXPECT_GE(options, 60U);
  expect("kwind demo --seed 99999999999999999999", 2, "must be a whole number");
  // A page runs until it is stopped: what is for a run with bots alone would mean nothing.
  for (const char* option : {"--seconds 3", "--bots 4", "--rtt 50", "--loss 2", "--report a.html",
                             "--record a.pcapng", "--why Gull", "--json", "--plaintext"}) {
    expect("kwind demo --web 0 " + std::string(option), 2, "--web");
  }
}

// What the help says of a number's limits holds, for each of them.
TEST_F(Misuse, EveryNumberHasTheLimitsThatItsHelpStates) {
  const std::string help = shell("kwind --help").out;
  std::istringstream lines(help.substr(help.find("Subcommands:")));
  const std::regex option_line("^ +(?:-.,)?(--[a-z-]+) ");
  const std::regex limits("\\(([0-9.]+) to ([0-9.]+)\\)$");
  std::size_t numbers = 0;
  for (std::string line; std::getline(lines, line);) {
    if (!line.starts_with("  ") || line.size() < 3 || line[2] == ' ') continue;
    const std::string command = line.substr(2, line.find(' ', 2) - 2);
    std::istringstream about(shell("kwind " + command + " --help").out);
    std::string name;
    for (std::string text; std::getline(about, text);) {
      std::smatch found;
      if (std::regex_search(text, found, option_line)) name = found[1];
      if (!std::regex_search(text, found, limits)) continue;
      ++numbers;
      const std::string low = found[1];
      const std::string high = found[2];
      const auto of = [&](const std::string& value) {
        return shell("kwind " + command + " " + name + "=" + value +
                     " --no-such-option < /dev/null");
      };
      // A number that is permitted leaves something else to complain about.
      const std::string stated = low + " to " + high;
      for (const std::string& right : {low, high}) {
        const Finished done = of(right);
        EXPECT_EQ(done.code, 2) << command << " " << name << " " << right;
        EXPECT_TRUE(done.err.find("unknown option") != std::string::npos ||
                    done.err.find("is required") != std::string::npos)
            << command << " " << name << " " << right << ": " << done.err;
        EXPECT_EQ(done.err.find(stated), std::string::npos) << done.err;
      }
      const std::string below = low == "0" ? "-1" : std::to_string(std::stod(low) / 2);
      for (const std::string& wrong : {below, high + "9", std::string("nan"), std::string("1e999"),
                                       std::string("1x"), std::string("99999999999999999999999")}) {
        const Finished done = of(wrong);
        EXPECT_EQ(done.code, 2) << command << " " << name << " " << wrong;
        EXPECT_NE(done.err.find(stated), std::string::npos)
            << command << " " << name << " " << wrong << ": " << done.err;
      }
    }
  }
  EXPECT_GE(numbers, 40U);
}

// A service that compiles the descriptions of others must not show them its files.
TEST_F(Misuse, IncludesStayWithinTheFolderThatIsNamed) {
  fs::create_directories(dir_ / "theirs/parts");
  write("secret.kw", "enum Secret { tern }\n");
  write("theirs/parts/own.kw", "enum Own { heron }\n");
  write("theirs/fine.kw", "protocol p 1\ninclude \"parts/own.kw\"\nchannel c ordered\n");
  write("theirs/up.kw", "protocol p 1\ninclude \"../secret.kw\"\nchannel c ordered\n");
  fs::create_symlink(dir_ / "secret.kw", dir_ / "theirs/linked.kw");
  write("theirs/link.kw", "protocol p 1\ninclude \"linked.kw\"\nchannel c ordered\n");
  expect("kwind check theirs/up.kw", 0, "");
  expect("kwind --include-root theirs check theirs/fine.kw", 0, "");
  for (const std::string file : {"theirs/up.kw", "theirs/link.kw"}) {
    const Finished done = shell("kwind --include-root theirs check " + file);
    EXPECT_EQ(done.code, 1) << file;
    EXPECT_NE(done.err.find("lies outside of --include-root"), std::string::npos) << done.err;
    EXPECT_EQ(done.err.find("tern"), std::string::npos) << done.err;
  }
  expect("kwind --include-root nowhere check theirs/fine.kw", 2, "is no folder");
}

// Each client of a bad path takes a socket of the tool.
TEST_F(Misuse, ClientsThatGetNoSocketAreCounted) {
  Process lag({"/bin/bash", "-c",
               "ulimit -n 40; exec " + kKwind +
                   " lag --server 127.0.0.1:4999 --listen 127.0.0.1:0 --seconds 4"});
  ASSERT_TRUE(lag.wait_for("listening on "));
  lag.read_to_end_of_line();
  std::string address = word_after(lag.out(), "listening on ");
  address.pop_back();  // a comma
  const auto to = Endpoint::parse(address);
  ASSERT_TRUE(to) << lag.out();
  std::vector<std::unique_ptr<io::UdpTransport>> clients;
  for (int i = 0; i < 60; ++i) {
    auto client = io::UdpTransport::open(Endpoint::loopback(0));
    ASSERT_TRUE(client);
    (*client)->send(Time{}, *to, std::array<std::byte, 10>{});
    (*client)->flush(Time{});
    clients.push_back(std::move(*client));
  }
  const Finished done = lag.finish();
  EXPECT_EQ(done.code, 0);
  EXPECT_NE(done.err.find("datagrams were refused"), std::string::npos) << done.err << done.out;
}

TEST_F(Misuse, OpenedDatagramsGoToAFileOfTheirOwn) {
  // Nothing passes: the capture has its beginning alone.
  shell("kwind record --server 127.0.0.1:4999 --listen 127.0.0.1:0 -o d.pcapng --seconds 0.3");
  const std::string before = read((dir_ / "d.pcapng").string());
  ASSERT_FALSE(before.empty());
  const std::string explain = "kwind explain asking.kw --capture d.pcapng --output ";
  expect(explain + "d.pcapng", 1, "is the capture itself; name another file");
  expect(explain + "./nowhere/o.pcapng", 1, "cannot be written; is there such a folder?");
  expect(explain + ".", 1, "cannot be written; is there such a folder?");
  EXPECT_EQ(read((dir_ / "d.pcapng").string()), before);
}

TEST_F(Misuse, ALongListIsToldWithItsLength) {
  write("list.kw",
        "protocol p 1\nchannel c ordered\n"
        "message M from client on c { a : list of int 0..9 up to 3 }\n");
  expect("echo '{\"a\":[1,2,3,4,5]}' | kwind encode list.kw M", 1,
         "a: 5 is outside `length of list`");
}

// Of a server on all addresses clients need one that they can reach.
TEST_F(Misuse, TheLineToTryNamesAnAddressThatAnswers) {
  Process server({kKwind, "talk", asking_, "--listen", "0.0.0.0:0"});
  ASSERT_TRUE(server.wait_for("--server "));
  server.read_to_end_of_line();
  const std::string address = word_after(server.out(), "--server ");
  EXPECT_TRUE(address.starts_with("127.0.0.1:")) << address;
  const std::string script = write("here.talk", "expect here\n");
  const Finished done = run({kKwind, "talk", asking_, "--server", address, "--server-key",
                             word_after(server.out(), "--server-key "), "--script", script});
  EXPECT_EQ(done.code, 0) << done.err << done.out;
}

// An old key stays until the new one is whole.
TEST_F(Misuse, KeysThatCannotBeWrittenLeaveTheOldOnes) {
  ASSERT_EQ(shell("kwind keys --output secrets").code, 0);
  const std::string before = read((dir_ / "secrets/server.key").string());
  // Where the new file would be made there is a folder.
  fs::create_directory(dir_ / "secrets/server.key.new");
  write("secrets/server.key.new/x", "");
  EXPECT_EQ(shell("kwind keys --output secrets --replace").code, 1);
  EXPECT_EQ(read((dir_ / "secrets/server.key").string()), before);
  fs::remove_all(dir_ / "secrets/server.key.new");
  EXPECT_EQ(shell("kwind keys --output secrets --replace").code, 0);
  EXPECT_NE(read((dir_ / "secrets/server.key").string()), before);
}

}  // namespace misuse_test
}  // namespace kwind
