// What a packet carried whose fate matters: a sum type of six alternatives, packed into 16 bytes,
// because a link has hundreds of them in flight. Whoever handles one handles all: visit() does not
// compile without a case for each. Pure.
#pragma once
#include <cstdint>

#include "kwind/core/assert.h"

namespace kwind::link {

/// A reliable or ordered message, or a run of its fragments.
struct ReliableRef {
  std::uint8_t channel = 0;
  std::uint16_t first_fragment = 0;
  std::uint16_t fragments = 0;  ///< 0: the whole message
  std::uint64_t index = 0;
};
/// A sequenced message that may go again.
struct SequencedRef {
  std::uint8_t channel = 0;
  std::uint64_t origin_key = 0;  ///< see Origin
};
/// The window of a channel.
struct WindowRef {
  std::uint8_t channel = 0;
};
/// What a payload source wrote.
struct PayloadRef {
  std::uint16_t generation = 0;  ///< of the source, see PayloadSlot
  std::uint64_t token = 0;
};
/// The goodbye.
struct CloseRef {};
/// A probe of the path's MTU.
struct MtuProbeRef {
  std::uint64_t number = 0;
};

/// Calls the case for the type of its argument.
template <class... Cases>
struct Overloaded : Cases... {
  using Cases::operator()...;
};
template <class... Cases>
Overloaded(Cases...) -> Overloaded<Cases...>;

class SentRef {
 public:
  SentRef() = default;
  // NOLINTBEGIN(google-explicit-constructor): each alternative is one.
  SentRef(const ReliableRef& ref)
      : kind_(Kind::reliable),
        channel_(ref.channel),
        first_(ref.first_fragment),
        count_(ref.fragments),
        number_(ref.index) {}
  SentRef(const SequencedRef& ref)
      : kind_(Kind::sequenced), channel_(ref.channel), number_(ref.origin_key) {}
  SentRef(const WindowRef& ref) : kind_(Kind::window), channel_(ref.channel) {}
  SentRef(const PayloadRef& ref)
      : kind_(Kind::payload), first_(ref.generation), number_(ref.token) {}
  SentRef(const CloseRef& /*ref*/) : kind_(Kind::close) {}
  SentRef(const MtuProbeRef& ref) : kind_(Kind::mtu_probe), number_(ref.number) {}
  // NOLINTEND(google-explicit-constructor)

  template <class Visitor>
  void visit(const Visitor& visitor) const {
    switch (kind_) {
      case Kind::reliable: return visitor(ReliableRef{channel_, first_, count_, number_});
      case Kind::sequenced: return visitor(SequencedRef{channel_, number_});
      case Kind::window: return visitor(WindowRef{channel_});
      case Kind::payload: return visitor(PayloadRef{first_, number_});
      case Kind::close: return visitor(CloseRef{});
      case Kind::mtu_probe: return visitor(MtuProbeRef{number_});
    }
    KWIND_ASSERT(false);
  }
  [[nodiscard]] bool is_mtu_probe() const { return kind_ == Kind::mtu_probe; }

 private:
  enum class Kind : std::uint8_t { reliable, sequenced, window, payload, close, mtu_probe };
  Kind kind_ = Kind::close;
  std::uint8_t channel_ = 0;
  std::uint16_t first_ = 0;
  std::uint16_t count_ = 0;
  std::uint64_t number_ = 0;
};
static_assert(sizeof(SentRef) == 16);

}  // namespace kwind::link
