// Captures of whole connections: written, read back, opened, and every bit accounted for.
#include <gtest/gtest.h>

#include <map>
#include <set>

#include "kit/promises.h"
#include "kwind/capture/account.h"
#include "kwind/capture/key_log.h"
#include "kwind/capture/pcapng.h"
#include "kwind/language/compile.h"

namespace kwind::capture {
namespace capture_test {

using namespace std::chrono_literals;
using kit::at;
using kit::SimPair;

std::span<const std::byte> bytes_of(const std::string& text) {
  return std::as_bytes(std::span(text));
}

Packet packet(const Endpoint& from, const Endpoint& to, std::size_t size) {
  Packet made{1790000000123456789, from, to, {}};
  for (std::size_t i = 0; i < size; ++i) made.payload.push_back(static_cast<std::byte>(i * 7));
  return made;
}

TEST(Pcapng, ReadsWhatItWrites) {
  const Endpoint v4 = Endpoint::v4(10, 0, 0, 1, 4000);
  const Endpoint v6 = *Endpoint::parse("[fd00::7]:5000");
  const Endpoint other = *Endpoint::parse("[fd00::8]:6000");
  std::string file = pcapng_start("a test");
  std::vector<Packet> packets;
  for (const std::size_t size :
       {std::size_t{0}, std::size_t{1}, std::size_t{1200}, std::size_t{65507}}) {
    packets.push_back(packet(v4, Endpoint::v4(10, 0, 0, 2, 5), size));
    if (size < 65000) packets.push_back(packet(v6, other, size));
  }
  for (const Packet& each : packets) file += pcapng_packet(each);
  const auto read = read_capture(bytes_of(file));
  ASSERT_TRUE(read);
  EXPECT_FALSE(read->ends_early);
  ASSERT_EQ(read->packets.size(), packets.size());
  for (std::size_t i = 0; i < packets.size(); ++i) {
    EXPECT_EQ(read->packets[i].unix_ns, packets[i].unix_ns);
    EXPECT_EQ(read->packets[i].from, packets[i].from);
    EXPECT_EQ(read->packets[i].to, packets[i].to);
    EXPECT_EQ(read->packets[i].payload, packets[i].payload);
  }
}

TEST(Pcapng, CutOrSpoiltFilesGiveWhatIsWholeAndNeverMore) {
  std::string file = pcapng_start("");
  for (std::size_t i = 0; i < 3; ++i) {
    file += pcapng_packet(packet(Endpoint::loopback(1), Endpoint::loopback(2), 40 + i));
  }
  std::size_t max = 0;
  for (std::size_t size = 0; size < file.size(); ++size) {
    const auto read = read_capture(bytes_of(file.substr(0, size)));
    if (size < 12) {
      EXPECT_FALSE(read) << size;
      continue;
    }
    ASSERT_TRUE(read) << size;
    EXPECT_LE(read->packets.size(), 2U);
    max = std::max(max, read->packets.size());
  }
  EXPECT_EQ(max, 2U);
  for (std::size_t bit = 0; bit < file.size() * 8; ++bit) {
    std::string spoilt = file;
    spoilt[bit / 8] = static_cast<char>(spoilt[bit / 8] ^ (1 << (bit % 8)));
    const auto read = read_capture(bytes_of(spoilt));
    EXPECT_LE(read ? read->packets.size() : 0, 3U);
  }
  EXPECT_EQ(read_capture(bytes_of("no capture at all")).error(), Errc::bad_capture);
}

TEST(Pcapng, ReadsTheOlderFormatOverEthernet) {
  const std::string whole = pcapng_packet(packet(Endpoint::loopback(7), Endpoint::loopback(8), 9));
  const std::string ip = whole.substr(28, 20 + 8 + 9);
  const auto little = [](std::uint32_t value) {
    std::string out;
    for (int i = 0; i < 4; ++i) out += static_cast<char>(value >> (8 * i) & 0xff);
    return out;
  };
  const std::string ethernet = std::string(12, 'x') + std::string{8, 0} + ip;
  const std::string file = little(0xa1b2c3d4) + little(0x00040002) + little(0) + little(0) +
                           little(65535) + little(1) + little(1700000000) + little(250000) +
                           little(static_cast<std::uint32_t>(ethernet.size())) +
                           little(static_cast<std::uint32_t>(ethernet.size())) + ethernet;
  const auto read = read_capture(bytes_of(file));
  ASSERT_TRUE(read);
  ASSERT_EQ(read->packets.size(), 1U);
  EXPECT_EQ(read->packets[0].unix_ns, 1700000000250000000);
  EXPECT_EQ(read->packets[0].from, Endpoint::loopback(7));
  EXPECT_EQ(read->packets[0].payload.size(), 9U);
}

TEST(KeyLog, ReadsWhatItWritesAndNamesTheFirstWrongLine) {
  Secret32 secret = kit::secret_of(77);
  const std::string line =
      key_line({link::ConnectionId{0x0123456}, 3, true, 12, 1, secret.bytes()});
  const KeyFile read = read_keys(line + "\n" + line);
  EXPECT_EQ(read.problem, "");
  ASSERT_EQ(read.keys.size(), 2U);
  EXPECT_EQ(read.keys[1].id, link::ConnectionId{0x0123456});
  EXPECT_EQ(read.keys[1].version, 3);
  EXPECT_TRUE(read.keys[1].up);
  EXPECT_EQ(read.keys[1].phase, 12U);
  EXPECT_EQ(read.keys[1].cipher, 1);
  EXPECT_TRUE(same_secret(read.keys[1].key.bytes(), secret.bytes()));
  EXPECT_EQ(read_keys(line + "{}\n").problem, "line 2: not a key as `--key-log` writes it");
  EXPECT_NE(read_keys("{\"connection\":-1}").problem, "");
}

// Channels as every_delivery() has them; one kind on each.
constexpr const char* kDescription = R"(
protocol test 1
channel a unreliable
channel b sequenced
channel c ordered
channel d reliable
channel e sequenced repeat 3
channel f unreliable
channel g ordered bulk
message A from both on a { body : bytes 60 }
message B from both on b { body : bytes 60 }
message C from both on c { body : bytes 20000 }
message D from both on d { body : bytes 20000 }
message E from both on e { body : bytes 60 }
message F from both on f, split { body : bytes 20000 }
message G from both on g { body : bytes 20000 }
)";

// A connection on a bad path, captured where the client's datagrams arrive and the server's leave.
class Captured : public testing::Test {
 protected:
  void SetUp() override {
    compiled_ = language::compile(kDescription, "test.kw");
    ASSERT_TRUE(compiled_.errors.empty()) << compiled_.errors.front().message;
  }

  void run(link::Mode mode, Duration time = 10s) {
    kit::SimPairOptions options{.seed = 6, .conditions = {.delay = 40ms, .loss = 0.08}};
    options.mode = mode;
    options.adjust = [&](link::LinkOptions& link) {
      link.key_datagrams = 40;
      if (mode == link::Mode::encrypted) {
        link.key_log = [&](const link::KeyNote& note) { keys_ += key_line(note); };
      }
    };
    options.watch = [&](Time now, bool from_server, std::span<const std::byte> datagram) {
      const Endpoint client = SimPair::client_address();
      const Endpoint server = SimPair::server_address();
      Packet made{now.time_since_epoch().count(),
                  from_server ? server : client,
                  from_server ? client : server,
                  {}};
      made.payload.assign(datagram.begin(), datagram.end());
      packets_.push_back(std::move(made));
    };
    SimPair pair(options);
    kit::Promises promises(pair, 3);
    const auto hear = [&](bool at_server, const link::Event& event) {
      promises.hear(at_server, event);
    };
    for (Duration t{0}; t < time; t += 50ms) {
      pair.run_until(at(t), hear);
      promises.send_tick(false);
      promises.send_tick(true);
    }
    pair.run_until(at(time + 2s), hear);
    client_ = pair.client().stats();
    server_ = pair.server().stats();
    for (const bool up : {false, true}) {
      const auto bits = (up ? pair.client() : pair.server()).bits_sent();
      bits_[up ? 1 : 0].assign(bits.begin(), bits.end());
    }
  }

  // Bits of all rows of a kind, first and again.
  static std::uint64_t bits_of(const Account& account, const std::string& kind, bool up) {
    std::uint64_t bits = 0;
    for (const Row& row : account.rows()) {
      if (row.label != kind && !row.label.starts_with(kind + ",")) continue;
      bits += (up ? row.up : row.down).bits;
    }
    return bits;
  }
  static std::uint64_t count_of(const Account& account, std::string_view label, bool up) {
    std::uint64_t count = 0;
    for (const Row& row : account.rows()) {
      if (row.label.find(label) != std::string::npos) count += (up ? row.up : row.down).count;
    }
    return count;
  }

  language::Compiled compiled_;
  std::vector<Packet> packets_;
  std::string keys_;
  link::Stats client_;
  link::Stats server_;
  std::vector<std::uint64_t> bits_[2];
};

TEST_F(Captured, EveryBitOfASealedConnectionIsAccountedTo) {
  run(link::Mode::encrypted);
  AccountOptions options;
  options.observer.keys = read_keys(keys_).keys;
  ASSERT_GT(options.observer.keys.size(), 8U) << "keys must have changed";
  Account account(compiled_.protocol, options);
  std::uint64_t all[2] = {0, 0};
  for (const Packet& each : packets_) {
    const Line line = account.add(each);
    EXPECT_EQ(line.datagram.problem, Errc::none);
    std::size_t bits = 0;
    for (const Entry& entry : line.entries) bits += entry.part.bits;
    EXPECT_EQ(bits, each.payload.size() * 8) << "parts must leave no bit out";
    all[line.datagram.up ? 1 : 0] += (each.payload.size() + 28) * 8;
  }
  EXPECT_EQ(account.unopened(), 0U);
  EXPECT_EQ(account.foreign(), 0U);
  EXPECT_EQ(account.connections(), 1U);
  for (const bool up : {false, true}) {
    EXPECT_EQ(account.total_bits(up), all[up ? 1 : 0]);
    std::uint64_t rows = 0;
    for (const Row& row : account.rows()) rows += (up ? row.up : row.down).bits;
    EXPECT_EQ(rows, all[up ? 1 : 0]);
    if (up) continue;  // lost before it came here
    // The same as the sender's own account.
    const std::map<std::string, std::size_t> tags{{"A", 0}, {"B", 1}, {"E", 4}, {"F", 5}, {"G", 6}};
    for (const auto& [kind, tag] : tags) {
      EXPECT_EQ(bits_of(account, kind, up), bits_[0][tag]) << kind;
    }
  }
}

TEST_F(Captured, TellsWhyMessagesTravelAgain) {
  run(link::Mode::encrypted);
  AccountOptions options;
  options.observer.keys = read_keys(keys_).keys;
  Account account(compiled_.protocol, options);
  for (const Packet& each : packets_) account.add(each);
  for (const bool up : {false, true}) {
    const link::Stats& sender = up ? client_ : server_;
    const std::uint64_t late = count_of(account, "retransmitted after a loss", up) +
                               count_of(account, "retransmitted as a probe", up);
    // This is where the client's datagrams arrive: what was lost before is not in the capture.
    if (!up) {
      EXPECT_GT(late, 0U);
      EXPECT_NEAR(static_cast<double>(late), static_cast<double>(sender.messages_repeated),
                  static_cast<double>(sender.messages_repeated) * 0.4 + 3);
    }
    EXPECT_GT(count_of(account, "redundant copy", up), 50U);
    EXPECT_EQ(count_of(account, "spurious retransmission", up), 0U);
  }
}

// Two captures may overlap, and files of one day be joined.
TEST_F(Captured, AConnectionThatAppearsAgainIsOpenedFromItsFirstDatagram) {
  run(link::Mode::encrypted);
  AccountOptions options;
  options.observer.keys = read_keys(keys_).keys;
  Account account(compiled_.protocol, options);
  for (int round = 0; round < 3; ++round) {
    for (const Packet& each : packets_) {
      EXPECT_EQ(account.add(each).datagram.problem, Errc::none) << round;
    }
  }
  EXPECT_EQ(account.unopened(), 0U);
}

TEST_F(Captured, WithoutKeysSealedOnesStaySealedAndAreStillCounted) {
  run(link::Mode::encrypted, 2s);
  Account account(compiled_.protocol, {});
  std::set<std::string_view> forms;
  for (const Packet& each : packets_) {
    const Line line = account.add(each);
    forms.insert(line.datagram.form);
    EXPECT_FALSE(line.datagram.form == "data" && line.datagram.opened);
  }
  EXPECT_EQ(forms, (std::set<std::string_view>{"hello", "cookie", "connect", "accept", "data"}))
      << "the names of docs/wire-format.md";
  EXPECT_GT(account.unopened(), 50U);
  EXPECT_EQ(count_of(account, "encrypted, not opened", true) +
                count_of(account, "encrypted, not opened", false),
            account.unopened());
}

TEST_F(Captured, AClearConnectionNeedsNoKeysAndShowsItsFields) {
  run(link::Mode::plaintext, 2s);
  AccountOptions options;
  options.fields = true;
  Account account(compiled_.protocol, options);
  std::size_t named = 0;
  for (Packet& each : packets_) {
    const Line line = account.add(each);
    for (const Entry& entry : line.entries) {
      if (entry.part.kind == link::ObservedPart::Kind::message) ++named;
    }
  }
  EXPECT_EQ(account.unopened(), 0U);
  EXPECT_GT(named, 100U);
  // A bit that fell on the way is seen for what it is.
  Packet spoilt = packets_.back();
  spoilt.payload[spoilt.payload.size() - 5] ^= std::byte{1};
  EXPECT_EQ(account.add(spoilt).datagram.problem, Errc::bad_check);
}

TEST_F(Captured, AConnectionThatBeganBeforeIsOpenedFromItsServersAddress) {
  run(link::Mode::encrypted, 4s);
  AccountOptions options;
  options.observer.keys = read_keys(keys_).keys;
  options.observer.server = SimPair::server_address();
  Account account(compiled_.protocol, options);
  std::uint64_t opened = 0;
  for (std::size_t i = packets_.size() / 2; i < packets_.size(); ++i) {
    opened += account.add(packets_[i]).datagram.opened ? 1 : 0;
  }
  EXPECT_GT(opened, packets_.size() / 2 - 10) << "a few before the client first spoke may not be";
}

}  // namespace capture_test
}  // namespace kwind::capture
