// Tallies of explanations, by client: how often the snapshot of a tick had an update of the entity,
// and why it had none.
#include "why.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "harbour_motion.h"

namespace kwind::demo {
namespace {

using replica::UpdateForm;
using replica::UpdateReason;

// The column of an explanation: the form of what is sent, the reason for what is not.
std::string_view column_of(const replica::UpdateExplanation& why) {
  return why.reason == UpdateReason::sent ? name_of(why.form) : name_of(why.reason);
}

// All columns in the order in which they are shown: updates first.
std::vector<std::string_view> all_columns() {
  std::vector<std::string_view> columns;
  for (const UpdateForm form :
       {UpdateForm::full, UpdateForm::delta, UpdateForm::despawn, UpdateForm::fragments}) {
    columns.push_back(name_of(form));
  }
  for (const UpdateReason reason :
       {UpdateReason::up_to_date, UpdateReason::in_flight, UpdateReason::baseline_in_flight,
        UpdateReason::fragments_in_flight, UpdateReason::deferred, UpdateReason::repeat_deferred,
        UpdateReason::out_of_view, UpdateReason::not_alive, UpdateReason::not_in_version}) {
    columns.push_back(name_of(reason));
  }
  return columns;
}

std::uint64_t ticks_of(const WhyRecord& record, std::string_view column) {
  const auto found = record.ticks.find(std::string(column));
  return found == record.ticks.end() ? 0 : found->second;
}

// The columns in which any client has a tick.
std::vector<std::string_view> used_columns(const std::map<std::string, WhyRecord>& records) {
  std::vector<std::string_view> columns = all_columns();
  std::erase_if(columns, [&](std::string_view column) {
    return std::none_of(records.begin(), records.end(),
                        [&](const auto& each) { return ticks_of(each.second, column) > 0; });
  });
  return columns;
}

std::string fields_text(const std::vector<std::string_view>& fields) {
  return fmt::format("{}", fmt::join(fields, ", "));
}

// The newest update that was sent, in a sentence.
std::string newest_text(const std::string& pilot, const WhyRecord& record) {
  const replica::UpdateExplanation& why = record.newest;
  std::string text = fmt::format("{}, tick {}: {}", pilot, record.newest_tick, name_of(why.form));
  if (why.form != UpdateForm::despawn) text += fmt::format(" of {} bits", why.bits);
  if (why.form == UpdateForm::delta) {
    text += fmt::format(" on the baseline of tick {}", why.baseline_tick);
    text += why.fields.empty() ? ", everything as predicted" : ": " + fields_text(why.fields);
  }
  return text + fmt::format("; weight {:.2f}, {} of {} updates were more urgent\n", why.weight,
                            why.more_urgent, why.updates);
}

// In how many deltas each field went.
std::string fields_table(const std::map<std::string, WhyRecord>& records) {
  std::map<std::string, std::uint64_t> fields;
  for (const auto& [pilot, record] : records) {
    for (const auto& [field, count] : record.fields) fields[field] += count;
  }
  if (fields.empty()) return {};
  std::string text = "\nfields that deltas carried, because they were not as predicted\n";
  for (const auto& [field, count] : fields) text += fmt::format("  {:<16} {:>7}\n", field, count);
  return text;
}

}  // namespace

// The world is the same for a seed, so that its entities are known before the run.
NamedEntity entity_named(const std::string& word, std::uint64_t seed) {
  NamedEntity named;
  for (const schema::EntityInfo* const type : harbour_world::kEntities.types) {
    if (type->name == word) named.type = word;
  }
  if (!named.type.empty()) return named;
  std::uint32_t id = 0;
  const auto [end, error] = std::from_chars(word.data(), word.data() + word.size(), id);
  // A number too large for an id is none of the harbour's.
  if (error == std::errc::invalid_argument || end != word.data() + word.size()) {
    named.problem = fmt::format(
        "no type is called \"{}\"; name an id, or Post, Crate, Gull, Barge or Tug", word);
    return named;
  }
  replica::World world(harbour_world::kEntities);
  const HarbourMotion motion(world, seed);
  const auto found = error == std::errc{} ? motion.all().find(id) : motion.all().end();
  if (found == motion.all().end()) {
    named.problem = fmt::format("no entity has the id {}; the harbour has {} to {}", word,
                                motion.all().begin()->first, motion.all().rbegin()->first);
    return named;
  }
  named.id = id;
  named.type = std::string(world.type_of(found->second.ref)->name);
  return named;
}

void ask_why(const host::ClientView& view, schema::AnyRef entity, std::uint32_t tick,
             WhyRecord& record) {
  const replica::UpdateExplanation why = view.explain(entity);
  ++record.ticks[std::string(column_of(why))];
  record.longest_wait = std::max(record.longest_wait, why.waited);
  if (why.reason != UpdateReason::sent) return;
  record.bits += why.bits;
  ++record.updates;
  if (why.form == UpdateForm::delta) {
    for (const std::string_view field : why.fields) ++record.fields[std::string(field)];
  }
  record.newest = why;
  record.newest_tick = tick;
}

std::string why_text(const Settings& settings, const ServerRecord& server) {
  const std::map<std::string, WhyRecord>& records = server.why;
  if (server.why_id == 0) {
    return fmt::format("why: no {} came into the view of a client\n\n", settings.why_type);
  }
  std::string text = fmt::format(
      "why: in how many ticks the snapshot of a client had an update of entity {}, a {}, and why "
      "not\n\n",
      server.why_id, settings.why_type);
  if (records.empty()) return text + "no client was in the harbour\n";
  const std::vector<std::string_view> columns = used_columns(records);
  text += fmt::format("{:<12}", "client");
  for (const std::string_view column : columns) {
    text += fmt::format("{:>{}}", column, std::max<std::size_t>(column.size(), 5) + 2);
  }
  text += fmt::format("{:>13}{:>22}\n", "bits each", "longest wait, ticks");
  for (const auto& [pilot, record] : records) {
    text += fmt::format("{:<12}", pilot);
    for (const std::string_view column : columns) {
      text += fmt::format("{:>{}}", ticks_of(record, column),
                          std::max<std::size_t>(column.size(), 5) + 2);
    }
    const double bits = static_cast<double>(record.bits) /
                        static_cast<double>(std::max<std::uint64_t>(record.updates, 1));
    text += record.updates > 0 ? fmt::format("{:>13.1f}", bits) : fmt::format("{:>13}", "-");
    text += fmt::format("{:>22}\n", record.longest_wait);
  }
  text += fields_table(records);
  if (std::any_of(records.begin(), records.end(),
                  [](const auto& each) { return each.second.updates > 0; })) {
    text += "\nnewest update of each client\n";
  }
  for (const auto& [pilot, record] : records) {
    if (record.updates > 0) text += "  " + newest_text(pilot, record);
  }
  return text + '\n';
}

nlohmann::ordered_json why_json(const Settings& settings, const ServerRecord& server) {
  nlohmann::ordered_json clients = nlohmann::ordered_json::array();
  for (const auto& [pilot, record] : server.why) {
    nlohmann::ordered_json ticks = nlohmann::ordered_json::object();
    for (const std::string_view column : all_columns()) {
      if (const auto count = ticks_of(record, column); count > 0)
        ticks[std::string(column)] = count;
    }
    clients.push_back({{"client", pilot},
                       {"ticks", ticks},
                       {"updates", record.updates},
                       {"bits", record.bits},
                       {"fields", record.fields},
                       {"longest_wait_ticks", record.longest_wait}});
  }
  return {{"entity", server.why_id}, {"type", settings.why_type}, {"clients", clients}};
}

}  // namespace kwind::demo
