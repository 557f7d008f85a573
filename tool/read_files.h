// Captures, keys and code tables on disk, as several commands read them. What is wrong with a
// file goes to stderr, with its name and what to do.
#pragma once
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "kwind/capture/pcapng.h"
#include "kwind/link/observer.h"
#include "kwind/replica/code_tables.h"

namespace kwind::tool {

std::optional<capture::Contents> load_capture(const std::string& path);
/// None for an empty path.
std::optional<std::vector<link::DatagramKey>> load_keys(const std::string& path);
/// nullptr if it is no set for these entities.
std::shared_ptr<const replica::CodeTables> load_codes(const std::string& path,
                                                      const schema::EntitiesInfo& entities);

}  // namespace kwind::tool
