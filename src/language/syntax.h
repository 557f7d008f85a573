// The syntax tree of a .kw file and those it includes: what was written, with its places, before
// any name is looked up.
#pragma once
#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "kwind/core/delivery.h"
#include "kwind/schema/protocol.h"
#include "language/lexer.h"

namespace kwind::language {

/// A number as written: num / den, den >= 1, not reduced.
struct Number {
  std::int64_t num = 0;
  std::int64_t den = 1;
  Token place;  ///< of kind `end` if nothing was written

  [[nodiscard]] bool written() const { return place.kind != TokenKind::end; }
};

struct LifeSyntax {
  Number since;
  Number until;
};

enum class TypeWord : std::uint8_t {
  named,
  boolean,
  integer,
  count,
  real,
  f32,
  f64,
  angle,
  direction2,
  direction3,
  rotation,
  vec2,
  vec3,
  text,
  bytes,
  enumeration,
  flags,
  list,
  grid,
  maybe,
  one_of,
  ref,
  peer,
  tick,
};

struct OptionSyntax;

struct TypeSyntax {
  TypeWord word = TypeWord::named;
  Token place;                ///< the first word of the type; ref: the entity's name
  Number lo, hi, step;        ///< int, real, angle, direction2; within of direction3, rotation
  bool end_left_out = false;  ///< ..<
  Number limit;               ///< count, text, bytes, list; grid: columns
  Number height;              ///< grid: rows
  std::vector<OptionSyntax> options;  ///< enum, flags, one of
  std::string unit;                   ///< behind `in`; numbers, angles, vectors
  std::vector<TypeSyntax> element;
};

/// A value of an enum, a flag, a case, a reason to refuse.
struct OptionSyntax {
  Token name;
  LifeSyntax life;
  Token stand_in;  ///< behind `else`; of kind `end` if not written
  std::vector<TypeSyntax> type;
  std::string doc;
};

/// A default: a number, or a word or string in `place`.
struct DefaultSyntax {
  Token place;
  Number number;
};

struct FieldSyntax {
  Token name;
  std::optional<TypeSyntax> type;  ///< none: local and untyped
  std::optional<DefaultSyntax> initial;
  LifeSyntax life;
  std::optional<Token> at_spawn, owner_only, smooth, local, freshness;
  schema::Local side = schema::Local::no;
  std::optional<Token> follow;
  Token speed, along;
  std::optional<Token> relative;
  Token carrier;
  Number within;
  std::string doc;
};

struct QuantitySyntax {
  Token name;
  TypeSyntax type;
};
struct OptionsSyntax {  // enum or flags
  Token name;
  std::vector<OptionSyntax> options;
  std::string doc;
};
struct RecordSyntax {
  Token name;
  std::vector<FieldSyntax> fields;
  std::string doc;
};
struct ChannelSyntax {
  Token name;
  Delivery delivery = Delivery::unreliable;
  Number repeat;
  bool high = false;
  bool bulk = false;
  LifeSyntax life;
  std::string doc;
};
struct MessageSyntax {
  Token name;
  bool request = false;
  bool whole = true;  ///< false: its head was wrong; kept for the errors in its fields
  schema::Direction direction = schema::Direction::both;
  Token owner;  ///< the field behind `owner of`
  Token channel;
  Number at_most;
  bool split = false;
  LifeSyntax life;
  std::vector<FieldSyntax> fields;
  std::vector<FieldSyntax> reply;      ///< request
  std::vector<OptionSyntax> refusals;  ///< request
  std::string doc;
};
struct EntitySyntax {
  Token name;
  Number at_most;
  Token freshness;  // `urgent` or `lazy`; empty: neither
  LifeSyntax life;
  std::vector<FieldSyntax> fields;
  std::string doc;
};

struct FileSyntax {
  Token protocol_name;
  Number version;
  Number entities, peers;
  std::string doc;
  std::vector<QuantitySyntax> quantities;
  std::vector<OptionsSyntax> enums;
  std::vector<OptionsSyntax> flags;
  std::vector<RecordSyntax> records;
  std::vector<ChannelSyntax> channels;
  std::vector<MessageSyntax> messages;
  std::vector<EntitySyntax> entities_declared;
  std::vector<std::size_t> starts;  ///< tokens of the first file that start a declaration
};

/// The words that start a declaration, and those that start a type.
const std::vector<std::string>& declaration_words();
const std::vector<std::string>& type_words();

/// Parses what can be parsed, included files too, and reports every error met on the way.
/// `files` holds the file given; included ones are appended and must not move afterwards.
/// A `part` may name no protocol.
FileSyntax parse(std::vector<std::unique_ptr<SourceFile>>& files, const Loader& load,
                 std::vector<Diagnostic>& errors, bool part = false);

/// Looks names up, checks ranges and builds the protocol; reports every error met on the way.
schema::Protocol resolve(const FileSyntax& file, std::vector<Diagnostic>& errors,
                         std::vector<Diagnostic>& hints);

}  // namespace kwind::language
