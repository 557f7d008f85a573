// The content of a refusal without a common version: enough for the client to name the first
// declaration that differs. Pure functions.
#pragma once
#include <cstdint>
#include <string>
#include <vector>

#include "kwind/bits/reader.h"
#include "kwind/bits/writer.h"
#include "kwind/core/errors.h"
#include "kwind/link/spec.h"

namespace kwind::link {

struct Mismatch {
  static constexpr std::size_t kMaxDigests = 240;  // 960 bytes: a refusal stays below a hello

  std::uint16_t oldest = 0;  ///< version that the server speaks
  std::uint16_t newest = 0;
  std::uint16_t compared = 0;          ///< the newest version that both list, differently; 0: none
  std::uint16_t group = 1;             ///< declarations that each digest stands for
  std::vector<std::uint32_t> digests;  ///< of the server's declarations in `compared`, in order

  friend bool operator==(const Mismatch&, const Mismatch&) = default;
};

/// What the server `ours` has to say to a client that listed `theirs`. O(declarations).
Mismatch mismatch_of(const Identity& ours, const Identity& theirs);

/// One sentence for people at the client: what differs first, and which side is older.
std::string explain_mismatch(const Identity& client, const Mismatch& server);

void put(bits::Writer& out, const Mismatch& mismatch);
/// Errors: truncated, value_range, too_long.
Result<Mismatch> get_mismatch(bits::Reader& in);

}  // namespace kwind::link
