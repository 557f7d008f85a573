// Made-up values of a description: for measuring, for test vectors, for property tests. The seed
// decides everything; nothing here draws randomness of its own. Safe anywhere.
#pragma once
#include <cstdint>

#include "kwind/core/compiler.h"
#include "kwind/schema/protocol.h"

namespace kwind::schema {

/// How much a made-up value holds.
enum class SampleSize : std::uint8_t {
  min,      ///< low ends, nothing in texts and lists
  typical,  ///< numbers from all of the range, texts and lists about half full, words for texts
  max,      ///< high ends, everything full
  any,      ///< anything that the description allows, evenly: also what nobody would send
};

/// Numbers that follow from a seed (SplitMix64: Steele, Lea, Flood 2014).
class KWIND_API SampleNumbers {
 public:
  explicit SampleNumbers(std::uint64_t seed) : state_(seed) {}
  std::uint64_t next();
  /// 0 to `last`.
  std::uint64_t up_to(std::uint64_t last) {
    return last == ~std::uint64_t{0} ? next() : next() % (last + 1);
  }

 private:
  std::uint64_t state_;
};

/// A value that encodes without loss and comes back equal, in the newest version. Ticks are below
/// 2^16. O(size of the value).
KWIND_API Value sample_value(const Protocol& protocol, const Type& type, SampleSize size,
                             SampleNumbers& numbers);
KWIND_API Value sample_value(const Protocol& protocol, const std::vector<Field>& fields,
                             SampleSize size, SampleNumbers& numbers);

}  // namespace kwind::schema
