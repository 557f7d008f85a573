// A client that could not read a state snapshot gets all of its view again, whatever the reason,
// without the game's help: attached late, replaced, a handler that threw, a request that was lost.
// Server and client of the host area over the simulated network, in virtual time.
#include <gtest/gtest.h>

#include <memory>
#include <optional>
#include <stdexcept>

#include "kit/sim_hosts.h"
#include "kwind/replica/client_replicator.h"
#include "kwind/replica/client_world.h"
#include "kwind/replica/inputs.h"
#include "moving_bay.h"

namespace kwind {
namespace resync_test {

using namespace std::chrono_literals;
using replica::ClientReplicator;
using replica::ClientWorld;
using replica::RelevantEntity;

constexpr Duration kTick = 50ms;

// A bay whose entities all move, a server that tells one client of all of it, and that client.
class Resync : public testing::Test {
 protected:
  Resync() {
    bay_.populate(3, 4, 4, 4);
    server_.on_connect([this](host::Peer peer) { peer_ = peer; });
    server_.on_payload([this](host::Peer, std::span<const std::byte> payload, std::size_t bits) {
      if (lose_requests_ > 0 && !payload.empty()) {
        --lose_requests_;
        return Errc::none;
      }
      const Errc error = receiver_.receive(payload, bits, &replicator_);
      if (error == Errc::none) ++heard_;
      return error;
    });
  }
  void attach() {
    client_world_ = std::make_unique<ClientWorld>(bay::kEntities);
    sender_ = std::make_unique<replica::InputSender>(*client_world_);
  }
  void listen() {
    client_.on_payload([this](std::span<const std::byte> payload, std::size_t bits) {
      const std::uint64_t snapshot = snapshots_++;
      if (throw_at_ && snapshot == *throw_at_)
        throw std::runtime_error("a handler that fails once");
      return client_world_->receive(payload, bits);
    });
  }
  void run(Duration time) {
    for (Duration t{0}; t < time; t += kTick) {
      bay_.step(0.02);
      seen_.clear();
      for (const auto& [id, one] : bay_.all()) seen_.push_back({id, false});
      replicator_.see(seen_);
      if (peer_ != host::Peer{}) server_.schedule_payload(peer_, &replicator_, 1);
      if (sender_ != nullptr) client_.schedule_payload(sender_.get(), 1);
      hosts_.run(kTick);
    }
  }
  // What the client world has is what the server has; the snapshot of the last tick may be in
  // flight.
  void expect_in_step(const std::string& what) {
    EXPECT_GT(client_world_->tick() + 4, bay_.world().tick()) << what << ": nothing newer came";
    EXPECT_EQ(kit::difference(*client_world_, bay_), "") << what;
    EXPECT_EQ(client_world_->size(), bay_.all().size()) << what;
  }

  kit::MovingBay bay_{1};
  kit::SimHosts hosts_{bay::kProtocol};
  host::Server& server_ = hosts_.server();
  host::Client& client_ = hosts_.join();
  ClientReplicator replicator_{bay_.world()};
  replica::InputReceiver receiver_;
  std::unique_ptr<ClientWorld> client_world_;
  std::unique_ptr<replica::InputSender> sender_;
  host::Peer peer_{};
  std::vector<RelevantEntity> seen_;
  std::uint64_t snapshots_ = 0;
  std::uint64_t heard_ = 0;
  std::size_t lose_requests_ = 0;
  std::optional<std::uint64_t> throw_at_;
};

TEST_F(Resync, ForAClientThatAttachesASecondLate) {
  run(1s);
  attach();
  listen();
  run(1s);
  expect_in_step("after a second");
  EXPECT_GT(client_.counts().drops.of(Errc::payload_not_taken), 10U) << "counted, not silent";
  EXPECT_EQ(replicator_.counts().resyncs, 1U);
  EXPECT_EQ(client_world_->waiting(), 0U);
  EXPECT_GT(client_world_->counts().unread, 0U);
}

TEST_F(Resync, ForAClientThatAttachesAMinuteLate) {
  run(60s);
  attach();
  listen();
  run(500ms);
  expect_in_step("half a second after it attached");
  EXPECT_EQ(replicator_.counts().resyncs, 1U);
}

TEST_F(Resync, ForAMirrorThatIsReplaced) {
  attach();
  listen();
  run(5s);
  for (int i = 0; i < 3; ++i) {
    sender_.reset();
    client_.schedule_payload(nullptr, 0);
    attach();
    run(2s);
    expect_in_step("mirror " + std::to_string(i));
  }
  EXPECT_EQ(replicator_.counts().resyncs, 3U);
}

TEST_F(Resync, AfterAHandlerThrewAtAnySnapshot) {
  attach();
  listen();
  run(1s);
  for (std::uint64_t snapshot = 0; snapshot < 200; ++snapshot) {
    throw_at_ = snapshots_;
    run(1200ms);  // a second may pass until the server grants the next resync
    expect_in_step("frame " + std::to_string(*throw_at_));
    if (HasFailure()) return;
  }
}

TEST_F(Resync, IsAskedForAgainWhenTheRequestIsLost) {
  attach();
  listen();
  run(1s);
  throw_at_ = snapshots_;
  lose_requests_ = 2;
  run(300ms);
  EXPECT_GT(client_world_->waiting(), 0U);
  run(2s);
  expect_in_step("two requests were lost");
  EXPECT_GE(sender_->resyncs_requested(), 3U);
}

TEST_F(Resync, CompleteIsFalseWhileAChangeWaitsBehindOneInFlight) {
  attach();
  listen();
  run(1s);
  std::size_t waiting = 0;
  for (int i = 0; i < 10; ++i) {
    run(1s);
    bay::Gull gull;
    gull.speed = 8;
    bay_.spawn(gull);
    run(2 * kTick);  // all of it is in flight
    waiting += replicator_.complete() ? 0 : 1;
  }
  EXPECT_GE(waiting, 5U);
}

TEST_F(Resync, AClientWorldTakesTheTickRateOfTheServer) {
  client_world_ = std::make_unique<ClientWorld>(bay::kEntities, 30);
  sender_ = std::make_unique<replica::InputSender>(*client_world_);
  EXPECT_EQ(client_world_->ticks_per_second(), 30);
  listen();
  run(5s);
  EXPECT_GT(client_world_->size(), 0U);
  EXPECT_EQ(client_world_->ticks_per_second(), 20);
  EXPECT_GT(client_world_->counts().digests, 0U);
  EXPECT_EQ(client_world_->counts().desyncs, 0U);
}

TEST_F(Resync, AMirrorWithOtherCodesIsToldSo) {
  const auto others =
      std::make_shared<const replica::CodeTables>(replica::SymbolCounts(bay::kEntities));
  client_world_ = std::make_unique<ClientWorld>(bay::kEntities, 20, others);
  sender_ = std::make_unique<replica::InputSender>(*client_world_);
  listen();
  run(1s);
  EXPECT_EQ(client_world_->size(), 0U);
  EXPECT_GT(client_.counts().drops.of(Errc::code_tables), 0U);
  EXPECT_EQ(client_world_->counts().desyncs, 0U);
}

// Codes of one kind of snapshots take half as much again for the other: nobody gets them by
// mistake.
TEST_F(Resync, CodesTrainedOnOtherSnapshotsAreRefused) {
  replica::SymbolCounts symbol_counts(bay::kEntities);
  EXPECT_FALSE(replica::CodeTables(symbol_counts).trained_on());
  replicator_.count_into(&symbol_counts);
  attach();
  listen();
  run(1s);
  ASSERT_EQ(symbol_counts.snapshot_modes(), replica::SnapshotModes::exact);
  replica::SymbolCounts at_client_world(bay::kEntities);
  client_world_->count_into(&at_client_world);
  run(1s);
  EXPECT_EQ(at_client_world.snapshot_modes(), replica::SnapshotModes::exact);
  const auto codes = std::make_shared<const replica::CodeTables>(
      replica::SymbolCounts::fitted(bay::kEntities, symbol_counts));
  ASSERT_EQ(codes->trained_on(), replica::SnapshotModes::exact);
  const auto read =
      replica::read_codes(replica::text_of(*codes, bay::kEntities, "bay"), bay::kEntities);
  ASSERT_TRUE(read) << read.error().line << ": " << read.error().text;
  EXPECT_EQ((*read)->trained_on(), replica::SnapshotModes::exact);
  const ClientReplicator fits(bay_.world(), {.codes = codes});
  EXPECT_DEATH(ClientReplicator(bay_.world(), {.speculative_baselines = true, .codes = codes}), "");
  symbol_counts.count_snapshots_of(replica::SnapshotModes::speculative_baselines);
  EXPECT_FALSE(replica::CodeTables(symbol_counts).trained_on()) << "a mixture";
}

TEST_F(Resync, AMirrorMayMoveOrEndUnderItsSender) {
  attach();
  replica::InputSender& sender = *sender_;
  auto elsewhere = std::make_unique<ClientWorld>(std::move(*client_world_));
  client_world_ = std::move(elsewhere);
  run(1s);  // nobody listens: the client is blank
  listen();
  run(1s);
  expect_in_step("asked for by a sender whose mirror moved");
  EXPECT_GT(sender.resyncs_requested(), 0U);
  client_.on_payload(nullptr);
  client_world_.reset();
  run(1s);
  EXPECT_EQ(sender.used(), 0U);
  sender.put(bay::Hail{"ahoy"});
  run(200ms);
  EXPECT_EQ(receiver_.newest(), 1U) << "inputs go on";
  client_world_ = std::make_unique<ClientWorld>(bay::kEntities);
  ClientWorld fresh(bay::kEntities);
  *client_world_ =
      std::move(fresh);  // in place of the one that the sender was made for: it has none
  EXPECT_EQ(sender.used(), 0U);
}

TEST_F(Resync, IsGrantedOnceASecond) {
  attach();
  listen();
  run(1s);
  std::size_t limited = 0;
  for (int i = 0; i < 200; ++i) {  // ten seconds of a request in every tick
    run(kTick);
    // A snapshot that the server has long forgotten: nothing can be said against the request.
    limited += replicator_.receive_resync_request(static_cast<std::uint32_t>(i) % 128U) ==
                       Errc::rate_limited
                   ? 1
                   : 0;
  }
  EXPECT_LE(replicator_.counts().resyncs, 10U);
  EXPECT_GE(limited, 150U);
}

// A request may cross with the news of the loss: what the lost snapshot told is told again as it
// is, and nothing newer builds on it.
TEST(ResyncRequest, IsNotGrantedForASnapshotThatIsKnownLost) {
  kit::MovingBay bay{1};
  bay.populate(3, 4, 4, 4);
  ClientReplicator replicator(bay.world());
  const auto next = [&] {
    bay.step(0.02);
    std::vector<RelevantEntity> seen;
    for (const auto& [id, one] : bay.all()) seen.push_back({id, false});
    replicator.see(seen);
    std::vector<std::byte> memory(1200);
    bits::Writer out(memory);
    return static_cast<std::uint32_t>(replicator.fill(Time{}, out).value());
  };
  replicator.acked(next());
  const std::uint32_t lost = next();
  replicator.lost(lost);
  EXPECT_EQ(replicator.receive_resync_request(lost), Errc::unexpected);
  EXPECT_EQ(replicator.counts().resyncs, 0U);
  EXPECT_EQ(replicator.receive_resync_request(next()), Errc::none)
      << "its baseline was acknowledged: only the client can know what is wrong";
  EXPECT_EQ(replicator.counts().resyncs, 1U);
}

// A full resync that overtakes a delta of the time before: its base is forgotten, so the client
// must not wait for the base, and must not ask for another resync.
TEST(ResyncRequest, IsNotMadeForADeltaThatAResyncOvertook) {
  kit::MovingBay bay{1};
  bay.populate(3, 4, 4, 4);
  ClientReplicator replicator(bay.world());
  struct Snapshot {
    std::uint64_t token = 0;
    std::vector<std::byte> bytes;
    std::size_t bits = 0;
  };
  const auto next = [&] {
    bay.step(0.02);
    std::vector<RelevantEntity> seen;
    for (const auto& [id, one] : bay.all()) seen.push_back({id, false});
    replicator.see(seen);
    Snapshot made;
    made.bytes.resize(1200);
    bits::Writer out(made.bytes);
    made.token = replicator.fill(Time{}, out).value();
    out.finish();
    made.bits = out.bit_count();
    return made;
  };
  ClientWorld client_world(bay::kEntities);
  const auto take = [&](const Snapshot& one) { return client_world.receive(one.bytes, one.bits); };
  const Snapshot first = next();
  EXPECT_EQ(take(first), Errc::none);
  replicator.acked(first.token);
  const Snapshot late = next();
  replicator.resync();
  const Snapshot full = next();
  EXPECT_EQ(take(full), Errc::none);
  EXPECT_EQ(take(late), Errc::replayed);
  EXPECT_FALSE(client_world.wants_resync());
  EXPECT_EQ(client_world.counts().waited, 0U);
  replicator.acked(full.token);
  EXPECT_EQ(take(next()), Errc::none) << "it goes on from the full one";
}

TEST_F(Resync, ReportsAreHeardOnceInAWhile) {
  attach();
  listen();
  run(1s);
  std::vector<std::byte> empty(1);
  EXPECT_EQ(replicator_.receive_desync_report(empty, 1), Errc::value_range) << "it names nothing";
  const std::uint64_t before = replicator_.counts().full_resyncs;
  // An entity that is as it should be: it differs where the report does not reach, and all is told
  // anew.
  const auto& [id, one] = *bay_.all().begin();
  std::vector<std::byte> memory(256);
  bits::Writer out(memory);
  out.put_bool(true);
  out.put_count(id - 1 + 1000, 3);  // no such entity
  out.put(one.ref.generation, 4);
  out.put(0, 16);
  out.put_count(0, 3);
  out.put_bool(false);
  out.finish();
  EXPECT_EQ(replicator_.receive_desync_report(memory, out.bit_count()), Errc::none);
  EXPECT_EQ(replicator_.counts().full_resyncs, before + 1);
  EXPECT_EQ(replicator_.receive_desync_report(memory, out.bit_count()), Errc::rate_limited);
  EXPECT_EQ(replicator_.counts().full_resyncs, before + 1);
  run(1s);
  EXPECT_EQ(replicator_.receive_desync_report(memory, out.bit_count()), Errc::none);
}

}  // namespace resync_test
}  // namespace kwind
