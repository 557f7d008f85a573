// Tables of a protocol that is known at run time, in the form that generated code has at compile
// time.
#include "kwind/schema/tables.h"

namespace kwind::schema {

Tables::Tables(const Protocol& protocol) : protocol_(&protocol) {
  for (std::uint32_t v = protocol.version; v >= oldest_version(protocol); --v) {
    const auto version = static_cast<std::uint16_t>(v);
    versions_.push_back({version, digest_of(protocol, version)});
  }
  for (const Channel& channel : protocol.channels) {
    channels_.push_back(
        {channel.name, channel.delivery, channel.high, channel.bulk, channel.repeat, channel.life});
  }
  for (const MessageType& message : protocol.messages) {
    std::vector<FieldInfo>& fields = fields_.emplace_back();
    for (const Field& field : message.fields) {
      const Size size = size_of(protocol, field.type);
      const std::string& type = texts_.emplace_back(type_text(protocol, field.type));
      fields.push_back({field.name, type, field.unit, size.min_bits, size.max_bits, field.life});
    }
    const Size size = size_in_any_version(protocol, message.fields);
    messages_.push_back({message.name, static_cast<std::uint16_t>(messages_.size()),
                         message.channel, message.direction, message.at_most_per_second,
                         size.min_bits, size.max_bits, fields, message.role, message.life,
                         message.owner_field});
  }
  declarations_ = declaration_digests(protocol);
  info_ = {protocol.name,
           protocol.version,
           versions_,
           channels_,
           messages_,
           declarations_,
           entity_versions(protocol).front().since};
}

AnyRef ref_of(const std::vector<Field>& fields, std::string_view name, const Value& value) {
  for (std::size_t i = 0; i < fields.size(); ++i) {
    if (fields[i].name != name) continue;
    const auto bits = static_cast<std::uint64_t>(value.items[i].whole);
    return {static_cast<std::uint32_t>(bits), static_cast<std::uint8_t>(bits >> 32)};
  }
  return {};
}

}  // namespace kwind::schema
