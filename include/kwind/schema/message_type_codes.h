// How a message says of which type it is: within one direction and one channel the message types
// that the agreed version has are numbered from 0, and the number takes as many bits as that needs.
// A channel that carries one type in a direction spends nothing on it.
#pragma once
#include <cstdint>
#include <vector>

#include "kwind/bits/reader.h"
#include "kwind/core/compiler.h"
#include "kwind/core/errors.h"
#include "kwind/schema/info.h"

namespace kwind::schema {

/// Behind the kind of a request or an answer stands which one it is, in so many bits: numbers of
/// the asking end, per connection. See docs/wire-format.md.
inline constexpr unsigned kRequestIdBits = 16;

/// Codes of the message types of one direction and version, channel by channel.
class KWIND_API MessageTypeCodes {
 public:
  /// For messages of `version` in `way`, which is from_client or from_server. `protocol` must
  /// outlive this. O(messages).
  MessageTypeCodes(const ProtocolInfo& protocol, Direction way, std::uint16_t version);

  /// Whether `kind` travels in this direction, in this version.
  [[nodiscard]] bool carries(std::uint16_t kind) const { return code_[kind] != kNone; }
  /// Writes the code of `kind`. Requires: carries(kind).
  void put(bits::Writer& out, std::uint16_t kind) const;
  /// Reads a code on `channel`. Errors: truncated; unknown_kind if no kind has
  /// it; wrong_direction if nothing travels on the channel in this direction.
  [[nodiscard]] Result<std::uint16_t> get(bits::Reader& in, std::size_t channel) const;

 private:
  static constexpr std::uint16_t kNone = 0xffff;
  const ProtocolInfo* protocol_;
  std::vector<std::uint16_t> code_;                // by kind
  std::vector<std::vector<std::uint16_t>> kinds_;  // by channel, then code
};

}  // namespace kwind::schema
