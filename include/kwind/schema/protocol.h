// A protocol as data: what language::compile makes of a .kw file, and what the generators, the tool
// and the digest are made from. Plain values, no behaviour beyond questions about themselves.
#pragma once
#include <cstdint>
#include <string>
#include <vector>

#include "kwind/bits/quantise.h"
#include "kwind/schema/info.h"

namespace kwind::schema {

enum class TypeKind : std::uint8_t {
  boolean,
  integer,
  real,
  turn,
  text,
  enumeration,
  record,
  list,
};

/// The type of a field. Which members mean something depends on `kind`.
struct Type {
  TypeKind kind = TypeKind::boolean;
  bits::IntRange integer{};
  bits::RealRange real{};
  bits::TurnRange turn{};
  std::uint32_t limit = 0;  ///< text: most bytes; list: most items
  std::uint32_t index = 0;  ///< enumeration: place in Protocol::enums; record: in Protocol::records
  std::vector<Type> element;  ///< list: one entry, the type of an item

  friend bool operator==(const Type&, const Type&) = default;
};

struct Field {
  std::string name;
  Type type;
};

struct Enumeration {
  std::string name;
  std::string inside;  ///< the record or message that declares it in a field; empty at top level
  std::vector<std::string> values;
};

struct Record {
  std::string name;
  std::vector<Field> fields;
};

struct MessageType {
  std::string name;
  Direction direction = Direction::both;
  std::uint8_t channel = 0;
  std::uint16_t at_most_per_second = 0;  ///< 0: not limited
  std::vector<Field> fields;
};

struct Channel {
  std::string name;
  Delivery delivery = Delivery::unreliable;
};

struct Protocol {
  std::string name;
  std::uint32_t version = 0;
  std::vector<Enumeration> enums;
  std::vector<Record> records;  ///< each before any that contains it
  std::vector<Channel> channels;
  std::vector<MessageType> messages;
};

struct Size {
  std::uint32_t fewest_bits = 0;
  std::uint32_t most_bits = 0;
  friend bool operator==(const Size&, const Size&) = default;
};

/// The bits that a value of the type, or all fields together, can take. O(fields below it).
Size size_of(const Protocol& protocol, const Type& type);
Size size_of(const Protocol& protocol, const std::vector<Field>& fields);

/// The type in the words of the description language, ranges in lowest terms:
/// "real -1024..<1024 step 1/16", "list of Spot up to 8".
std::string type_text(const Protocol& protocol, const Type& type);

/// All that decides the layout, one line each, and nothing else: comments, spelling of numbers,
/// quantities, declarations that no message uses and the order of helper declarations leave it as
/// it is. The format is in docs/schema-language.md.
std::string canonical_listing(const Protocol& protocol);

/// BLAKE2b-128 of the canonical listing.
bits::Digest128 digest_of(const Protocol& protocol);

}  // namespace kwind::schema
