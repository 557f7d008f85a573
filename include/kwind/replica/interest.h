// Interest management: a grid over the positions of a world's entities, and for each client a query
// that picks the relevant ones. One world with its interest and queries, one thread.
#pragma once
#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "kwind/core/compiler.h"
#include "kwind/replica/client_replicator.h"
#include "kwind/replica/world.h"

namespace kwind::replica {

/// What an entity type has otherwise than InterestOptions says.
struct TypeInterest {
  std::string type;               ///< its name in the description
  std::optional<double> enter{};  ///< above 0
  std::optional<double> leave{};  ///< above 0; one below `enter` counts as `enter`
  bool always = false;            ///< in view of everybody, wherever it is
  double priority = 1;            ///< of its changes when not all fit; above 0, finite
};

/// How far clients see, and how cells are laid out.
struct InterestOptions {
  /// Distances, in the unit of places: an entity comes into view at `enter`, and leaves it beyond
  /// `leave`, so that an entity at the border does not flicker. Requires:
  /// 0 < enter <= leave; both may be infinite.
  double enter = 256;
  double leave = 272;
  /// The field that says where an entity is: a vec2 or vec3, or a record of such numbers. Kinds
  /// that have none are in view of everybody.
  std::string place = "at";
  std::vector<TypeInterest> types{};
  /// A query looks around every so many ticks, each in its turn; in between its view changes only
  /// by what is gone, and by what its owner does.
  std::uint32_t update_every = 4;
};

/// A grid over the places of all entities, for the queries of all clients.
class KWIND_API Interest {
 public:
  /// Borrows the world, and numbers views in it. Requires: names in `types` that entity types of
  /// the world have.
  explicit Interest(World& world, InterestOptions options = {});
  Interest(Interest&&) noexcept;
  Interest& operator=(Interest&&) noexcept;
  ~Interest();

  /// Only clients that are in `room` see it from now on; 0: all do. False if it is gone.
  bool put_in_room(schema::AnyRef entity, std::uint32_t room);
  [[nodiscard]] std::size_t memory() const;

 private:
  friend class InterestQuery;
  struct State;
  std::unique_ptr<State> state_;
};

/// One client's.
class KWIND_API InterestQuery {
 public:
  /// Borrows the interest. Without an origin only entity types that are always in view are seen.
  explicit InterestQuery(Interest& interest);
  /// It stays where it is: replicators that see through it hold its address.
  InterestQuery(const InterestQuery&) = delete;
  InterestQuery& operator=(const InterestQuery&) = delete;
  ~InterestQuery();

  /// From here, or from where an entity is; once it is gone, from its last place. With an entity of
  /// a type without a place the query stays where it is. A coordinate that is not a number sees
  /// nothing.
  void set_origin(double x, double y, double z = 0);
  void set_origin(schema::AnyRef entity);
  /// Owned entities are in view wherever they are.
  void add_owned(schema::AnyRef entity);
  void remove_owned(schema::AnyRef entity);
  void enter_room(std::uint32_t room);
  void leave_room(std::uint32_t room);
  /// Hides what it returns false for; empty for none. Called for each entity that is near, every
  /// `update_every` ticks. Not to throw.
  void set_filter(std::function<bool(schema::AnyRef)> filter);

  /// What is in view, for ClientReplicator::see(): by id, weights greater the nearer. Valid until
  /// the next call. O(entities near) when it looks around, O(in view) otherwise.
  std::span<const RelevantEntity> update();
  /// The same at once, whosever turn it is.
  std::span<const RelevantEntity> update_now();
  /// Another number after a look that found others in view, and now and then for their weights;
  /// never 0.
  [[nodiscard]] std::uint64_t revision() const;
  [[nodiscard]] std::size_t memory() const;

 private:
  friend class ClientReplicator;
  void prefetch() const;

  struct State;
  std::unique_ptr<State> state_;
};

}  // namespace kwind::replica
