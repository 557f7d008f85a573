// How far live traffic is from the code tables in use: symbols of one client's snapshots are
// counted at a time, alternately into two halves. Tables fitted to one half are tried on the other,
// so that what they save is not read off the traffic that they were fitted to. Core: no clock; told
// of each tick.
#pragma once
#include <array>
#include <cstdint>
#include <map>
#include <memory>
#include <optional>

#include "kwind/host/replication.h"
#include "kwind/replica/code_tables.h"

namespace kwind::host {

class TableMeter {
 public:
  explicit TableMeter(const schema::EntitiesInfo& entities)
      : entities_(entities), halves_{Half(entities), Half(entities)} {}

  /// The next client takes its turn after so many ticks.
  void set_turn(std::uint32_t ticks) { turn_ = ticks; }
  /// Once per tick, before snapshots are filled. `tables_of(peer)`: those in use, nullptr for the
  /// built-in ones; nothing for a client that is not to be counted. Only clients with the tables of
  /// the first one are counted. Where no such client is left for the length of a turn, counting
  /// begins anew with the tables of another.
  template <class Views, class TablesOf>
  void tick(const Views& views, const TablesOf& tables_of) {
    if (replicator_ != nullptr && ++ticks_ < turn_) return;
    stop();
    if (views.empty()) return;
    auto next = views.upper_bound(peer_);
    for (std::size_t i = 0; i < views.size(); ++i, ++next) {
      if (next == views.end()) next = views.begin();
      const auto tables = tables_of(next->first);
      if (!tables || (tables_ && *tables_ != *tables)) continue;
      use(*tables);
      start(next->first, next->second->replicator());
      idle_ = 0;
      return;
    }
    if (++idle_ >= turn_) tables_.reset();
  }
  /// A client leaves: its replicator ends.
  void leaves(Peer peer) {
    if (replicator_ != nullptr && peer == peer_) stop();
  }
  /// Ends the turn of the client that is counted.
  void stop();
  [[nodiscard]] TableFit fit() const;

 private:
  // Beyond so many snapshots a half begins anew: what counts is the traffic of late.
  static constexpr std::uint64_t kMaxSnapshots = 50000;
  struct Half {
    explicit Half(const schema::EntitiesInfo& entities) : counts(entities) {}
    replica::SymbolCounts counts;
    std::uint64_t snapshots = 0;
    std::uint64_t bits = 0;
  };
  void use(const std::shared_ptr<const replica::CodeTables>& tables);
  void start(Peer peer, replica::ClientReplicator& replicator);

  const schema::EntitiesInfo& entities_;
  std::array<Half, 2> halves_;
  std::size_t half_ = 0;
  std::optional<std::shared_ptr<const replica::CodeTables>> tables_{};
  Peer peer_{};
  replica::ClientReplicator* replicator_ = nullptr;  // counted now
  replica::ReplicatorCounts before_{};
  std::uint32_t ticks_ = 0;
  std::uint32_t idle_ = 0;  // ticks without a client with `tables_`, while there are others
  std::uint32_t turn_ = 40;
};

}  // namespace kwind::host
