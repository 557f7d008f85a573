#include "kwind/schema/protocol.h"

#include <fmt/format.h>

#include <algorithm>
#include <numeric>

namespace kwind::schema {
namespace {

// num / den in lowest terms: "1/16", "-3".
std::string fraction(std::int64_t num, std::int64_t den) {
  const std::int64_t common = std::max<std::int64_t>(1, std::gcd(num, den));
  if (den == common) return fmt::format("{}", num / common);
  return fmt::format("{}/{}", num / common, den / common);
}

std::string shown_values(const Enumeration& enumeration) {
  return fmt::format("enum {{ {} }}", fmt::join(enumeration.values, ", "));
}

void list_fields(const Protocol& protocol, const std::vector<Field>& fields, std::string& out,
                 const std::string& indent);

// As type_text, with named types spelled out in place of their names.
void list_type(const Protocol& protocol, const Type& type, std::string& out,
               const std::string& indent) {
  switch (type.kind) {
    case TypeKind::enumeration: out += shown_values(protocol.enums[type.index]) + "\n"; return;
    case TypeKind::record:
      out += "record\n";
      list_fields(protocol, protocol.records[type.index].fields, out, indent + " ");
      return;
    case TypeKind::list:
      out += fmt::format("list up to {} of ", type.limit);
      list_type(protocol, type.element.front(), out, indent);
      return;
    case TypeKind::boolean:
    case TypeKind::integer:
    case TypeKind::real:
    case TypeKind::turn:
    case TypeKind::text: out += type_text(protocol, type) + "\n"; return;
  }
}

void list_fields(const Protocol& protocol, const std::vector<Field>& fields, std::string& out,
                 const std::string& indent) {
  for (const Field& field : fields) {
    out += fmt::format("{}{} : ", indent, field.name);
    list_type(protocol, field.type, out, indent);
  }
}

}  // namespace

Size size_of(const Protocol& protocol, const Type& type) {
  const auto exactly = [](unsigned bits) { return Size{bits, bits}; };
  switch (type.kind) {
    case TypeKind::boolean: return exactly(1);
    case TypeKind::integer: return exactly(type.integer.bits());
    case TypeKind::real: return exactly(type.real.bits());
    case TypeKind::turn: return exactly(type.turn.bits());
    case TypeKind::enumeration:
      return exactly(bits::bits_for(protocol.enums[type.index].values.size()));
    case TypeKind::record: return size_of(protocol, protocol.records[type.index].fields);
    case TypeKind::text: {
      const unsigned length = bits::bits_for(std::uint64_t{type.limit} + 1);
      return {length, length + 8 * type.limit};
    }
    case TypeKind::list: {
      const unsigned length = bits::bits_for(std::uint64_t{type.limit} + 1);
      const std::uint64_t all =
          std::uint64_t{size_of(protocol, type.element.front()).most_bits} * type.limit;
      return {length, static_cast<std::uint32_t>(std::min<std::uint64_t>(all + length, ~0U))};
    }
  }
  return {};
}

Size size_of(const Protocol& protocol, const std::vector<Field>& fields) {
  std::uint64_t fewest = 0;
  std::uint64_t most = 0;
  for (const Field& field : fields) {
    const Size size = size_of(protocol, field.type);
    fewest += size.fewest_bits;
    most += size.most_bits;
  }
  const auto saturated = [](std::uint64_t v) {
    return static_cast<std::uint32_t>(std::min<std::uint64_t>(v, ~0U));
  };
  return {saturated(fewest), saturated(most)};
}

std::string type_text(const Protocol& protocol, const Type& type) {
  switch (type.kind) {
    case TypeKind::boolean: return "bool";
    case TypeKind::integer: return fmt::format("int {}..{}", type.integer.lo, type.integer.hi);
    case TypeKind::real: {
      const auto& range = type.real;
      const auto last = static_cast<std::int64_t>(range.last_index());
      // The shorter of the two spellings: an end that is whole only when left out is left out.
      const std::int64_t end = range.lo + last * range.step;
      const bool left_out = end % range.scale != 0 && (end + range.step) % range.scale == 0;
      return fmt::format("real {}..{}{} step {}", fraction(range.lo, range.scale),
                         left_out ? "<" : "",
                         fraction(left_out ? end + range.step : end, range.scale),
                         fraction(range.step, range.scale));
    }
    case TypeKind::turn:
      return fmt::format("turn step {}", fraction(type.turn.step, type.turn.scale));
    case TypeKind::text: return fmt::format("text {}", type.limit);
    case TypeKind::enumeration: {
      const Enumeration& enumeration = protocol.enums[type.index];
      return enumeration.inside.empty() ? enumeration.name : shown_values(enumeration);
    }
    case TypeKind::record: return protocol.records[type.index].name;
    case TypeKind::list:
      return fmt::format("list of {} up to {}", type_text(protocol, type.element.front()),
                         type.limit);
  }
  return "";
}

std::string canonical_listing(const Protocol& protocol) {
  std::string out = fmt::format("protocol {} {}\n", protocol.name, protocol.version);
  for (const Channel& channel : protocol.channels) {
    out += fmt::format("channel {} {}\n", channel.name, name_of(channel.delivery));
  }
  for (const MessageType& message : protocol.messages) {
    out += fmt::format("message {} {} on {} at most {}\n", message.name, name_of(message.direction),
                       protocol.channels[message.channel].name, message.at_most_per_second);
    list_fields(protocol, message.fields, out, " ");
  }
  return out;
}

bits::Digest128 digest_of(const Protocol& protocol) {
  return bits::blake2b_128(canonical_listing(protocol));
}

}  // namespace kwind::schema
