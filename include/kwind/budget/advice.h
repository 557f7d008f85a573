// Which choices of a description cost more than they have to, given how often its state changes.
#pragma once
#include <string>
#include <vector>

#include "kwind/budget/plan.h"

namespace kwind::budget {

/// What to consider at one field.
struct Advice {
  std::string entity;
  std::string field;
  std::string text;
};

/// Looks at the fields that change in each `[[state]]` of a plan: fields without prediction, steps
/// finer than the motion of a tick, values that are sent whole. In the order of the plan; empty:
/// nothing was found. Requires: a plan that read_plan gave for this protocol. O(fields of the plan).
std::vector<Advice> advice_for(const schema::Protocol& protocol, const Plan& plan);

}  // namespace kwind::budget
