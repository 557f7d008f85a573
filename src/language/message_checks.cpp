// Checks of messages as a whole: the owner field is a ref, the versions are within the channel's,
// and the largest size in any version is what the channel can carry.
#include "language/message_checks.h"

#include <fmt/format.h>

#include <algorithm>

#include "kwind/bits/nearest.h"
#include "language/resolver_limits.h"

namespace kwind::language {

// `from owner of FIELD`: the field is a ref of the message that every version of it has.
void check_authority(const MessageSyntax& syntax, schema::MessageType& made, Reporter& reporter) {
  if (syntax.owner.kind == TokenKind::end) return;
  made.owner_field = syntax.owner.text;
  const auto field = std::find_if(made.fields.begin(), made.fields.end(),
                                  [&](const auto& f) { return f.name == made.owner_field; });
  if (field == made.fields.end()) {
    std::vector<std::string> known;
    known.reserve(made.fields.size());
    for (const auto& f : made.fields) known.push_back(f.name);
    const std::string near = bits::nearest(syntax.owner.text, known);
    reporter.error(syntax.owner,
                   near.empty() ? fmt::format("`{}` has no field `{}`", made.name, made.owner_field)
                                : fmt::format("`{}` has no field `{}`; did you mean `{}`?",
                                              made.name, made.owner_field, near));
  } else if (field->type.kind != schema::TypeKind::ref) {
    reporter.error(syntax.owner, fmt::format("`{}` is no `ref` to an entity, so nobody owns it",
                                             made.owner_field));
  }
}

// A message must not outlive its channel.
void check_channel_life(const schema::Protocol& protocol, const MessageSyntax& syntax,
                        const schema::MessageType& made, Reporter& reporter) {
  if (made.channel >= protocol.channels.size()) return;
  const schema::Channel& channel = protocol.channels[made.channel];
  const bool starts = channel.life.since <= made.life.since;
  const bool ends =
      channel.life.until == 0 || (made.life.until != 0 && made.life.until <= channel.life.until);
  if (!starts || !ends) {
    reporter.error(syntax.channel,
                   fmt::format("`{}` lives in versions that the channel `{}` does not; "
                               "give the message a `since` or `until` within the channel's",
                               made.name, channel.name));
  }
}

// Bounds the code that a message makes, and its bytes where its channel splits none.
void check_message_size(const schema::Protocol& protocol, const Token& place,
                        const schema::MessageType& made, std::uint64_t leaves, Reporter& reporter) {
  if (leaves > limits::kMaxLeaves) {
    reporter.error(place, fmt::format("`{}` has more than {} fields with all records spelled out",
                                      made.name, limits::kMaxLeaves));
    return;
  }
  if (made.channel >= protocol.channels.size()) return;
  const Delivery delivery = protocol.channels[made.channel].delivery;
  const bool may_split =
      made.split || delivery == Delivery::ordered || delivery == Delivery::reliable;
  const std::uint32_t max = may_split ? kMaxSplitBytes : kMaxMessageBytes;
  const std::size_t bytes =
      bits::bytes_for(schema::size_in_any_version(protocol, made.fields).max_bits);
  if (bytes <= max || made.fields.empty()) return;
  const auto max_bits = [&](const schema::Field& field) {
    return schema::size_in_any_version(protocol, {field}).max_bits;
  };
  const auto largest =
      std::max_element(made.fields.begin(), made.fields.end(),
                       [&](const auto& a, const auto& b) { return max_bits(a) < max_bits(b); });
  reporter.error(
      place, fmt::format("`{}` can take {} bytes, {} carries {}; {}lower the limits of `{}` ({} "
                         "bytes)",
                         made.name, bytes, may_split ? "a split message" : "a datagram", max,
                         may_split ? "" : "say `split` or ", largest->name,
                         bits::bytes_for(max_bits(*largest))));
}

}  // namespace kwind::language
