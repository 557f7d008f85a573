// The canonical listing of a protocol, and its digests.
//
// A listing is a text with one line for each field, without anything that changes no bit:
// comments, defaults, units and the names of records are left out. Two descriptions that list
// equally are interchangeable on the wire; the digest (BLAKE2b) of the listing is what handshakes
// compare.
#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <numeric>

#include "kwind/schema/protocol.h"

namespace kwind::schema {
namespace {

// num / den in lowest terms: "1/16", "-3".
std::string fraction(std::int64_t num, std::int64_t den) {
  // gcd(0, den) is den, so that 0 has one spelling.
  const std::int64_t common = std::max<std::int64_t>(1, std::gcd(num, den));
  if (den == common) return fmt::format("{}", num / common);
  return fmt::format("{}/{}", num / common, den / common);
}

// "enum { plain, urgent }", with those of the version alone.
std::string names_of(std::string_view word, const Options& options,
                     std::uint16_t version = kNewest) {
  std::vector<std::string_view> names;
  // In the order of their codes.
  for (const Option& option : options.options) {
    if (option.life.alive(version)) names.emplace_back(option.name);
  }
  return fmt::format("{} {{ {} }}", word, fmt::join(names, ", "));
}

class Lister {
 public:
  Lister(const Protocol& protocol, std::uint16_t version)
      : protocol_(protocol), version_(version) {}

  // The listing of one declaration: its head, then a line for each field.
  // The text is the input of a hash and must never change for a description that does not change:
  // docs/schema-language.md specifies it.
  std::string fields(std::string head, const std::vector<Field>& all) {
    out_ = std::move(head) + "\n";
    declaration_ = &all;
    list(all, " ");
    return std::move(out_);
  }

 private:
  // Fields that the version has, indented by depth.
  void list(const std::vector<Field>& all, const std::string& indent) {
    // In the order of the bits.
    for (const Field& field : all) {
      if (!field.travels(version_)) continue;
      out_ += indent + field.name + words_of(field.words) + " : ";
      list(field.type, indent);
    }
  }

  // Words of entities that decide what travels.
  [[nodiscard]] std::string words_of(const EntityWords& words) const {
    std::string out;
    if (words.at_spawn) out += " at spawn";
    if (words.owner_only) out += " owner only";
    // `smooth` is no part of it: the word changes what is drawn, not what is sent.
    if (const Follow* follow = follow_in(words, *declaration_, version_)) {
      out += " follow " + follow_text(*follow);
      if (follow->within.num != 0) {
        out += " within " + fraction(follow->within.num, follow->within.den);
      }
    }
    if (!words.relative_to.empty()) out += " relative to " + words.relative_to;
    return out;
  }

  // As type_text, with named types spelled out in place of their names.
  void list(const Type& type, const std::string& indent) {
    switch (type.kind) {
      case TypeKind::enumeration:
        out_ += names_of("enum", protocol_.enums[type.index], version_) + "\n";
        return;
      case TypeKind::flags:
        out_ += names_of("flags", protocol_.flags[type.index], version_) + "\n";
        return;
      case TypeKind::record:
        out_ += "record\n";
        list(protocol_.records[type.index].fields, indent + " ");
        return;
      case TypeKind::one_of:
        out_ += "one of\n";
        // Cases in the order of their codes, each with what it carries.
        for (const Option& option : protocol_.one_ofs[type.index].options) {
          if (!option.life.alive(version_)) continue;
          out_ += indent + " " + option.name + " : ";
          if (option.type.empty()) {
            out_ += "nothing\n";
          } else {
            list(option.type.front(), indent + " ");
          }
        }
        return;
      case TypeKind::list:
        // `up to 8` first: the element may be several lines long.
        out_ += fmt::format("list up to {} of ", type.limit);
        list(type.element.front(), indent);
        return;
      case TypeKind::grid:
        out_ += fmt::format("grid {} x {} of ", type.limit, type.height);
        list(type.element.front(), indent);
        return;
      case TypeKind::vec:
        out_ += fmt::format("vec{} of ", type.limit);
        list(type.element.front(), indent);
        return;
      case TypeKind::maybe:
        out_ += "maybe ";
        list(type.element.front(), indent);
        return;
      case TypeKind::ref:
        out_ += fmt::format("ref {} up to {}\n", protocol_.entities[type.index].name, type.limit);
        // A limit decides bits, so it is part of the text.
        return;
      case TypeKind::peer: out_ += fmt::format("peer up to {}\n", type.limit); return;
      case TypeKind::boolean:
      case TypeKind::integer:
      case TypeKind::count:
      case TypeKind::real:
      case TypeKind::f32:
      case TypeKind::f64:
      case TypeKind::angle:
      case TypeKind::direction2:
      case TypeKind::direction3:
      case TypeKind::rotation:
      case TypeKind::text:
      case TypeKind::bytes:
      case TypeKind::tick: out_ += type_text(protocol_, type) + "\n"; return;
    }
  }

  const Protocol& protocol_;
  std::uint16_t version_;
  const std::vector<Field>* declaration_ = nullptr;
  std::string out_;
};

// The roles' names in the listing.
std::string_view role_text(MessageRole role) {
  switch (role) {
    case MessageRole::message: return "message";
    case MessageRole::request: return "request";
    case MessageRole::answer: return "answer";
  }
  return "";
}

// The first 32 bits of the digest; 0 is kept for what does not exist.
// Two declarations that differ have the same short digest once in 2^32: the full digest decides,
// the short one only names the difference.
std::uint32_t short_digest(std::string_view listed) {
  const Digest128 digest = blake2b_128(listed);
  std::uint32_t out = 0;
  for (std::size_t i = 0; i < 4; ++i) {
    out |= std::to_integer<std::uint32_t>(digest[i]) << (8 * i);
  }
  return out == 0 ? 1 : out;
}

}  // namespace

// The type as the description spells it, in one canonical form: digests are made of these texts.
std::string type_text(const Protocol& protocol, const Type& type) {
  const auto element = [&] { return type_text(protocol, type.element.front()); };
  switch (type.kind) {
    case TypeKind::boolean: return "bool";
    case TypeKind::integer: return fmt::format("int {}..{}", type.integer.lo, type.integer.hi);
    case TypeKind::count: return fmt::format("count up to {}", type.limit);
    case TypeKind::f32: return "f32";
    case TypeKind::f64: return "f64";
    case TypeKind::tick: return "tick";
    case TypeKind::peer: return "peer";
    case TypeKind::real: {
      const auto& range = type.real;
      const auto last = static_cast<std::int64_t>(range.last_index());
      // The shorter of the two spellings: an end that is whole only when left out is left out.
      const std::int64_t end = range.lo + last * range.step;
      // A range of one value has no other spelling.
      const bool left_out =
          last == 0 || (end % range.scale != 0 && (end + range.step) % range.scale == 0);
      return fmt::format("real {}..{}{} step {}", fraction(range.lo, range.scale),
                         left_out ? "<" : "",
                         fraction(left_out ? end + range.step : end, range.scale),
                         fraction(range.step, range.scale));
    }
    case TypeKind::angle:
      return fmt::format("angle step {}", fraction(type.angle.step, type.angle.scale));
    case TypeKind::direction2:
      return fmt::format("direction2 step {}", fraction(type.angle.step, type.angle.scale));
    case TypeKind::direction3:
      return fmt::format("direction3 within {}", fraction(type.within.num, type.within.den));
    case TypeKind::rotation:
      return fmt::format("rotation within {}", fraction(type.within.num, type.within.den));
    case TypeKind::vec: return fmt::format("vec{} of {}", type.limit, element());
    case TypeKind::text: return fmt::format("text {}", type.limit);
    case TypeKind::bytes: return fmt::format("bytes {}", type.limit);
    case TypeKind::enumeration: {
      const Options& made = protocol.enums[type.index];
      return made.inside.empty() ? made.name : names_of("enum", made);
    }
    case TypeKind::flags: {
      const Options& made = protocol.flags[type.index];
      return made.inside.empty() ? made.name : names_of("flags", made);
    }
    case TypeKind::record: return protocol.records[type.index].name;
    case TypeKind::list: return fmt::format("list of {} up to {}", element(), type.limit);
    case TypeKind::grid:
      return fmt::format("grid of {} {} x {}", element(), type.limit, type.height);
    case TypeKind::maybe: return "maybe " + element();
    case TypeKind::one_of: {
      std::vector<std::string> cases;
      cases.reserve(protocol.one_ofs[type.index].options.size());
      for (const Option& option : protocol.one_ofs[type.index].options) {
        cases.push_back(option.type.empty()
                            ? option.name
                            : option.name + " : " + type_text(protocol, option.type.front()));
      }
      return fmt::format("one of {{ {} }}", fmt::join(cases, ", "));
    }
    case TypeKind::ref: return "ref " + protocol.entities[type.index].name;
  }
  return "";
}

// Channels, messages and entities in their order, each with its lines. This is what digests are
// made of.
std::vector<Listed> listing(const Protocol& protocol, std::uint16_t version) {
  std::vector<Listed> out;
  // A channel's number is its place, also where older ones are left out.
  for (std::size_t i = 0; i < protocol.channels.size(); ++i) {
    const Channel& channel = protocol.channels[i];
    if (!channel.life.alive(version)) continue;
    std::string text = fmt::format("channel {} {} {}", i, channel.name, name_of(channel.delivery));
    if (channel.repeat > 0) text += fmt::format(" repeat {}", channel.repeat);
    out.push_back({channel.name, text + "\n"});
  }
  // Message types are numbered by place as well.
  for (const MessageType& message : protocol.messages) {
    if (!message.life.alive(version)) continue;
    std::string head =
        fmt::format("{} {} {} on {} at most {}", role_text(message.role), message.name,
                    name_of(message.direction), protocol.channels[message.channel].name,
                    message.at_most_per_second);
    if (message.split) head += " split";
    if (!message.owner_field.empty()) head += " owner of " + message.owner_field;
    out.push_back(
        {message.name, Lister(protocol, version).fields(std::move(head), message.fields)});
  }
  // Entity types are numbered by place, too.
  for (const Entity& entity : protocol.entities) {
    if (!entity.life.alive(version)) continue;
    out.push_back(
        {entity.name, Lister(protocol, version).fields("entity " + entity.name, entity.fields)});
  }
  return out;
}

// Versions whose listings have the same entities, newest first.
std::vector<VersionRange> entity_versions(const Protocol& protocol) {
  const auto entities_in = [&](std::uint16_t version) {
    std::string text;
    for (const Listed& listed : listing(protocol, version)) {
      if (listed.text.starts_with("entity ")) text += listed.text;
    }
    return text;
  };
  std::vector<VersionRange> ranges{{protocol.version, protocol.version}};
  std::string text = entities_in(protocol.version);
  for (std::uint32_t v = protocol.version; v-- > oldest_version(protocol);) {
    const auto version = static_cast<std::uint16_t>(v);
    std::string older = entities_in(version);
    if (older != text) ranges.push_back({version, version});
    ranges.back().since = version;
    text = std::move(older);
  }
  return ranges;
}

// All of it as one text, which docs/schema-language.md specifies.
std::string canonical_listing(const Protocol& protocol, std::uint16_t version) {
  std::string out = fmt::format("protocol {} {}\n", protocol.name, version);
  // Replicated state is read by it: ids beyond it are refused.
  if (std::any_of(protocol.entities.begin(), protocol.entities.end(),
                  [&](const Entity& entity) { return entity.life.alive(version); }))
    out += fmt::format("entities up to {}\n", protocol.entities_up_to);
  for (const Listed& listed : listing(protocol, version)) out += listed.text;
  return out;
}

Digest128 digest_of(const Protocol& protocol, std::uint16_t version) {
  return blake2b_128(canonical_listing(protocol, version));
}

// A short digest of each declaration in each version, kept where it changes.
std::vector<DeclarationInfo> declaration_digests(const Protocol& protocol) {
  const std::uint16_t oldest = oldest_version(protocol);
  std::vector<std::map<std::string, std::uint32_t>> by_version;
  // One map for each version, oldest first.
  for (std::uint16_t version = oldest; version <= protocol.version; ++version) {
    auto& digests = by_version.emplace_back();
    for (const Listed& listed : listing(protocol, version)) {
      digests[listed.name] = short_digest(listed.text);
    }
  }
  std::vector<DeclarationInfo> rows;
  const auto add = [&](std::string_view name) {
    std::uint32_t last = 0;
    // A row where the digest of a version is not that of the version before. 0: not declared.
    for (std::size_t i = 0; i < by_version.size(); ++i) {
      const auto found = by_version[i].find(std::string(name));
      const std::uint32_t digest = found == by_version[i].end() ? 0 : found->second;
      if (digest == last) continue;
      rows.push_back({name, static_cast<std::uint16_t>(oldest + i), digest});
      last = digest;
    }
  };
  for (const Channel& channel : protocol.channels) add(channel.name);
  for (const MessageType& message : protocol.messages) add(message.name);
  for (const Entity& entity : protocol.entities) add(entity.name);
  return rows;
}

}  // namespace kwind::schema
