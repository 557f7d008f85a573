// Answers why a snapshot has an update of an entity or lacks one: the first steps of a snapshot are
// taken on a copy of the client's history, which is then thrown away.
//
// Pure with regard to the client: `begin` and `plan` run on a copy, `commit` never does. Counters
// that they touch are set back.
#include "kwind/replica/explanation.h"

#include <algorithm>

#include "replica/server/replicator_state.h"

namespace kwind::replica {
namespace {

constexpr std::string_view kReasons[] = {
    "sent",      "deferred",           "repeat deferred",     "up to date",
    "in flight", "baseline in flight", "fragments in flight", "out of view",
    "not alive", "not in version",
};
constexpr std::string_view kForms[] = {"none", "full", "delta", "despawn", "fragments"};

UpdateForm form_of(const Candidate& each) {
  if (each.in_fragments()) return UpdateForm::fragments;
  switch (each.update) {
    case Update::full: return UpdateForm::full;
    case Update::delta: return UpdateForm::delta;
    case Update::despawn: return UpdateForm::despawn;
  }
  return UpdateForm::none;
}

}  // namespace

std::string_view name_of(UpdateReason reason) {
  return kReasons[static_cast<std::size_t>(reason)];
}

std::string_view name_of(UpdateForm form) {
  return kForms[static_cast<std::size_t>(form)];
}

// Names of the fields that an update carries, each once.
std::vector<std::string_view> SnapshotBuilder::fields_of(const Candidate& each) const {
  std::vector<std::string_view> names;
  const EntityModel& model = *world_.entities[each.id].model;
  // A vector is several columns and one name.
  const auto add = [&](std::uint16_t column) {
    const std::string_view name = model.info().fields[model.info().columns[column].field].name;
    if (std::find(names.begin(), names.end(), name) == names.end()) names.push_back(name);
  };
  switch (form_of(each)) {
    case UpdateForm::full:
    case UpdateForm::fragments:
      for (const schema::FieldInfo& field : model.info().fields) names.push_back(field.name);
      break;
    case UpdateForm::delta:
      // said() reads the bits of the change mask.
      for (const ChangingColumn& column : model.changing()) {
        if (column.said(each.mask) != 0) add(column.column);
      }
      break;
    default: break;
  }
  return names;
}

// `gathered`: candidates, and which of them were taken, stand in the scratch. Otherwise there is
// nothing to say in this tick.
UpdateExplanation SnapshotBuilder::explain(schema::AnyRef entity, bool gathered) const {
  UpdateExplanation answer;
  // An entity without a row was spawned in the tick that is being made.
  const EntityId id(entity.id);
  const bool exists = id && world_.briefs.has(id) && world_.briefs[id].changed_at;
  if (id && world_.entities.has(id) && world_.entities[id].model == nullptr &&
      world_.briefs[id].generation == entity.generation) {
    answer.reason = UpdateReason::not_in_version;
    return answer;
  }
  const WorldState::Brief* const brief = exists ? &world_.briefs[id] : nullptr;
  const auto index = exists ? entities_.find(id) : std::nullopt;
  const bool alive = exists && brief->alive && brief->generation == entity.generation;
  // A client may have an entity that has despawned; a reference names it until its id is used anew.
  if (!exists || (!alive && !(index && entities_[*index].baseline().known &&
                              entities_[*index].baseline().generation == entity.generation))) {
    return answer;
  }
  answer.changed_at = brief->changed_at.raw();
  if (!index) {
    answer.reason = UpdateReason::out_of_view;
    return answer;
  }
  const ClientEntity& copy = entities_[*index];
  const Look& look = entities_.look(*index);
  answer.in_view = look.in_view && alive;
  answer.owner = look.owner;
  answer.weight = look.priority;
  answer.baseline_tick = copy.baseline().known ? copy.baseline().ticks[0].raw() : 0;
  answer.sent_tick = copy.sent_snapshot ? copy.sent_tick.raw() : 0;
  if (copy.waiting_since) answer.waited = tick() - std::min(copy.waiting_since, tick()) + 1;
  // O(candidates), of which there are some dozens.
  const auto found = gathered ? std::find_if(candidates_.begin(), candidates_.end(),
                                             [&](const Candidate& each) { return each.id == id; })
                              : candidates_.end();
  if (gathered) {
    answer.updates = candidates_.size();
    answer.taken = static_cast<std::size_t>(std::count_if(
        candidates_.begin(), candidates_.end(), [](const Candidate& each) { return each.taken; }));
  }
  if (found == candidates_.end()) {
    answer_without_update(*index, *brief, answer);
    return answer;
  }
  answer.form = form_of(*found);
  answer.priority = found->priority_now;
  answer.bits = found->bits;
  answer.fields = fields_of(*found);
  // The rank among the candidates says how far an update was from being taken.
  answer.more_urgent = static_cast<std::size_t>(
      std::count_if(candidates_.begin(), candidates_.end(),
                    [&](const Candidate& each) { return each.priority_now > answer.priority; }));
  answer.reason = found->taken    ? UpdateReason::sent
                  : found->repeat ? UpdateReason::repeat_deferred
                                  : UpdateReason::deferred;
  return answer;
}

// The entity is known or in view, and no candidate.
void SnapshotBuilder::answer_without_update(std::size_t index, const WorldState::Brief& brief,
                                            UpdateExplanation& answer) const {
  if (!entities_.look(index).in_view || !brief.alive) {
    const ClientEntity& copy = entities_[index];
    answer.reason = copy.baseline().known && copy.sent_gone && copy.sent_snapshot
                        ? UpdateReason::in_flight
                        : UpdateReason::out_of_view;
    return;
  }
  // assess() is the rule itself, asked once more: the answer cannot differ from what the encoder
  // did.
  const PendingUpdate pending = history_.assess(index, brief);
  answer.reason = pending.reason;
  if (pending.reason != UpdateReason::sent) return;
  // A candidate that was left out, see limit_repeats() and narrow().
  answer.reason = pending.in_flight ? UpdateReason::repeat_deferred : UpdateReason::deferred;
  answer.form = pending.whole ? UpdateForm::full : UpdateForm::delta;
}

// On a copy, which no other client shares and nobody keeps.
UpdateExplanation ClientReplicator::explain(schema::AnyRef entity, std::size_t bytes) const {
  const State& s = *state_;
  const SharedBitsCounts counted = s.shared->counts;
  BaselineHistory copy(s.history->world(), s.history->options());
  copy.take_over(*s.history);
  // The builder writes into scratch memory alone, which each snapshot begins anew.
  SnapshotBuilder builder(copy, *s.shared, nullptr);
  std::vector<SnapshotNumber> acks = s.acks;
  Room room = s.room;
  SnapshotHead heading;
  const bool gathered = copy.tick() && builder.begin(s.query, acks, heading);
  const std::size_t head_bits = gathered ? s.longest_head(heading) : 0;
  // Room for the head alone leaves all candidates for later.
  if (gathered && bytes * 8 > head_bits) {
    room.now = bytes * 8 - head_bits;
    (void)builder.plan(heading, room);
  }
  UpdateExplanation answer = builder.explain(entity, gathered);
  s.shared->counts = counted;
  return answer;
}

}  // namespace kwind::replica
