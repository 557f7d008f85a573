// Peers of different versions on one server: examples/descriptions/hails.kw speaks 1 to 3.
#include <gtest/gtest.h>

#include "hails.h"
#include "kit/sim_pair.h"
#include "kwind/host/client.h"
#include "kwind/host/server.h"
#include "kwind/io/sim/network.h"

namespace kwind::host {
namespace versions_test {

using namespace std::chrono_literals;
using namespace hails;
using kit::at;

// What a program was that was built when the description had only its first `newest` versions.
schema::ProtocolInfo built_at(std::uint16_t newest) {
  schema::ProtocolInfo info = kProtocol;
  info.version = newest;
  info.versions = kProtocol.versions.subspan(std::size_t{kProtocol.version} - newest);
  std::size_t channels = 0;  // later ones stand behind
  for (const auto& channel : kProtocol.channels) channels += channel.life.since <= newest ? 1 : 0;
  info.channels = kProtocol.channels.first(channels);
  return info;
}

Key128 key(std::uint8_t seed) {
  return {std::byte{seed}};
}

class Office : public testing::Test {
 protected:
  struct Pilot {
    schema::ProtocolInfo info;
    std::unique_ptr<Client> client;
    std::vector<Notice> heard;
    std::vector<Whisper> whispers;
    std::string ended;
  };

  Office() {
    ServerOptions options;
    options.key = kit::server_key();
    options.entropy = key(1);
    server_ = std::make_unique<Server>(network_.open(kServer), kProtocol, options);
    server_->on<Hail>([this](Peer peer, const Hail& hail) {
      heard_.emplace_back(static_cast<unsigned>(peer), hail);
    });
  }

  Pilot& join(const schema::ProtocolInfo& info) {
    pilots_.push_back(std::make_unique<Pilot>());
    Pilot& pilot = *pilots_.back();
    pilot.info = info;
    const auto number = static_cast<std::uint8_t>(pilots_.size());
    ClientOptions options;
    options.server_key = kit::server_key().public_key;
    options.entropy = key(static_cast<std::uint8_t>(number + 10));
    pilot.client = std::make_unique<Client>(network_.open(Endpoint::v4(127, 0, 1, number, 5000)),
                                            kServer, pilot.info, now_, options);
    pilot.client->on<Notice>([&pilot](const Notice& n) { pilot.heard.push_back(n); });
    pilot.client->on<Whisper>([&pilot](const Whisper& w) { pilot.whispers.push_back(w); });
    pilot.client->on_disconnect(
        [&pilot](Errc code, std::string_view reason) { pilot.ended = explain_end(code, reason); });
    run(500ms);
    return pilot;
  }

  void run(Duration time) {
    for (const Time end = now_ + time; now_ < end; now_ += 5ms) {
      server_->receive(now_);
      for (const auto& pilot : pilots_) pilot->client->receive(now_);
      server_->flush(now_);
      for (const auto& pilot : pilots_) pilot->client->flush(now_);
    }
  }

  static constexpr Endpoint kServer = Endpoint::v4(127, 0, 0, 1, 4000);
  Time now_ = at(0s);
  io::sim::Network network_{{.delay = 20ms}, 1};
  std::unique_ptr<Server> server_;
  std::vector<std::unique_ptr<Pilot>> pilots_;
  std::vector<std::pair<unsigned, Hail>> heard_;
};

TEST_F(Office, AgreesOnTheNewestVersionThatBothHave) {
  EXPECT_EQ(join(built_at(1)).client->version(), 1);
  EXPECT_EQ(join(built_at(2)).client->version(), 2);
  EXPECT_EQ(join(kProtocol).client->version(), 3);
  EXPECT_EQ(server_->version(Peer{2}), 2);
  EXPECT_EQ(server_->version(Peer{9}), 0);
}

TEST_F(Office, SendsToEachPeerWhatItsVersionKnows) {
  Pilot& old = join(built_at(1));
  Pilot& middle = join(built_at(2));
  Pilot& fresh = join(kProtocol);
  Notice notice;
  notice.from = 7;
  notice.words = "fog from the north";
  notice.tone = Tone::mayday;
  notice.mark = Mark{3, -4};
  notice.shout = true;
  EXPECT_EQ(server_->send_to_all(notice), 3U);
  run(300ms);
  for (const Pilot* pilot : {&old, &middle, &fresh}) {
    ASSERT_EQ(pilot->heard.size(), 1U);
    EXPECT_EQ(pilot->heard[0].words, notice.words);
    EXPECT_EQ(pilot->heard[0].from, 7U);
  }
  EXPECT_EQ(old.heard[0].tone, Tone::urgent) << "what stands in for mayday";
  EXPECT_FALSE(old.heard[0].mark);
  EXPECT_TRUE(old.heard[0].shout);
  EXPECT_EQ(middle.heard[0].tone, Tone::mayday);
  EXPECT_EQ(middle.heard[0].mark, notice.mark);
  EXPECT_TRUE(middle.heard[0].shout);
  EXPECT_EQ(fresh.heard[0].tone, Tone::mayday);
  EXPECT_FALSE(fresh.heard[0].shout) << "version 3 has no such field any more";
}

TEST_F(Office, HearsFromEachPeerInItsVersion) {
  Pilot& old = join(built_at(1));
  Pilot& fresh = join(kProtocol);
  Hail hail;
  hail.words = "salt for quay 4";
  hail.mark = Mark{1, 2};
  EXPECT_EQ(old.client->send(hail), Errc::none);
  EXPECT_EQ(fresh.client->send(hail), Errc::none);
  run(300ms);
  ASSERT_EQ(heard_.size(), 2U);
  EXPECT_FALSE(heard_[0].second.mark);
  EXPECT_EQ(heard_[1].second.mark, hail.mark);
}

TEST_F(Office, DoesNotSendWhatAPeersVersionLacksAndCountsIt) {
  Pilot& old = join(built_at(1));
  Pilot& fresh = join(kProtocol);
  Whisper whisper;
  whisper.words = "psst";
  EXPECT_EQ(server_->send(Peer{1}, whisper), Errc::unknown_to_peer);
  EXPECT_EQ(old.client->send(whisper), Errc::unknown_to_peer);
  EXPECT_EQ(server_->send_to_all(whisper), 1U);
  EXPECT_EQ(server_->counts().unknown_to_peer, 2U);
  EXPECT_EQ(old.client->counts().unknown_to_peer, 1U);
  run(300ms);
  EXPECT_TRUE(old.whispers.empty());
  EXPECT_EQ(fresh.whispers.size(), 1U);
}

TEST_F(Office, ARefusalNamesTheDeclarationThatDiffersAndTheOlderSide) {
  // A program whose Weather was changed without a `since`.
  std::vector<schema::DeclarationInfo> declarations(kProtocol.declarations.begin(),
                                                    kProtocol.declarations.end());
  for (auto& row : declarations) row.digest += row.name == "Weather" ? 1U : 0U;
  std::vector<schema::VersionInfo> versions(kProtocol.versions.begin() + 1,
                                            kProtocol.versions.end());
  for (auto& entry : versions) entry.digest[5] ^= std::byte{4};
  schema::ProtocolInfo info = built_at(2);
  info.declarations = declarations;
  info.versions = versions;
  EXPECT_EQ(join(info).ended,
            "the peers were built from different descriptions (in version 2 `Weather` is the first "
            "that differs; the client is older (its newest: 2, the server's: 3)); build both ends "
            "from the same description; `kwind compare` lists the changes");
  EXPECT_EQ(server_->counts().drops.of(Errc::schema_mismatch), 1U);
}

}  // namespace versions_test
}  // namespace kwind::host
