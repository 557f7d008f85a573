// Test vectors of a protocol, for ports to other languages. Optional, on nlohmann-json. Pure
// functions; safe anywhere.
#pragma once
#include <string>
#include <vector>

#include "kwind/json/json.h"

namespace kwind::json {

/// A JSON object: "protocol"; "versions", each with its digest; "vectors", each with the "message"
/// (or entity), the "version" in whose layout it is, the number of "bits", these in "hex", and the
/// "value" that they decode to. Each message and entity in each version that is spoken: empty, two
/// typical, one full one if that is below 600 bytes. The same protocol gives the same text.
std::string test_vectors(const schema::Protocol& protocol);

/// Encodes and decodes every vector of such a text with the runtime codec; one line for each that
/// does not come out as it says.
std::vector<Problem> check_vectors(const schema::Protocol& protocol, std::string_view text);

}  // namespace kwind::json
