// What became of the updates of one entity, for each client and tick: `kwind demo --why`.
#pragma once
#include <cstdint>
#include <map>
#include <nlohmann/json.hpp>
#include <string>
#include <vector>

#include "kwind/host/replication.h"
#include "records.h"

namespace kwind::demo {

/// The entity that a word names: an id, or a type, which stands for the first of it that comes into
/// a client's view. `problem`: one sentence, if there is none.
struct NamedEntity {
  std::uint32_t id = 0;  ///< 0: a type
  std::string type;
  std::string problem;
};
NamedEntity entity_named(const std::string& word, std::uint64_t seed);

/// Asks for one client what the snapshot that is about to be filled has of the entity. To be called
/// in Replication::on_tick_ended().
void ask_why(const host::ClientView& view, schema::AnyRef entity, std::uint32_t tick,
             WhyRecord& record);

/// The table that the terminal shows.
std::string why_text(const Settings& settings, const ServerRecord& server);
nlohmann::ordered_json why_json(const Settings& settings, const ServerRecord& server);

}  // namespace kwind::demo
