// The syntax tree of a .kw file: what was written, with its places, before any name is looked up.
#pragma once
#include <cstdint>
#include <string>
#include <vector>

#include "kwind/bits/delivery.h"
#include "kwind/schema/info.h"
#include "lexer.h"

namespace kwind::language {

/// A number as written: num / den, den >= 1, not reduced.
struct Number {
  std::int64_t num = 0;
  std::int64_t den = 1;
  Token place;
};

enum class TypeWord : std::uint8_t { named, boolean, integer, real, turn, text, enumeration, list };

struct TypeSyntax {
  TypeWord word = TypeWord::named;
  Token place;                ///< the first word of the type
  Number lo, hi, step;        ///< int, real, turn
  bool end_left_out = false;  ///< ..<
  Number limit;               ///< text, list
  std::vector<Token> values;  ///< enumeration
  std::vector<TypeSyntax> element;
};

struct FieldSyntax {
  Token name;
  TypeSyntax type;
};

struct QuantitySyntax {
  Token name;
  TypeSyntax type;
};
struct EnumSyntax {
  Token name;
  std::vector<Token> values;
};
struct RecordSyntax {
  Token name;
  std::vector<FieldSyntax> fields;
};
struct ChannelSyntax {
  Token name;
  Delivery delivery = Delivery::unreliable;
};
struct MessageSyntax {
  Token name;
  schema::Direction direction = schema::Direction::both;
  Token channel;
  Number at_most;  ///< 0: not limited
  std::vector<FieldSyntax> fields;
};

struct FileSyntax {
  Token protocol_name;
  Number version;
  std::vector<QuantitySyntax> quantities;
  std::vector<EnumSyntax> enums;
  std::vector<RecordSyntax> records;
  std::vector<ChannelSyntax> channels;
  std::vector<MessageSyntax> messages;
  std::vector<MessageSyntax>
      broken_messages;  ///< with a wrong head, kept for the errors in their fields
};

/// Parses what can be parsed and reports every error met on the way.
FileSyntax parse(const std::vector<Token>& tokens, std::vector<Diagnostic>& errors);

/// Looks names up, checks ranges and builds the protocol; reports every error met on the way.
schema::Protocol resolve(const FileSyntax& file, std::vector<Diagnostic>& errors);

}  // namespace kwind::language
