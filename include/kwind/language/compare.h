// What has changed from one description to the next, and whether peers of the old one are still
// understood. Made for the CI of a game. Pure; safe anywhere.
#pragma once
#include <cstdint>
#include <string>
#include <vector>

#include "kwind/core/compiler.h"
#include "kwind/schema/protocol.h"

namespace kwind::language {

enum class Impact : std::uint8_t {
  harmless,     ///< old peers notice nothing
  needs_since,  ///< an addition that old peers would trip over: it wants a life span
  breaks,       ///< peers of a version that the old description speaks are refused
};

constexpr std::string_view name_of(Impact impact) {
  switch (impact) {
    case Impact::harmless: return "harmless";
    case Impact::needs_since: return "needs since";
    case Impact::breaks: return "breaks";
  }
  return "";
}

/// One difference between two descriptions, and whom it concerns.
struct Change {
  Impact impact = Impact::harmless;
  std::string where;  ///< "message Helm, field rudder"
  std::string what;   ///< one sentence without a full stop
  std::string fix;    ///< what to do; empty if nothing
};

/// All changes, in the order of the old description, additions behind. Both are free of errors.
/// Law: none of them is more than harmless if and only if each version that the old description
/// speaks has the same digest in both. O(size of both).
KWIND_API std::vector<Change> compare(const schema::Protocol& before,
                                      const schema::Protocol& after);

/// The versions of `before` that peers built from `after` refuse, in ascending order. Two peers,
/// one of each description, agree on the newest version that is not refused; without one the
/// handshake fails. O(size of both, for each version).
KWIND_API std::vector<std::uint16_t> refused_versions(const schema::Protocol& before,
                                                      const schema::Protocol& after);

}  // namespace kwind::language
