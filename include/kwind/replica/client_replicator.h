// Per-client replication sender: chooses the updates for each snapshot of one client and encodes
// them. It is the payload source of the client's link and lives as long as the connection. World,
// replicator and link share one thread.
#pragma once
#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <string_view>

#include "kwind/core/compiler.h"
#include "kwind/link/payload_source.h"
#include "kwind/replica/explanation.h"
#include "kwind/replica/world.h"

namespace kwind::replica {

/// An entity in a client's view.
struct RelevantEntity {
  std::uint32_t id = 0;
  bool owner = false;  ///< the client owns it: `owner only` fields travel, too
  float priority = 1;  ///< how much its changes matter when not all fit; above 0
};

/// Options of the replication to one client.
struct ReplicatorOptions {
  /// Builds on snapshots that have not been acknowledged yet: fewer bytes, but a lost snapshot
  /// makes later ones useless until the sender learns of the loss.
  bool speculative_baselines = false;
  /// Every so many snapshots a digest of all that the client should have goes with it; 0: never.
  std::uint32_t digest_every = 10;
  /// Those agreed with this client; nullptr: the world's.
  std::shared_ptr<const CodeTables> codes{};
  /// The version of the description that the client speaks: the client is sent what this version
  /// has. `codes` must be made for the entities of this version.
  std::uint16_t version = schema::kNewest;
};

/// What a replicator did since it was made.
struct ReplicatorCounts {
  std::uint64_t snapshots = 0;
  std::uint64_t bits = 0;
  std::uint64_t whole = 0;      ///< entities sent with all they have
  std::uint64_t changed = 0;    ///< sent by what differs from what was predicted
  std::uint64_t predicted = 0;  ///< sent as "as predicted"
  std::uint64_t gone = 0;
  std::uint64_t fragmented = 0;    ///< entities sent whole that no datagram holds
  std::uint64_t deferred = 0;      ///< found no room in their tick's last snapshot
  std::uint64_t discarded = 0;     ///< snapshots lost, or of no use for one that was
  std::uint64_t full_resyncs = 0;  ///< the client's acks stayed away for too long, or it asked
  std::uint64_t resyncs = 0;       ///< of these, granted to clients that asked
  std::uint64_t desyncs = 0;  ///< entities whose values at the client differed from the server's
  /// The longest that a change in view had to wait for room, in ticks. What waits longer than
  /// ClientReplicator::kPatience goes before all that waits less, whatever its weight: so it is at
  /// most that and the ticks that all in view takes to be sent.
  std::uint32_t longest_wait = 0;

  /// Sums, and the longer wait.
  void add(const ReplicatorCounts& other);
  /// What add() added, but for the wait.
  void subtract(const ReplicatorCounts& other);
};

/// A field whose value at the client differs from the server's; the entity is sent in full again.
struct Desync {
  std::uint32_t id = 0;
  std::string_view type{};
  std::string_view field{};  ///< the first that differed; empty: the entity itself
};

class InterestQuery;

/// Makes the snapshots of one client.
class KWIND_API ClientReplicator final : public link::PayloadSource {
 public:
  static constexpr std::uint32_t kPatience = 40;  ///< ticks

  /// Borrows the world. Replicators of a world share memory and encoded bits, which belong to it.
  explicit ClientReplicator(World& world, const ReplicatorOptions& options = {});
  ClientReplicator(ClientReplicator&&) noexcept;
  ClientReplicator& operator=(ClientReplicator&&) noexcept;
  ~ClientReplicator() override;

  /// What is in view from now on. Requires: entities in ascending order of id. O(entities).
  void see(std::span<const RelevantEntity> in_view);
  /// What a query sees, see InterestQuery::look(). To be called in each tick; always with the same
  /// one. O(1) while nothing came into view or left it.
  void see(InterestQuery& query);

  /// From now on each snapshot asks `query` itself, which is borrowed: with a thousand clients that
  /// is cheaper than going through all of them twice. Several replicators may see through one:
  /// those whose clients received the same put their snapshots together once. nullptr: see() says it
  /// again.
  void bind(InterestQuery* query);

  /// Writes a snapshot of the last finished tick if there is something to say: everything that
  /// changed and was not sent, what waited longest first, as far as there is room. An entity that
  /// is larger than a datagram goes in parts, one such at a time, and appears with the last of
  /// them; when more waits than fits its parts take at most half of the room. Called by the link,
  /// see Link::schedule_payload; the token names the snapshot. O(entities in view).
  std::optional<std::uint64_t> fill(Time now, bits::Writer& out) override;
  /// What became of a snapshot; called by the link.
  void on_delivery(std::uint64_t token, bool arrived) noexcept override {
    arrived ? acked(token) : lost(token);
  }
  void acked(std::uint64_t token);
  void lost(std::uint64_t token);

  /// The newest of the client's inputs that the game used for the tick that ends next, by the
  /// client's count of ticks; sent with the next snapshot.
  void last_processed_input(std::uint32_t number);

  /// What ClientWorld::report() gave at the client. Errors: truncated, value_range; rate_limited if
  /// less than a second of ticks has passed since the last one that was granted; unexpected if no
  /// digest was sent since then. A client that lies gets what it is sent anew, and no one else
  /// notices.
  Errc receive_desync_report(std::span<const std::byte> payload, std::size_t bits);
  /// The client cannot read the snapshot with these low bits of its number, see
  /// ClientWorld::wants_resync(): starts a full resync. Errors: rate_limited if less than a second
  /// of ticks has passed since the last one; unexpected if the snapshot builds on one that is not
  /// acknowledged: loss detection will repair that.
  Errc receive_resync_request(std::uint32_t snapshot);
  /// Starts a full resync with the next snapshot, at the game's wish: for a client that lost its
  /// client world.
  void resync();
  /// Called with what receive_desync_report() finds. Not to throw.
  void on_desync(std::function<void(const Desync&)> handler);

  /// Counts the symbols of all snapshots from now on, for codes that fit the traffic; borrowed,
  /// nullptr for none. Requires: a symbol counts of the world's entities.
  void count_into(SymbolCounts* symbol_counts);

  /// Whether the client has, or is about to have, all that is in view as it stands.
  [[nodiscard]] bool complete() const;
  /// Whether all that was in view at the last see() is known to have appeared at the client.
  [[nodiscard]] bool view_complete() const;
  /// Whether an entity is alive and the client has it, or is about to: what a ref in one of its
  /// messages may name, see Server::set_reference_filter(). O(log(entities in view)).
  [[nodiscard]] bool knows(schema::AnyRef entity) const;
  /// What a snapshot of `bytes` bytes, filled now, would have of an entity, and why. Between
  /// World::end_tick() and fill() it says what fill() is about to do in the same room; after fill()
  /// it says what is left for another snapshot of the tick. Sends nothing and changes nothing.
  /// O(all that the client has): for debugging, not for every entity in every tick.
  [[nodiscard]] UpdateExplanation explain(schema::AnyRef entity, std::size_t bytes = 1100) const;
  /// Ticks that the oldest change in view waits to be sent; 0 if none does.
  [[nodiscard]] std::uint32_t oldest_wait() const;
  [[nodiscard]] const ReplicatorCounts& counts() const;
  [[nodiscard]] std::size_t memory() const;

 private:
  void prefetch(unsigned step) const override;
  [[nodiscard]] std::uint32_t a_second() const;
  struct State;
  std::unique_ptr<State> state_;
};

}  // namespace kwind::replica
