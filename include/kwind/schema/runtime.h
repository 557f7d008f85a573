// Encodes and decodes without generated code, from the description alone: the same bits, held to
// the same ranges. What the tool is built on, and what the tests hold generated code against.
// Nothing here keeps state between calls; one value, one thread.
#pragma once
#include <functional>
#include <string>
#include <vector>

#include "kwind/core/compiler.h"
#include "kwind/schema/codec.h"
#include "kwind/schema/protocol.h"

namespace kwind::schema {

/// Writes `value`, which has an item for each of `fields`, in the layout and view of `out`.
/// Values out of range follow the policy of `out`. Requires: the value has the shape of the fields
/// (see Value; initial_value() makes one). O(size of the value).
KWIND_API void encode_value(const Protocol& protocol, const std::vector<Field>& fields,
                            const Value& value, Encoder& out);

/// Reads a value into `to`, reusing its storage. What the version of `in` does not have gets its
/// default. After an error `to` has the right shape, and values that mean nothing.
KWIND_API void decode_value(const Protocol& protocol, const std::vector<Field>& fields, Decoder& in,
                            Value& to);

/// Writes the fields of an entity that the version of `out` has, `owner only` ones too, and calls
/// mark() behind each field that is not local, also where the version lacks it: what
/// replica::World::spawn_encoded() wants. O(size of the value).
KWIND_API void encode_columns(const Protocol& protocol, const Entity& entity, const Value& value,
                              Encoder& out, const std::function<void()>& mark);

/// Between two states of an entity: `part` 0 is `from`, 1 is `to`. Fields that are neither `smooth`
/// nor `follow` stay as in `from`. The same values as blend() of generated code. O(size of the
/// value).
KWIND_API Value blended_entity(const Protocol& protocol, const Entity& entity, const Value& from,
                               const Value& to, double part);

/// One value's place among the bits.
struct Span {
  std::string path;  ///< "tugs[3].bearing"
  std::string type;  ///< as the description spells it; "length of list", "present", "case"
  std::size_t first_bit = 0;
  std::size_t bits = 0;
  std::string raw;     ///< the bits as a number, hexadecimal beyond 64 bits
  std::string value;   ///< for people: "12.5 knots", "timber", "true"
  bool fault = false;  ///< encode: it was out of range; decode: here it went wrong
};

/// What a run of bits says.
struct Explained {
  Value value;
  std::vector<Span> spans;  ///< in order, without gaps; what an error left unread is the last
  Errc error = Errc::none;  ///< as decode_message
};

/// Decodes the first `bits` bits of `memory` and names each of them.
KWIND_API Explained explain(const Protocol& protocol, const std::vector<Field>& fields,
                            std::span<const std::byte> memory, std::size_t bits,
                            const Layout& layout = {});

/// Encodes a value that the description allows into `out` and returns its spans; those out of range
/// are marked and, under Policy::clamp, moved into their ranges.
KWIND_API std::vector<Span> encode_explained(const Protocol& protocol,
                                             const std::vector<Field>& fields, const Value& value,
                                             std::span<std::byte> memory, Encoder& out);

/// A value as text for people: "3.5", "timber", "\"Tern\"", "none".
KWIND_API std::string value_text(const Protocol& protocol, const Type& type, const Value& value);

}  // namespace kwind::schema
