// Encodes outgoing messages once, kind code included, into storage of its own.
// Used by Server and Client. One packer, one thread.
#pragma once
#include <array>
#include <cstdint>
#include <span>

#include "kwind/link/spec.h"
#include "kwind/schema/codec.h"
#include "kwind/schema/kind_codes.h"

namespace kwind::host {

struct PackedMessage {
  std::uint16_t kind = 0;
  std::span<const std::byte> bytes;  ///< valid until the next pack()
  std::size_t bits = 0;
};

class MessagePacker {
 public:
  /// For messages in direction `way` of `protocol`, which must outlive this.
  MessagePacker(const schema::ProtocolInfo& protocol, schema::Direction way, bits::Policy policy)
      : codes_(protocol, way), policy_(policy) {}

  /// Requires: T is a message of the protocol and travels in this direction.
  /// Errors: out_of_range under Policy::refuse.
  template <schema::Message T>
  [[nodiscard]] Result<PackedMessage> pack(const T& message) {
    const std::uint16_t kind = T::info().kind;
    bits::Writer writer(scratch_);
    codes_.put(writer, kind);
    schema::Encoder out(writer, policy_);
    encode(out, message);
    out_of_range_ += out.out_of_range_count();
    if (out.error() != Errc::none) return fail(out.error());
    writer.finish();
    return PackedMessage{kind, scratch_, writer.bit_count()};
  }

  [[nodiscard]] const schema::KindCodes& codes() const { return codes_; }
  /// Values so far that were outside their ranges.
  [[nodiscard]] std::uint64_t out_of_range() const { return out_of_range_; }

 private:
  schema::KindCodes codes_;
  bits::Policy policy_;
  std::uint64_t out_of_range_ = 0;
  std::array<std::byte, link::kMaxMessageBytes> scratch_{};
};

}  // namespace kwind::host
