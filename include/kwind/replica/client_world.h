// The client's copy of the replicated world: decodes snapshots, applies them, and interpolates
// between states. One client world, one thread.
#pragma once
#include <array>
#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <string_view>
#include <vector>

#include "kwind/bits/writer.h"
#include "kwind/core/compiler.h"
#include "kwind/core/digest.h"
#include "kwind/core/errors.h"
#include "kwind/replica/code_tables.h"
#include "kwind/schema/entity_info.h"
#include "kwind/schema/references.h"

namespace kwind::replica {

/// What a snapshot did to an entity. A change of the owner alone is a change: see
/// ClientWorld::owns().
struct EntityEvent {
  /// What happened to the entity.
  enum class Type : std::uint8_t { spawned, updated, despawned };
  Type type = Type::updated;
  schema::AnyRef entity{};
  std::uint16_t entity_type = 0;  ///< place in EntitiesInfo::types
};

/// What a client world did since it was made.
struct ClientWorldCounts {
  std::uint64_t snapshots = 0;    ///< taken
  std::uint64_t waited = 0;       ///< built on a snapshot that was not here, and were kept
  std::uint64_t unread = 0;       ///< of these, never read: what they build on did not come
  std::uint64_t digests = 0;      ///< of the server's, compared
  std::uint64_t desyncs = 0;      ///< of these, differed
  std::uint64_t events_lost = 0;  ///< dropped because nobody took them, see take_events()
};

/// The client's copy of the world.
class KWIND_API ClientWorld {
 public:
  /// `ticks_per_second` and `codes` as the server's world and replicator have them. With others
  /// receive() gives tick_rate or code_tables for every full snapshot. `version`: that of
  /// ReplicatorOptions::version. A field that the version lacks has its default.
  explicit ClientWorld(const schema::EntitiesInfo& entities, double ticks_per_second = 20,
                       std::shared_ptr<const CodeTables> codes = nullptr,
                       std::uint16_t version = schema::kNewest);
  /// An InputSender goes along with the client world that it was made for. What is assigned to
  /// takes the other's contents and keeps its own sender; the other's has no client world any more.
  ClientWorld(ClientWorld&& other) noexcept;
  ClientWorld& operator=(ClientWorld&& other) noexcept;
  ~ClientWorld();

  /// Takes a snapshot, Event::fill of the link, whole or not at all. Snapshots may come in any
  /// order; a value is never replaced by an older one. Errors: tick_rate, code_tables, see the
  /// constructor; base_missing for a snapshot that builds on one that is not here: it waits for
  /// that, and wants_resync() says which snapshot waits; truncated, trailing_bits, value_range;
  /// replayed for a snapshot that came before, or was discarded. Throws only std::bad_alloc: then
  /// nothing that is here counts any more, and the server is asked for all of it. Whatever the
  /// bits, memory stays within what the entities of the protocol need.
  Errc receive(std::span<const std::byte> payload, std::size_t bits);
  /// Hands out what the snapshots since the last call did, in order, once. Valid until the next
  /// call. If nobody calls, the newest kMaxEvents are kept; older ones are dropped and counted.
  [[nodiscard]] std::span<const EntityEvent> take_events();
  static constexpr std::size_t kMaxEvents = std::size_t{1} << 16;

  /// The low bits of the number of a snapshot that cannot be read because a snapshot that it builds
  /// on is not here; nothing while all that came could be read. InputSender asks the server for a
  /// full resync then, see ClientReplicator::receive_resync_request().
  [[nodiscard]] std::optional<std::uint32_t> wants_resync() const;

  /// If the server's last digest was not that of what is here: writes what
  /// ClientReplicator::receive_desync_report() wants to know, as much as has room, and returns how
  /// many bits; otherwise 0.
  std::size_t report(bits::Writer& out);
  /// The low bits of the newest input that the server had used when it made the newest snapshot,
  /// see ClientReplicator::last_processed_input().
  [[nodiscard]] std::optional<std::uint16_t> last_processed_input() const;
  /// Counts the symbols of all snapshots from now on; as ClientReplicator::count_into().
  void count_into(SymbolCounts* symbol_counts);
  [[nodiscard]] const ClientWorldCounts& counts() const;
  [[nodiscard]] std::size_t waiting() const;  ///< snapshots that build on ones that are not here
  /// For tests of what happens then: flips bits of a column in all that is held of an entity.
  void spoil(schema::AnyRef entity, std::size_t column, std::uint32_t flip);

  [[nodiscard]] std::uint32_t tick() const;  ///< of the newest snapshot; 0 before
  /// Of the server's world: as the newest full snapshot said, until then as the constructor did.
  [[nodiscard]] double ticks_per_second() const;
  [[nodiscard]] std::size_t size() const;  ///< entities there
  /// Those that are there, in ascending order of id. O(largest id).
  [[nodiscard]] std::vector<schema::AnyRef> entities() const;
  /// The tick whose values an entity that is there has; 0 for others.
  [[nodiscard]] std::uint32_t state_tick(schema::AnyRef entity) const;
  /// The newest values of an entity that is there. `owner only` fields of others' are as in a new
  /// struct.
  template <schema::ReplicaEntity T>
  [[nodiscard]] std::optional<T> get(schema::Ref<T> entity) const {
    std::optional<T> value;
    restore(entity, T::entity_info(), [&](schema::Decoder& in) { decode(in, value.emplace()); });
    return value;
  }
  /// What to draw of an entity that is there at a tick, with its fraction, that PlayoutClock gives:
  /// between the received states around it `smooth` and `follow` fields are interpolated, over the
  /// last kLongestBlend ticks before the later state. Beyond the newest state what `follow`s goes on
  /// by its own speed and direction: with a tolerance until the next update, otherwise
  /// for kMaxAhead ticks and in as many back, for without updates the entity stands still. A leap
  /// of more than an eighth of a field's range is not drawn as motion.
  template <schema::ReplicaEntity T>
  [[nodiscard]] std::optional<T> sample(schema::Ref<T> entity, double tick) const {
    std::optional<T> from;
    std::optional<T> to;
    const double part = restore_around(
        entity, T::entity_info(), tick, [&](schema::Decoder& in) { decode(in, from.emplace()); },
        [&](schema::Decoder& in) { decode(in, to.emplace()); });
    if (!from || !to) return from;
    return blend(*from, *to, part);
  }
  /// The world position of an entity at a tick, as sample() has it: the coordinates of `field`, a
  /// vec2, a vec3 or a record of two or three numbers. If `field` is `relative to` a carrier, the
  /// carrier's position is added, and that of its carrier, up to schema::kMaxCarriers. Nothing if
  /// `field` is no position, if a carrier is not there, or in a cycle. O(carriers).
  [[nodiscard]] std::optional<std::array<double, 3>> position(schema::AnyRef entity, double tick,
                                                              std::string_view field = "at") const;
  /// As get() and sample() for a description that is known at run time only: call `decode` with the
  /// newest fields, or `from` and `to` with the states before and after `tick`, and return how far
  /// between them `tick` is, 0 to 1. Without such an entity nothing is called; without a state
  /// after `tick` only `from` is.
  using Decode = std::function<void(schema::Decoder&)>;
  void read(schema::AnyRef entity, const Decode& decode) const;
  double read_around(schema::AnyRef entity, double tick, const Decode& from,
                     const Decode& to) const;
  static constexpr std::uint32_t kLongestBlend = 4;
  static constexpr std::uint32_t kMaxAhead = 5;
  [[nodiscard]] bool is_there(schema::AnyRef entity) const { return type_of(entity).has_value(); }
  /// Place in EntitiesInfo::types of an entity that is there.
  [[nodiscard]] std::optional<std::uint16_t> type_of(schema::AnyRef entity) const;
  /// Whether the server said that this client owns it.
  [[nodiscard]] bool owns(schema::AnyRef entity) const;

  /// Digest of all that is there, for comparing two copies. O(largest id).
  [[nodiscard]] Digest128 digest() const;

 private:
  double restore_around(schema::AnyRef entity, const schema::EntityInfo& info, double tick,
                        const Decode& from, const Decode& to) const;
  void restore(schema::AnyRef entity, const schema::EntityInfo& info,
               const std::function<void(schema::Decoder&)>& decode) const;
  friend class InputSender;
  struct State;
  /// Where this client world is; holds nullptr once it is nowhere.
  std::shared_ptr<ClientWorld* const> self();
  std::unique_ptr<State> state_;
  std::shared_ptr<ClientWorld*> self_;
};

}  // namespace kwind::replica
