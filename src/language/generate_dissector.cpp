// A plugin in the Lua interface of the packet analyser: the description as a table, followed by
// the text of dissector.lua, which reads it.
//
// Lua tables with the same structure as schema::Protocol. The reader in dissector.lua is fixed: a
// change of a description changes data, never code.
#include <fmt/format.h>

#include "dissector_text.h"
#include "kwind/language/generate_dissector.h"

namespace kwind::language {
namespace {

using schema::Protocol;
using schema::Type;
using schema::TypeKind;

// A Lua string literal.
std::string quoted(std::string_view text) {
  std::string out = "\"";
  // Lua escapes control characters by three decimal digits.
  for (const char c : text) {
    if (c == '"' || c == '\\') out += '\\';
    if (static_cast<unsigned char>(c) < 0x20) {
      out += fmt::format("\\{:03}", static_cast<unsigned char>(c));
    } else {
      out += c;
    }
  }
  return out + '"';
}

std::string life(const schema::Life& life) {
  return fmt::format("since = {}, gone = {}", life.since, life.until);
}

// Ranges beyond 32 bits travel to Lua as two halves: its numbers are doubles.
std::string integer(const bits::IntRange& range) {
  if (range.lo >= INT32_MIN && range.hi <= INT32_MAX) {
    return fmt::format("lo = {}, last = {}, bits = {}", range.lo, range.last_index(), range.bits());
  }
  // The two's complement bits of `lo`, since Lua's bit operations are of 32 bits.
  const auto lo = static_cast<std::uint64_t>(range.lo);
  const std::uint64_t last = range.last_index();
  return fmt::format("bits = {}, wide = {{ {}, {} }}, most = {{ {}, {} }}", range.bits(),
                     lo & 0xffffffffU, lo >> 32, last & 0xffffffffU, last >> 32);
}

std::string type_table(const Type& type);

std::string with_element(std::string_view kind, const Type& type) {
  return fmt::format("kind = \"{}\", limit = {}, element = {}", kind, type.limit,
                     type_table(type.element.front()));
}

// A type as a Lua table.
std::string type_table(const Type& type) {
  const auto limited = [&](std::string_view kind) {
    return fmt::format("kind = \"{}\", limit = {}", kind, type.limit);
  };
  const auto indexed = [&](std::string_view kind) {
    // Lua counts from 1.
    return fmt::format("kind = \"{}\", index = {}", kind, type.index + 1);
  };
  const auto body = [&]() -> std::string {
    switch (type.kind) {
      case TypeKind::boolean: return "kind = \"boolean\"";
      case TypeKind::f32: return "kind = \"f32\"";
      case TypeKind::f64: return "kind = \"f64\"";
      case TypeKind::tick: return "kind = \"tick\"";
      case TypeKind::integer: return "kind = \"integer\", " + integer(type.integer);
      case TypeKind::real:
        return fmt::format("kind = \"real\", lo = {}, step = {}, scale = {}, count = {}, bits = {}",
                           type.real.lo, type.real.step, type.real.scale, type.real.count,
                           type.real.bits());
      case TypeKind::angle:
      case TypeKind::direction2:
        return fmt::format("kind = \"{}\", lo = 0, step = {}, scale = {}, count = {}, bits = {}",
                           type.kind == TypeKind::angle ? "angle" : "direction2", type.angle.step,
                           type.angle.scale, type.angle.count, type.angle.bits());
      case TypeKind::direction3:
        return fmt::format("kind = \"direction3\", half = {}, bits = {}", type.direction.half,
                           type.direction.bits());
      case TypeKind::rotation:
        return fmt::format("kind = \"rotation\", half = {}, bits = {}", type.rotation.half,
                           type.rotation.bits());
      case TypeKind::count: return limited("count");
      case TypeKind::text: return limited("text");
      case TypeKind::bytes: return limited("bytes");
      case TypeKind::ref: return limited("ref");
      case TypeKind::peer: return limited("peer");
      case TypeKind::enumeration: return indexed("enumeration");
      case TypeKind::flags: return indexed("flags");
      case TypeKind::record: return indexed("record");
      case TypeKind::one_of: return indexed("one_of");
      case TypeKind::vec: return with_element("vec", type);
      case TypeKind::list: return with_element("list", type);
      case TypeKind::maybe: return with_element("maybe", type);
      case TypeKind::grid:
        return with_element("grid", type) + fmt::format(", height = {}", type.height);
    }
    return {};
  };
  return "{ " + body() + " }";
}

// Fields that travel, in their order.
std::string field_tables(const std::vector<schema::Field>& fields, std::string_view indent) {
  std::string out;
  // In the order of the bits.
  for (const schema::Field& field : fields) {
    if (field.words.local != schema::Local::no) continue;  // never travels
    out += fmt::format("{}{{ name = {}, {}, {}type = {} }},\n", indent, quoted(field.name),
                       life(field.life),
                       field.unit.empty() ? "" : fmt::format("unit = {}, ", quoted(field.unit)),
                       type_table(field.type));
  }
  return out;
}

// Names of enums, flags and choices by number.
std::string option_tables(std::string_view name, const std::vector<schema::Options>& all) {
  std::string out = fmt::format("local {} = {{\n", name);
  // By number: option i of table n.
  for (const schema::Options& options : all) {
    out += fmt::format("  {{  -- {}\n", options.name);
    for (const schema::Option& option : options.options) {
      out += fmt::format(
          "    {{ name = {}, {}{} }},\n", quoted(option.name), life(option.life),
          option.type.empty() ? "" : fmt::format(", type = {}", type_table(option.type.front())));
    }
    out += "  },\n";
  }
  return out + "}\n";
}

}  // namespace

// The tables of this protocol, then the fixed reader of dissector.lua.
std::string generate_dissector(const Protocol& protocol, std::string_view source) {
  std::string out = fmt::format(
      "-- Made by `kwind gen --dissector` from {}: shows datagrams of {} {} in the packet\n"
      "-- analyser. Put it into the folder of its personal Lua plugins, or name it behind\n"
      "-- -X lua_script:FILE. Do not edit.\n\n",
      source, protocol.name, protocol.version);
  out += option_tables("enums", protocol.enums);
  out += option_tables("flags", protocol.flags);
  out += option_tables("one_ofs", protocol.one_ofs);
  out += "local records = {\n";
  // The order of the description, to which the indices refer.
  for (const schema::Record& record : protocol.records) {
    out += fmt::format("  {{  -- {}\n{}  }},\n", record.name, field_tables(record.fields, "    "));
  }
  out += fmt::format("}}\nlocal description = {{\n  name = {}, version = {},\n  channels = {{\n",
                     quoted(protocol.name), protocol.version);
  for (const schema::Channel& channel : protocol.channels) {
    out += fmt::format("    {{ name = {}, {}, delivery = \"{}\" }},\n", quoted(channel.name),
                       life(channel.life), name_of(channel.delivery));
  }
  out += "  },\n  messages = {\n";
  for (const schema::MessageType& message : protocol.messages) {
    using schema::Direction;
    // `up` and `down` say in which directions the message may be seen.
    out += fmt::format(
        "    {{ name = {}, {}, channel = {}, up = {}, down = {}, asks = {}, fields = {{\n{}    }} "
        "}},\n",
        quoted(message.name), life(message.life), message.channel + 1,
        message.direction != Direction::from_server, message.direction != Direction::from_client,
        message.role != schema::MessageRole::message, field_tables(message.fields, "      "));
  }
  return out + "  },\n}\n\n" + kDissectorText;
}

}  // namespace kwind::language
