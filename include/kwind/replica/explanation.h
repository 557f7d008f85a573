// Why a client is sent an update of an entity, or is not: what ClientReplicator::explain() answers.
// Plain values.
#pragma once
#include <cstddef>
#include <cstdint>
#include <string_view>
#include <vector>

namespace kwind::replica {

/// Why the next snapshot of a client has an update of an entity, or has none.
enum class UpdateReason : std::uint8_t {
  sent,                 ///< the snapshot has an update
  deferred,             ///< more urgent updates leave no room; the wait raises its priority
  repeat_deferred,      ///< sent before and not acknowledged; other repeats take the room
  up_to_date,           ///< the client has the newest values
  in_flight,            ///< the newest values were sent and are neither acknowledged nor lost yet
  baseline_in_flight,   ///< a full update is in flight, and nothing can build on it yet
  fragments_in_flight,  ///< too large for a datagram; all fragments that may be sent are in flight
  out_of_view,          ///< the interest query does not show it, and the client does not have it
  not_alive,            ///< no entity has this reference in the last finished tick
  not_in_version,       ///< the version that the client speaks lacks the type of the entity
};

/// What an update holds.
enum class UpdateForm : std::uint8_t {
  none,
  full,       ///< all values, with type and generation
  delta,      ///< the fields that are not as both ends predict them from the baseline
  despawn,    ///< it has gone, or left the view
  fragments,  ///< a part of a full update that no datagram holds
};

/// All ticks are of World::tick(), all sizes are bits.
struct UpdateExplanation {
  UpdateReason reason = UpdateReason::not_alive;
  UpdateForm form = UpdateForm::none;  ///< of an update that is sent or deferred
  bool in_view = false;
  bool owner = false;            ///< the client owns the entity
  float weight = 0;              ///< from the interest query
  float priority = 0;            ///< weight times the ticks of waiting; 0: there is no update
  std::uint32_t waited = 0;      ///< ticks since the change was first deferred, this one included
  std::uint32_t changed_at = 0;  ///< tick of its newest values
  std::uint32_t baseline_tick = 0;  ///< of the newest values that the update builds on; 0: none
  std::uint32_t sent_tick = 0;      ///< of the values in flight; 0: nothing is in flight
  std::size_t bits = 0;             ///< of the update, without what names its entity
  std::size_t updates = 0;          ///< candidates of the snapshot
  std::size_t taken = 0;            ///< of them, those that it has
  std::size_t more_urgent = 0;      ///< of them, those with a higher priority than this one
  /// Fields of a delta that were not as predicted; all fields of a full update.
  std::vector<std::string_view> fields{};
};

/// As a word: "sent", "up to date".
[[nodiscard]] std::string_view name_of(UpdateReason reason);
/// As a word: "delta".
[[nodiscard]] std::string_view name_of(UpdateForm form);

}  // namespace kwind::replica
