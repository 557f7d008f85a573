// A plan of traffic, as people write it in TOML before there is a game: what is sent how often to
// how many. Read by `kwind budget`; an optional component, no game needs to link it. The format is
// in docs/budget.md. Pure functions; safe anywhere.
#pragma once
#include <tl/expected.hpp>

#include <string>
#include <string_view>
#include <vector>

#include "kwind/language/compile.h"
#include "kwind/schema/sample.h"

namespace kwind::budget {

/// The entities of one kind, as one client sees them.
struct StatePlan {
  std::uint32_t entity = 0;  ///< place in Protocol::entities
  double population = 0;     ///< in the world
  double in_view = 0;        ///< of these, seen by one client
  double changing = 0;       ///< share of those in view that change from one tick to the next, 0..1
  double entering = 0;       ///< come into view per second, while as many leave it
  std::vector<std::uint32_t> fields;  ///< places of the fields that change; of the kind, ascending
};

/// One kind of message.
struct MessagePlan {
  std::uint32_t message = 0;                                ///< place in Protocol::messages
  bool from_client = false;                                 ///< the way it travels here
  double per_second = 0;                                    ///< that one client sends, or is sent
  schema::SampleSize filled = schema::SampleSize::typical;  ///< how full its texts and lists are
};

struct Plan {
  double clients = 1000;
  double ticks_per_second = 20;
  double header_bytes = 50;      ///< of each datagram: IPv4 20, UDP 8, link 22
  double datagram_bytes = 1200;  ///< the largest, with its headers
  std::uint64_t seed = 1;        ///< of the made-up values
  std::vector<StatePlan> state;
  std::vector<MessagePlan> messages;
};

/// Reads files for a plan: its description, and what that includes.
using Loader = language::Loader;

/// A plan that was read, or why not: then `problems` is not empty and the rest means nothing.
struct ReadPlan {
  Plan plan;
  language::Compiled description;
  /// Each with line, column and caret, ready to print.
  std::vector<std::string> problems;
};

/// Reads the plan `text`, which errors call `name`, and the description that it names. Every error
/// of the plan is reported; errors in the description are. O(size of both).
ReadPlan read_plan(std::string_view text, std::string_view name, const Loader& load);

}  // namespace kwind::budget
