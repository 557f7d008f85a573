#include "kwind/language/generate_cpp.h"

#include <fmt/format.h>

#include <algorithm>
#include <limits>
#include <set>

namespace kwind::language {
namespace {

using schema::Enumeration;
using schema::Field;
using schema::Protocol;
using schema::Type;
using schema::TypeKind;

// C++20 keywords, and lower-case names that standard headers define as macros.
const std::set<std::string_view> kReserved = {"alignas",
                                              "alignof",
                                              "and",
                                              "and_eq",
                                              "asm",
                                              "assert",
                                              "auto",
                                              "bitand",
                                              "bitor",
                                              "bool",
                                              "break",
                                              "case",
                                              "catch",
                                              "char",
                                              "char16_t",
                                              "char32_t",
                                              "char8_t",
                                              "class",
                                              "co_await",
                                              "co_return",
                                              "co_yield",
                                              "compl",
                                              "concept",
                                              "const",
                                              "const_cast",
                                              "consteval",
                                              "constexpr",
                                              "constinit",
                                              "continue",
                                              "decltype",
                                              "default",
                                              "delete",
                                              "do",
                                              "double",
                                              "dynamic_cast",
                                              "else",
                                              "enum",
                                              "errno",
                                              "explicit",
                                              "export",
                                              "extern",
                                              "false",
                                              "float",
                                              "for",
                                              "friend",
                                              "goto",
                                              "if",
                                              "info",
                                              "inline",
                                              "int",
                                              "linux",
                                              "long",
                                              "mutable",
                                              "namespace",
                                              "new",
                                              "noexcept",
                                              "not",
                                              "not_eq",
                                              "nullptr",
                                              "operator",
                                              "or",
                                              "or_eq",
                                              "private",
                                              "protected",
                                              "public",
                                              "register",
                                              "reinterpret_cast",
                                              "requires",
                                              "return",
                                              "short",
                                              "signed",
                                              "sizeof",
                                              "static",
                                              "static_assert",
                                              "static_cast",
                                              "stderr",
                                              "stdin",
                                              "stdout",
                                              "struct",
                                              "switch",
                                              "template",
                                              "this",
                                              "thread_local",
                                              "throw",
                                              "true",
                                              "try",
                                              "typedef",
                                              "typeid",
                                              "typename",
                                              "union",
                                              "unix",
                                              "unsigned",
                                              "using",
                                              "virtual",
                                              "void",
                                              "volatile",
                                              "wchar_t",
                                              "while",
                                              "xor",
                                              "xor_eq"};

std::string cpp_name(std::string_view name) {
  return kReserved.contains(name) ? fmt::format("{}_", name) : std::string(name);
}

std::string number(std::int64_t value) {
  if (value == std::numeric_limits<std::int64_t>::min()) return "-9223372036854775807 - 1";
  return fmt::format("{}", value);
}

class Generator {
 public:
  Generator(const Protocol& protocol, std::string_view source) : protocol_(protocol) {
    out_ = fmt::format("// Generated by kwind from {}. Edit that file, not this one.\n", source);
  }

  std::string text() {
    const std::string space = cpp_name(protocol_.name);
    line("// Protocol {} {}, digest {}.", protocol_.name, protocol_.version,
         bits::to_hex(schema::digest_of(protocol_), 16));
    line(
        "#pragma once\n#include <array>\n#include <cstdint>\n#include <string>\n"
        "#include <string_view>\n#include <vector>\n\n#include \"kwind/schema/codec.h\"\n\n"
        "namespace {} {{\n",
        space);
    for (const Enumeration& enumeration : protocol_.enums) {
      if (enumeration.inside.empty()) enum_text(enumeration, "");
    }
    for (const auto& record : protocol_.records) struct_text(record.name, record.fields, "");
    for (const auto& message : protocol_.messages) {
      const auto& channel = protocol_.channels[message.channel];
      const schema::Size size = schema::size_of(protocol_, message.fields);
      line("/// {}, on {} ({}){}; {} bits.", name_of(message.direction), channel.name,
           name_of(channel.delivery),
           message.at_most_per_second == 0
               ? std::string()
               : fmt::format(", at most {}/s", message.at_most_per_second),
           size_text(size));
      struct_text(message.name, message.fields,
                  "  static constexpr const kwind::schema::MessageInfo& info();\n");
    }
    tables();
    line("}}  // namespace {}", space);
    return std::move(out_);
  }

 private:
  template <class... Args>
  void line(fmt::format_string<Args...> format, Args&&... args) {
    out_ += fmt::format(format, std::forward<Args>(args)...);
    out_ += '\n';
  }

  static std::string size_text(const schema::Size& size) {
    return size.fewest_bits == size.most_bits
               ? fmt::format("{}", size.most_bits)
               : fmt::format("{} to {}", size.fewest_bits, size.most_bits);
  }

  void enum_text(const Enumeration& enumeration, std::string_view indent) {
    std::vector<std::string> names;
    for (const std::string& value : enumeration.values) names.push_back(cpp_name(value));
    line("{}enum class {} : std::uint{}_t {{ {} }};", indent, enumeration.name,
         enumeration.values.size() <= 256 ? 8 : 16, fmt::join(names, ", "));
    line("{}{}constexpr std::string_view name_of({} value) {{", indent,
         indent.empty() ? "" : "friend ", enumeration.name);
    line("{}  switch (value) {{", indent);
    for (std::size_t i = 0; i < names.size(); ++i) {
      line("{}    case {}::{}: return \"{}\";", indent, enumeration.name, names[i],
           enumeration.values[i]);
    }
    line("{}  }}\n{}  return \"\";\n{}}}", indent, indent, indent);
    if (indent.empty()) out_ += '\n';
  }

  // The C++ type of a value, seen from the struct `inside` or from namespace scope.
  std::string cpp_type(const Type& type) const {
    switch (type.kind) {
      case TypeKind::boolean: return "bool";
      case TypeKind::integer: return small(type) ? "std::int32_t" : "std::int64_t";
      case TypeKind::real:
      case TypeKind::turn: return "double";
      case TypeKind::text: return "std::string";
      case TypeKind::enumeration: return protocol_.enums[type.index].name;
      case TypeKind::record: return protocol_.records[type.index].name;
      case TypeKind::list: return fmt::format("std::vector<{}>", cpp_type(type.element.front()));
    }
    return "";
  }
  static bool small(const Type& type) {
    return type.integer.lo >= std::numeric_limits<std::int32_t>::min() &&
           type.integer.hi <= std::numeric_limits<std::int32_t>::max();
  }

  std::string initial(const Type& type) const {
    switch (type.kind) {
      case TypeKind::boolean: return " = false";
      case TypeKind::integer: {
        const std::int64_t value =
            type.integer.lo <= 0 && type.integer.hi >= 0 ? 0 : type.integer.lo;
        return " = " + number(value);
      }
      case TypeKind::real: {
        const auto zero = type.real.index_of(0);
        const double value = zero.in_range ? type.real.value_of(zero.index) : type.real.value_of(0);
        return fmt::format(" = {}", value);
      }
      case TypeKind::turn: return " = 0";
      case TypeKind::enumeration: {
        const Enumeration& enumeration = protocol_.enums[type.index];
        return fmt::format(" = {}::{}", enumeration.name, cpp_name(enumeration.values.front()));
      }
      case TypeKind::text:
      case TypeKind::record:
      case TypeKind::list: return "";
    }
    return "";
  }

  static const Type& leaf(const Type& type) {
    return type.kind == TypeKind::list ? leaf(type.element.front()) : type;
  }

  void range_constant(const Field& field) {
    const Type& type = leaf(field.type);
    std::string range;
    if (type.kind == TypeKind::integer) {
      range = fmt::format("IntRange {}_range{{{}, {}}}", field.name, number(type.integer.lo),
                          number(type.integer.hi));
    } else if (type.kind == TypeKind::real) {
      range = fmt::format("RealRange {}_range{{{}, {}, {}, {}}}", field.name, type.real.lo,
                          type.real.step, type.real.scale, type.real.count);
    } else if (type.kind == TypeKind::turn) {
      range = fmt::format("TurnRange {}_range{{{}, {}, {}}}", field.name, type.turn.step,
                          type.turn.scale, type.turn.count);
    }
    if (!range.empty()) line("  static constexpr kwind::bits::{};", range);
  }

  void struct_text(const std::string& name, const std::vector<Field>& fields,
                   std::string_view extra) {
    line("struct {} {{", name);
    for (const Enumeration& enumeration : protocol_.enums) {
      if (enumeration.inside == name) enum_text(enumeration, "  ");
    }
    for (const Field& field : fields) range_constant(field);
    for (const Field& field : fields) {
      const schema::Size size = schema::size_of(protocol_, field.type);
      line("  {} {}{};  // {}, {} bit{}", cpp_type(field.type), cpp_name(field.name),
           initial(field.type), schema::type_text(protocol_, field.type), size_text(size),
           size.most_bits == 1 ? "" : "s");
    }
    out_ += extra;
    line("  friend bool operator==(const {0}&, const {0}&) = default;\n}};", name);
    codec(name, fields);
  }

  void codec(const std::string& name, const std::vector<Field>& fields) {
    const std::string unused = fields.empty() ? "[[maybe_unused]] " : "";
    line("inline void encode({0}kwind::schema::Encoder& out, {0}const {1}& from) {{", unused, name);
    for (const Field& field : fields) {
      encode_value(name, field, field.type, "from." + cpp_name(field.name), 0);
    }
    line("}}\ninline void decode({0}kwind::schema::Decoder& in, {0}{1}& to) {{", unused, name);
    for (const Field& field : fields) {
      decode_value(name, field, field.type, "to." + cpp_name(field.name), 0);
    }
    line("}}\n/// Calls visit(\"name\", value) for each field in order.");
    line("template <class Visitor>\nvoid visit_fields({0}const {1}& from, {0}Visitor&& visit) {{",
         unused, name);
    for (const Field& field : fields) {
      line("  visit(\"{}\", from.{});", field.name, cpp_name(field.name));
    }
    line("}}\n");
  }

  void encode_value(const std::string& owner, const Field& field, const Type& type,
                    const std::string& value, unsigned depth) {
    const std::string indent(2 + 2 * depth, ' ');
    const std::string range = fmt::format("{}::{}_range", owner, field.name);
    switch (type.kind) {
      case TypeKind::boolean: line("{}out.boolean({});", indent, value); return;
      case TypeKind::integer: line("{}out.integer({}, {});", indent, range, value); return;
      case TypeKind::real: line("{}out.real({}, {});", indent, range, value); return;
      case TypeKind::turn: line("{}out.turn({}, {});", indent, range, value); return;
      case TypeKind::text: line("{}out.text({}, {});", indent, type.limit, value); return;
      case TypeKind::enumeration:
        line("{}out.choice({}, static_cast<std::uint64_t>({}));", indent,
             protocol_.enums[type.index].values.size(), value);
        return;
      case TypeKind::record: line("{}encode(out, {});", indent, value); return;
      case TypeKind::list: {
        const char index = static_cast<char>('i' + depth);
        line(
            "{0}for (std::size_t {1} = 0, size_{1} = out.length({2}, {3}.size()); {1} < size_{1}; "
            "++{1}) {{",
            indent, index, type.limit, value);
        encode_value(owner, field, type.element.front(), fmt::format("{}[{}]", value, index),
                     depth + 1);
        line("{}}}", indent);
        return;
      }
    }
  }

  void decode_value(const std::string& owner, const Field& field, const Type& type,
                    const std::string& value, unsigned depth) {
    const std::string indent(2 + 2 * depth, ' ');
    const std::string range = fmt::format("{}::{}_range", owner, field.name);
    switch (type.kind) {
      case TypeKind::boolean: line("{}{} = in.boolean();", indent, value); return;
      case TypeKind::integer:
        line("{}{} = {}in.integer({}){};", indent, value,
             small(type) ? "static_cast<std::int32_t>(" : "", range, small(type) ? ")" : "");
        return;
      case TypeKind::real: line("{}{} = in.real({});", indent, value, range); return;
      case TypeKind::turn: line("{}{} = in.turn({});", indent, value, range); return;
      case TypeKind::text: line("{}in.text({}, {});", indent, type.limit, value); return;
      case TypeKind::enumeration: {
        const Enumeration& enumeration = protocol_.enums[type.index];
        line("{}{} = static_cast<{}{}>(in.choice({}));", indent, value,
             enumeration.inside.empty() ? "" : enumeration.inside + "::", enumeration.name,
             enumeration.values.size());
        return;
      }
      case TypeKind::record: line("{}decode(in, {});", indent, value); return;
      case TypeKind::list: {
        const char index = static_cast<char>('i' + depth);
        line("{}{}.resize(in.length({}));", indent, value, type.limit);
        line("{0}for (std::size_t {1} = 0; {1} < {2}.size(); ++{1}) {{", indent, index, value);
        decode_value(owner, field, type.element.front(), fmt::format("{}[{}]", value, index),
                     depth + 1);
        line("{}}}", indent);
        return;
      }
    }
  }

  void tables() {
    line("namespace tables {{");
    for (const auto& message : protocol_.messages) {
      if (message.fields.empty()) continue;
      line("inline constexpr std::array<kwind::schema::FieldInfo, {}> k{}Fields = {{{{",
           message.fields.size(), message.name);
      for (const Field& field : message.fields) {
        const schema::Size size = schema::size_of(protocol_, field.type);
        line("    {{\"{}\", \"{}\", {}, {}}},", field.name,
             schema::type_text(protocol_, field.type), size.fewest_bits, size.most_bits);
      }
      line("}}}};");
    }
    line("inline constexpr std::array<kwind::schema::ChannelInfo, {}> kChannels = {{{{",
         protocol_.channels.size());
    for (const auto& channel : protocol_.channels) {
      line("    {{\"{}\", kwind::Delivery::{}}},", channel.name, name_of(channel.delivery));
    }
    line("}}}};\ninline constexpr std::array<kwind::schema::MessageInfo, {}> kMessages = {{{{",
         protocol_.messages.size());
    for (std::size_t kind = 0; kind < protocol_.messages.size(); ++kind) message_row(kind);
    line("}}}};\n}}  // namespace tables\n");
    for (std::size_t kind = 0; kind < protocol_.messages.size(); ++kind) {
      line(
          "constexpr const kwind::schema::MessageInfo& {}::info() {{ return tables::kMessages[{}]; "
          "}}",
          protocol_.messages[kind].name, kind);
    }
    std::vector<std::string> digest;
    for (const std::byte byte : schema::digest_of(protocol_)) {
      digest.push_back(fmt::format("std::byte{{0x{:02x}}}", std::to_integer<unsigned>(byte)));
    }
    line("\n/// What a Server or Client needs to know of this protocol.");
    line(
        "inline constexpr kwind::schema::ProtocolInfo kProtocol{{\n    \"{}\",\n    {},\n    "
        "{{{}}},\n"
        "    tables::kChannels,\n    tables::kMessages}};\n",
        protocol_.name, protocol_.version, fmt::join(digest, ", "));
  }

  void message_row(std::size_t kind) {
    const auto& message = protocol_.messages[kind];
    const schema::Size size = schema::size_of(protocol_, message.fields);
    std::string_view direction = "both";
    if (message.direction == schema::Direction::from_client) direction = "from_client";
    if (message.direction == schema::Direction::from_server) direction = "from_server";
    line("    {{\"{}\", {}, {}, kwind::schema::Direction::{}, {}, {}, {}, {}}},", message.name,
         kind, message.channel, direction, message.at_most_per_second, size.fewest_bits,
         size.most_bits, message.fields.empty() ? "{}" : fmt::format("k{}Fields", message.name));
  }

  const Protocol& protocol_;
  std::string out_;
};

}  // namespace

std::string generate_cpp(const Protocol& protocol, std::string_view source_name) {
  return Generator(protocol, source_name).text();
}

}  // namespace kwind::language
