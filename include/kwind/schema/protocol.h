// A protocol as data: what language::compile makes of a .kw file, and what the generators, the tool
// and the digest are made from. Plain values, no behaviour beyond questions about themselves.
#pragma once
#include <algorithm>
#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "kwind/bits/quantise.h"
#include "kwind/bits/unit_vectors.h"
#include "kwind/core/compiler.h"
#include "kwind/schema/info.h"
#include "kwind/schema/life.h"
#include "kwind/schema/value.h"

namespace kwind::schema {

enum class TypeKind : std::uint8_t {
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
  vec,
  text,
  bytes,
  enumeration,
  flags,
  record,
  list,
  grid,
  maybe,
  one_of,
  ref,
  peer,
  tick,
};

/// num / den in lowest terms, den >= 1.
struct KWIND_API Fraction {
  std::int64_t num = 0;
  std::int64_t den = 1;
  [[nodiscard]] double value() const { return static_cast<double>(num) / static_cast<double>(den); }
  friend bool operator==(const Fraction&, const Fraction&) = default;
};

/// The type of a field. Which members mean something depends on `kind`.
struct Type {
  TypeKind kind = TypeKind::boolean;
  bits::IntRange integer{};
  bits::RealRange real{};
  bits::AngleRange angle{};         ///< angle, direction2
  Fraction within;                  ///< direction3, rotation: degrees, as written
  bits::DirectionGrid direction{};  ///< direction3
  bits::RotationGrid rotation{};    ///< rotation
  /// count: the largest; text, bytes: most bytes; list: most items; vec: 2 or 3; grid: columns;
  /// ref: most entities; peer: most peers.
  std::uint32_t limit = 0;
  std::uint32_t height = 0;     ///< grid: rows
  std::uint32_t item_bits = 0;  ///< list: fewest bits of an item in any version that is spoken
  /// enumeration, flags, record, one_of, ref: place in enums, flags, records, one_ofs, entities.
  std::uint32_t index = 0;
  std::vector<Type> element;  ///< vec, list, grid, maybe: one entry

  friend bool operator==(const Type&, const Type&) = default;
};

/// Which process alone has a field that never travels.
enum class Local : std::uint8_t { no, server, client };

/// `follow SPEED along DIRECTION` or `follow VELOCITY`: how both ends move a value on between
/// updates.
struct Follow {
  std::string speed;      ///< a field of the same entity: a number, or a vector if it is a velocity
  std::string along;      ///< angle, direction2 or direction3 of the same entity; "" for a velocity
  Fraction within{0, 1};  ///< error that needs no correction; 0: correct every one
};

/// Words that only fields of entities have.
struct EntityWords {
  bool at_spawn = false;                   ///< travels once, when the entity appears
  bool owner_only = false;                 ///< goes to the owner of the entity alone
  bool smooth = false;                     ///< the receiver interpolates between updates
  Freshness freshness = Freshness::usual;  ///< usual: that of the entity
  Local local = Local::no;
  std::optional<Follow> follow;
  /// `relative to FIELD`: a `ref` of the same entity. While it names an entity, the value counts
  /// from that entity's field of the same name; empty: it never does.
  std::string relative_to;

  /// Whether both ends predict more than that the value stays.
  [[nodiscard]] bool predict() const { return smooth || follow.has_value(); }
};

/// A field of a message, a record or an entity.
struct Field {
  std::string name;
  Type type;
  Life life;
  bool untyped = false;  ///< local, and of no type that this library knows
  std::optional<Value> written_default;
  std::string unit;  ///< of its quantity; may be empty
  std::string doc;
  EntityWords words;

  /// Whether it has bits in `version`.
  [[nodiscard]] bool travels(std::uint16_t version) const {
    return words.local == Local::no && life.alive(version);
  }
};

/// A value of an enum, a flag, or a case of a `one of`.
struct Option {
  std::string name;
  Life life;
  std::uint16_t stand_in = 0;  ///< place of its `else`; its own if it needs none
  std::vector<Type> type;      ///< case: one entry, or none if the case carries nothing
  std::string doc;
};

/// An enum, a set of flags, or a `one of`.
struct Options {
  std::string name;
  std::string inside;  ///< the declaration whose field declares it; empty at top level
  std::vector<Option> options;
  std::string doc;
  /// Life and stand-in of each if some version lacks some of them, otherwise empty.
  std::vector<Choice> lives;

  /// How many of them `version` has.
  [[nodiscard]] std::uint64_t alive(std::uint16_t version) const {
    return lives.empty() ? options.size() : choices_alive(lives, version);
  }
};

/// A named group of fields.
struct Record {
  std::string name;
  std::vector<Field> fields;
  std::string doc;
};

/// A channel that a description declares.
struct Channel {
  std::string name;
  Delivery delivery = Delivery::unreliable;
  bool high = false;        ///< priority high
  bool bulk = false;        ///< fills only what the others leave
  std::uint8_t repeat = 0;  ///< sequenced: each datagram carries the last N unacknowledged
  Life life;
  std::string doc;
};

/// A message, or a request or the answer to one.
struct MessageType {
  std::string name;
  MessageRole role = MessageRole::message;
  Direction direction = Direction::both;
  std::uint8_t channel = 0;
  std::uint16_t at_most_per_second = 0;  ///< 0: not limited
  bool split = false;                    ///< may be larger than a datagram on any channel
  std::string owner_field;  ///< the `ref` whose owner alone may send it; empty: anybody
  std::vector<Field> fields;
  Life life;
  std::string doc;
};

/// An entity type.
struct Entity {
  std::string name;
  std::uint16_t at_most_per_second = 0;  ///< its changes are sent so often at most; 0: in each tick
  Freshness freshness = Freshness::usual;
  std::vector<Field> fields;
  Life life;
  std::string doc;

  /// Whether a position follows the field: it is a speed or a velocity, which somebody steers.
  [[nodiscard]] bool is_speed(const Field& field) const {
    return std::any_of(fields.begin(), fields.end(), [&](const Field& each) {
      return each.words.follow && each.words.follow->speed == field.name;
    });
  }
};

/// A description, compiled.
struct Protocol {
  std::string name;
  std::uint16_t version = 0;
  std::uint32_t entities_up_to = 0;  ///< 0: not stated
  std::uint32_t peers_up_to = 0;     ///< 0: not stated
  std::vector<Options> enums;
  std::vector<Options> flags;
  std::vector<Options> one_ofs;  ///< each behind those that its cases contain
  std::vector<Record> records;   ///< each behind those that it contains
  std::vector<Channel> channels;
  std::vector<MessageType> messages;  ///< a request is followed by its answer
  std::vector<Entity> entities;
  std::string doc;
};

/// How many versions a hello can list.
inline constexpr std::uint16_t kMaxVersions = 16;
/// The oldest version that is spoken: the newest kMaxVersions are.
[[nodiscard]] KWIND_API std::uint16_t oldest_version(const Protocol& protocol);

/// The value of a new struct: zero where the range has it, else the end nearest to zero; the first
/// name; nothing.
KWIND_API Value initial_value(const Protocol& protocol, const Type& type);
/// What a field has in a new struct, and where a version does not have it: its default if one is
/// written.
KWIND_API Value initial_value(const Protocol& protocol, const Field& field);
/// That of a record, message or entity.
KWIND_API Value initial_value(const Protocol& protocol, const std::vector<Field>& fields);

/// Bits that a value can take. Typical: texts, bytes and lists half full, every second `maybe`
/// there, a count of an eighth of its maximum, the mean case, one grid cell in 16 a new one.
struct Size {
  std::uint32_t min_bits = 0;
  std::uint32_t typical_bits = 0;
  std::uint32_t max_bits = 0;
  friend bool operator==(const Size&, const Size&) = default;
};

/// The bits of a value of the type, or of all fields together, in `version`. O(fields below it).
KWIND_API Size size_of(const Protocol& protocol, const Type& type, std::uint16_t version = kNewest);
/// The fewest and the most bits in any version that the protocol speaks; typical: in the newest.
KWIND_API Size size_in_any_version(const Protocol& protocol, const std::vector<Field>& fields);
KWIND_API Size size_of(const Protocol& protocol, const std::vector<Field>& fields,
                       std::uint16_t version = kNewest);

/// The type in the words of the description language, ranges in lowest terms:
/// "real -1024..<1024 step 1/16", "list of Spot up to 8".
KWIND_API std::string type_text(const Protocol& protocol, const Type& type);

/// "since 2 until 4" behind `before`; empty for what every version has.
KWIND_API std::string life_text(const Life& life, std::string_view before = "");
/// "7" or "1 to 9".
KWIND_API std::string bits_text(const Size& size);
/// `SPEED along DIRECTION` or `VELOCITY`, without the tolerance.
KWIND_API std::string follow_text(const Follow& follow);
/// What a field with these words, one of `fields`, follows in a version of its entity: null where
/// the version lacks a field that `follow` names. The result lives as long as the words.
KWIND_API const Follow* follow_in(const EntityWords& words, std::span<const Field> fields,
                                  std::uint16_t version);
/// Whether `smooth` extrapolates such values: directions, rotations, and vectors of `real`.
KWIND_API bool can_be_extrapolated(const Type& type);

/// The declarations that decide the layout of `version`, in order: channels, messages, entities;
/// each with all that it contains spelled out. The format is in docs/schema-language.md.
struct Listed {
  std::string name;
  std::string text;
};
KWIND_API std::vector<Listed> listing(const Protocol& protocol, std::uint16_t version);

/// Versions from `since` to `newest`.
struct VersionRange {
  std::uint16_t since = 1;
  std::uint16_t newest = 1;
};
/// The versions that are spoken, newest first, in ranges that have the same entities on the wire:
/// one if all have. O(versions * entities).
KWIND_API std::vector<VersionRange> entity_versions(const Protocol& protocol);

/// All that decides the layout of `version` and nothing else: comments, spelling of numbers,
/// quantities, what no message or entity uses, and the order of helper declarations leave it as
/// it is; so do additions of later versions.
KWIND_API std::string canonical_listing(const Protocol& protocol, std::uint16_t version);

/// BLAKE2b-128 of the canonical listing of `version`.
KWIND_API Digest128 digest_of(const Protocol& protocol, std::uint16_t version);

/// One row for each change of a declaration among the versions that are spoken, oldest first, the
/// rows of one declaration together. The digest is the first 32 bits of the BLAKE2b-128 of its
/// listing. Views point into `protocol`.
KWIND_API std::vector<DeclarationInfo> declaration_digests(const Protocol& protocol);

}  // namespace kwind::schema
