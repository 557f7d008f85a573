// The state of a ClientReplicator: its history, the acknowledgements since the last snapshot, the
// client's inputs. One thread.
#pragma once
#include <array>
#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <utility>
#include <vector>

#include "kwind/replica/client_replicator.h"
#include "replica/coding/desync_report.h"
#include "replica/coding/snapshot_head.h"
#include "replica/server/shared_histories.h"

namespace kwind::replica {

struct ClientReplicator::State {
  State(World& world, const ReplicatorOptions& options)
      : State(WorldAccess::state_for(world, options.version), options) {}
  State(WorldState& world, const ReplicatorOptions& options)
      : histories(histories_of(world.clients)),
        history(histories->beginning(world, options)),
        shared(&world.clients) {}
  State(const State&) = delete;
  State& operator=(const State&) = delete;

  static constexpr std::size_t kHotBytes = 2 * kCacheLineBytes;

  std::shared_ptr<SharedHistories> histories;
  ClientHistory history;
  ClientsShared* shared;
  std::vector<SnapshotNumber> acks;  // snapshots reported to have arrived since the last was made
  InterestQuery* query = nullptr;    // that is asked in each tick
  SymbolCounts* symbol_counts = nullptr;
  std::uint32_t input = 0;
  bool any_input = false;
  Room room;
  std::uint64_t head_bits = 0;  // sent so far
  ReplicatorCounts elsewhere;   // before it joined its history, less what that counted before
  ReplicatorCounts counts;      // scratch of ClientReplicator::counts()
  std::function<void(const Desync&)> desync_handler;
  Tick reported_at;                // in which a report was taken last; none: never
  SnapshotNumber reported_digest;  // snapshot of the digest that it was about
  Tick resynced_at;                // of the last full resync that a client asked for
  // SnapshotMark::input of snapshots sent.
  std::array<std::uint32_t, 2 * std::size_t{kSnapshotWindow}> inputs{};

  // To be changed.
  BaselineHistory& own() {
    if (history.is_shared()) history.move_to(histories->copy_of(*history.ref()));
    return history.to_change();
  }
  // Where others are with whom it is in step again.
  void rejoin();
  // Writes a snapshot of its own history; fills in the step that this is, if there is one, and
  // whether others may take it.
  std::optional<std::uint64_t> make_snapshot(bits::Writer& out, Step* made, bool& whole);
  // As another did. Nothing if there is no room for its snapshot.
  std::optional<std::uint64_t> follow(const Step& step, bits::Writer& out);
  // Bits that a head takes at most, whatever sections follow.
  [[nodiscard]] std::size_t longest_head(const SnapshotHead& heading) const;

 private:
  static std::shared_ptr<SharedHistories> histories_of(ClientsShared& shared) {
    if (shared.histories == nullptr) shared.histories = std::make_shared<SharedHistories>();
    return shared.histories;
  }
  struct Head {
    std::array<std::byte, 32> bytes{};  // more than any takes
    std::size_t bits = 0;
    std::uint32_t input = 0;
  };
  [[nodiscard]] Head head_of(const SnapshotHead& heading, SymbolCounts* counter) const;
  void send(bits::Writer& out, const SnapshotHead& heading, const Head& head,
            std::span<const std::byte> body, std::size_t bits);
};

}  // namespace kwind::replica
