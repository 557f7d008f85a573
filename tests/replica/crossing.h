// A replicator and a client world with a path between them that is slow, loses, doubles and
// overtakes snapshots; what the client world holds is compared with the bay after each that it
// takes.
#pragma once
#include <gtest/gtest.h>

#include <map>
#include <memory>
#include <set>
#include <utility>
#include <vector>

#include "moving_bay.h"

namespace kwind::kit {

// A path for snapshots in ticks: they and what becomes of them take their time, get lost, doubled,
// overtaken.
struct Path {
  double loss = 0;
  double doubled = 0;
  double late = 0;          // share that takes up to 12 ticks longer
  double mistaken = 0;      // share of those that arrive and are taken for lost
  int one_way = 1;          // ticks
  std::size_t room = 1200;  // bytes of a snapshot
  int snapshots_a_tick = 2;
  bool speculative_baselines = false;
};

class Crossing {
 public:
  Crossing(MovingBay& bay, const Path& path,
           std::shared_ptr<const replica::CodeTables> codes = nullptr)
      : bay_(bay),
        path_(path),
        replicator_(bay.world(), {.speculative_baselines = path.speculative_baselines}),
        client_world_(bay::kEntities, 20, std::move(codes)) {}

  replica::ClientReplicator& replicator() { return replicator_; }
  replica::ClientWorld& client_world() { return client_world_; }
  Path& path() { return path_; }
  void see(std::vector<replica::RelevantEntity> seen) {
    seen_ = std::move(seen);
    replicator_.see(seen_);
  }
  void see_all() {
    std::vector<replica::RelevantEntity> seen;
    for (const auto& [id, one] : bay_.all()) seen.push_back({id, id % 5 == 0});
    see(std::move(seen));
  }

  // What the tick that has just ended makes leave, and what arrives meanwhile.
  void tick() {
    ++now_;
    for (int i = 0; i < path_.snapshots_a_tick; ++i) {
      std::vector<std::byte> memory(path_.room);
      bits::Writer out(memory);
      const auto token = replicator_.fill(Time{}, out);
      if (!token) break;
      bits_ += out.bit_count();
      memory.resize(out.finish());
      for (const std::byte byte : memory) {  // FNV-1a
        digest_ = (digest_ ^ std::to_integer<std::uint64_t>(byte)) * 0x100000001b3U;
      }
      const bool lost = bay_.chance(path_.loss);
      const auto arrival = [&] {
        const int extra = bay_.chance(path_.late) ? static_cast<int>(bay_.random()() % 12) : 0;
        return now_ + path_.one_way + extra;
      };
      const int when = arrival();
      if (!lost) under_way_.emplace(when, Snapshot{memory, out.bit_count(), *token});
      if (!lost && bay_.chance(path_.doubled)) {
        under_way_.emplace(arrival(), Snapshot{memory, out.bit_count(), *token});
      }
      if (lost) fates_.emplace(now_ + 2 * path_.one_way + 2, std::pair(*token, false));
    }
    while (!under_way_.empty() && under_way_.begin()->first <= now_) {
      const Snapshot snapshot = std::move(under_way_.begin()->second);
      under_way_.erase(under_way_.begin());
      const Errc error = client_world_.receive(snapshot.bytes, snapshot.bits);
      if (error == Errc::none || error == Errc::base_missing) {
        if (!spoilt_ && error == Errc::none) {
          ASSERT_EQ(difference(client_world_, bay_), "") << "after frame " << snapshot.token;
        }
        const bool mistaken = path_.mistaken > 0 && bay_.chance(path_.mistaken);
        fates_.emplace(now_ + path_.one_way, std::pair(snapshot.token, !mistaken));
      } else {
        ASSERT_EQ(error, Errc::replayed) << error_info(error).name << " frame " << snapshot.token;
      }
    }
    std::vector<std::byte> memory(1200);
    bits::Writer out(memory);
    if (client_world_.report(out) > 0) {
      memory.resize(out.finish());
      reports_.emplace(now_ + path_.one_way, std::pair(std::move(memory), out.bit_count()));
    }
    while (!reports_.empty() && reports_.begin()->first <= now_) {
      const auto [bytes, bits] = std::move(reports_.begin()->second);
      reports_.erase(reports_.begin());
      ASSERT_EQ(replicator_.receive_desync_report(bytes, bits), Errc::none);
    }
    while (!fates_.empty() && fates_.begin()->first <= now_) {
      const auto [token, arrived] = fates_.begin()->second;
      fates_.erase(fates_.begin());
      if (arrived) {
        replicator_.acked(token);
      } else {
        replicator_.lost(token);
      }
    }
  }
  /// The client world's copy was changed behind its back.
  void note_spoilt() { spoilt_ = true; }
  /// Of all snapshots so far.
  [[nodiscard]] std::uint64_t digest() const { return digest_; }
  void count_from_here() {
    bits_ = 0;
    counted_from_ = now_;
  }
  [[nodiscard]] double bytes_a_tick_since() const {
    return static_cast<double>(bits_) / 8 / (now_ - counted_from_);
  }

  // Whether the client sees what it is to see, as it stands.
  void expect_complete() {
    std::set<std::uint32_t> wanted;
    std::set<std::uint32_t> there;
    std::set<std::uint32_t> owned;
    std::set<std::uint32_t> owned_there;
    for (const replica::RelevantEntity& seen : seen_) {
      wanted.insert(seen.id);
      if (seen.owner) owned.insert(seen.id);
    }
    for (const auto& ref : client_world_.entities()) {
      there.insert(ref.id);
      if (client_world_.owns(ref)) owned_there.insert(ref.id);
      EXPECT_TRUE(bay_.world().is_alive(ref)) << ref.id;
    }
    EXPECT_EQ(there, wanted);
    EXPECT_EQ(owned_there, owned);
    EXPECT_EQ(client_world_.size(), wanted.size());
    EXPECT_TRUE(replicator_.complete());
    EXPECT_TRUE(replicator_.view_complete());
    EXPECT_EQ(client_world_.counts().desyncs, spoilt_ ? 1U : 0U);
  }

 private:
  struct Snapshot {
    std::vector<std::byte> bytes;
    std::size_t bits;
    std::uint64_t token;
  };
  MovingBay& bay_;
  Path path_;
  replica::ClientReplicator replicator_;
  replica::ClientWorld client_world_;
  std::vector<replica::RelevantEntity> seen_;
  std::multimap<int, Snapshot> under_way_;
  std::multimap<int, std::pair<std::uint64_t, bool>> fates_;
  std::multimap<int, std::pair<std::vector<std::byte>, std::size_t>> reports_;
  std::uint64_t bits_ = 0;
  std::uint64_t digest_ = 0xcbf29ce484222325U;
  int now_ = 0;
  int counted_from_ = 0;
  bool spoilt_ = false;
};

}  // namespace kwind::kit
