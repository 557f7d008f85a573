// Numbers the message types of one channel and direction that a version has, from 0.
#include "kwind/schema/message_type_codes.h"

namespace kwind::schema {

// Types that travel on one channel in one direction are numbered from 0, in the version's order.
MessageTypeCodes::MessageTypeCodes(const ProtocolInfo& protocol, Direction way,
                                   std::uint16_t version)
    : protocol_(&protocol),
      code_(protocol.messages.size(), kNone),
      kinds_(protocol.channels.size()) {
  KWIND_ASSERT(way != Direction::both);
  for (const MessageInfo& message : protocol.messages) {
    if (message.direction != Direction::both && message.direction != way) continue;
    if (!message.life.alive(version)) continue;
    std::vector<std::uint16_t>& on_channel = kinds_[message.channel];
    code_[message.type] = static_cast<std::uint16_t>(on_channel.size());
    on_channel.push_back(message.type);
  }
}

// As many bits as the number of such types takes.
void MessageTypeCodes::put(bits::Writer& out, std::uint16_t kind) const {
  KWIND_ASSERT(carries(kind));
  const std::size_t channel = protocol_->messages[kind].channel;
  out.put(code_[kind], bits::bits_for(kinds_[channel].size()));
}

// A code without a type, or a channel without types in this direction, is an error of the peer.
Result<std::uint16_t> MessageTypeCodes::get(bits::Reader& in, std::size_t channel) const {
  const std::vector<std::uint16_t>& on_channel = kinds_[channel];
  if (on_channel.empty()) return fail(Errc::wrong_direction);
  const std::uint64_t code = in.get(bits::bits_for(on_channel.size()));
  if (!in.ok()) return fail(Errc::truncated);
  if (code >= on_channel.size()) return fail(Errc::unknown_kind);
  return on_channel[code];
}

}  // namespace kwind::schema
