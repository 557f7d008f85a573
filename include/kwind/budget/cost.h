// What a plan costs on the wire, in our bits and in the text and binary forms that people would use
// without a description. Made-up traffic is encoded in each of them, tick for tick.
#pragma once
#include <string>
#include <vector>

#include "kwind/budget/plan.h"

namespace kwind::budget {

/// Ticks that are made up and measured. Streams have warmed up on kWarmTicks before.
inline constexpr std::uint32_t kMeasuredTicks = 200;
inline constexpr std::uint32_t kWarmTicks = 40;

/// One way of one client, means over the measured ticks.
struct Traffic {
  double payload_bytes_per_tick = 0;
  double datagrams_per_tick = 0;
  double bytes_per_second = 0;  ///< headers included
};

/// The same traffic in one form.
struct Coding {
  std::string name;
  Traffic down;  ///< server to one client
  Traffic up;    ///< one client to the server
};

/// What our bits are spent on.
struct Share {
  std::string name;  ///< an entity, a message, "headers"
  std::string what;
  bool from_client = false;
  double bytes_per_second = 0;
  double each_bits = 0;  ///< mean size of one update or message; 0 for headers
};

struct Cost {
  std::vector<Coding> codings;  ///< ours first
  std::vector<Share> shares;    ///< each way from the largest down
};

/// Requires: a plan that read_plan gave for this protocol. The seed of the plan decides everything.
/// O(measured ticks * what travels in a tick), about a second for a view of a thousand entities.
Cost cost_of(const schema::Protocol& protocol, const Plan& plan);

}  // namespace kwind::budget
