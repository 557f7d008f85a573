// The delivery promises of a channel: vocabulary that the description, the link and the user share.
#pragma once
#include <cstdint>
#include <string_view>

namespace kwind {

/// How a channel delivers its messages.
enum class Delivery : std::uint8_t {
  unreliable,  ///< each message arrives once or not at all, in any order
  sequenced,   ///< as unreliable, and only messages newer than the last delivered one arrive
  reliable,    ///< each message arrives exactly once, in any order
  ordered,     ///< each message arrives exactly once, in the order of sending
};

/// Whether every message arrives: what is lost is sent again.
constexpr bool is_reliable(Delivery delivery) {
  return delivery == Delivery::reliable || delivery == Delivery::ordered;
}

constexpr std::string_view name_of(Delivery delivery) {
  switch (delivery) {
    case Delivery::unreliable: return "unreliable";
    case Delivery::sequenced: return "sequenced";
    case Delivery::reliable: return "reliable";
    case Delivery::ordered: return "ordered";
  }
  return "";
}

}  // namespace kwind
