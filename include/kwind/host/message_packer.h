// Encodes outgoing messages once, kind code included, into storage of its own.
// Used by Server and Client. One packer, one thread.
#pragma once
#include <algorithm>
#include <cstdint>
#include <span>
#include <vector>

#include "kwind/core/compiler.h"
#include "kwind/link/spec.h"
#include "kwind/schema/codec.h"
#include "kwind/schema/message_type_codes.h"

namespace kwind::host {

/// An encoded message. Its bytes are the packer's, valid until the next one is packed.
struct PackedMessage {
  std::uint16_t type = 0;
  std::uint16_t version = 0;         ///< in whose layout it is
  std::uint16_t request_id = 0;      ///< requests and answers: which
  std::span<const std::byte> bytes;  ///< valid until the next pack()
  std::size_t bits = 0;
};

/// Encodes messages into storage that it keeps.
class KWIND_API MessagePacker {
 public:
  /// For messages in direction `way` of `protocol`, which must outlive this.
  MessagePacker(const schema::ProtocolInfo& protocol, schema::Direction way, bits::Policy policy)
      : policy_(policy) {
    for (const schema::VersionInfo& entry : protocol.versions) {
      codes_.push_back({entry.version, schema::MessageTypeCodes(protocol, way, entry.version)});
    }
    std::size_t max_bits = 0;
    for (const schema::MessageInfo& message : protocol.messages) {
      max_bits = std::max<std::size_t>(max_bits, message.max_bits);
    }
    scratch_.resize(std::min(bits::bytes_for(max_bits), link::kMaxMessageBytes) + 16);
  }

  /// Packs in the layout of `version`, which must be one that the protocol speaks.
  /// Requires: T is a message of the protocol and travels in this direction.
  /// Errors: unknown_to_peer, which is counted; message_too_large; out_of_range under
  /// Policy::refuse.
  /// `question` is the number of a request or answer; other messages have none.
  template <schema::Sendable T>
  [[nodiscard]] Result<PackedMessage> pack(const T& message, std::uint16_t version,
                                           std::uint16_t request_id = 0) {
    return pack_with(message.info(), version, request_id,
                     [&](schema::Encoder& out) { encode(out, message); });
  }
  template <class Encode>
  [[nodiscard]] Result<PackedMessage> pack_with(const schema::MessageInfo& info,
                                                std::uint16_t version, std::uint16_t request_id,
                                                const Encode& encode_fields) {
    const schema::MessageTypeCodes& codes = codes_of(version);
    if (!info.life.alive(version)) {
      ++unknown_to_peer_;
      return fail(Errc::unknown_to_peer);
    }
    bits::Writer writer(scratch_);
    codes.put(writer, info.type);
    if (info.role != schema::MessageRole::message) writer.put(request_id, schema::kRequestIdBits);
    schema::Encoder out(writer, policy_, version);
    encode_fields(out);
    ++packed_;
    out_of_range_ += out.out_of_range_count();
    if (out.error() != Errc::none) return fail(out.error());
    out.finish();
    return PackedMessage{info.type, version, request_id, scratch_, out.bit_count()};
  }

  /// The message by which the asking end learns that request `number` gets no answer: an answer of
  /// type `info` with number 0, and `number` in place of fields. Errors: unknown_to_peer.
  [[nodiscard]] Result<PackedMessage> pack_abandoned(const schema::MessageInfo& info,
                                                     std::uint16_t version, std::uint16_t number) {
    return pack_with(info, version, 0, [&](schema::Encoder& out) {
      out.write(schema::Encoder::choice(std::uint64_t{1} << schema::kRequestIdBits, number));
    });
  }

  /// Messages encoded so far; one that goes to many counts once for each version.
  [[nodiscard]] std::uint64_t packed() const { return packed_; }
  /// Values so far that were outside their ranges.
  [[nodiscard]] std::uint64_t out_of_range() const { return out_of_range_; }
  /// Messages so far that a peer's version does not have; one for each version when sent to many.
  [[nodiscard]] std::uint64_t unknown_to_peer() const { return unknown_to_peer_; }

 private:
  struct Codes {
    std::uint16_t version;
    schema::MessageTypeCodes codes;
  };
  [[nodiscard]] const schema::MessageTypeCodes& codes_of(std::uint16_t version) const {
    for (const Codes& entry : codes_) {
      if (entry.version == version) return entry.codes;
    }
    KWIND_ASSERT(false && "the protocol does not speak this version");
    return codes_.front().codes;
  }

  std::vector<Codes> codes_;  // newest first
  bits::Policy policy_;
  std::uint64_t packed_ = 0;
  std::uint64_t out_of_range_ = 0;
  std::uint64_t unknown_to_peer_ = 0;
  std::vector<std::byte> scratch_;  // holds the largest message
};

}  // namespace kwind::host
