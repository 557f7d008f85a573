// Opaque payload with delivery reports: a payload source writes into the free room of a link's
// datagrams and learns whether each datagram arrived. Source and link hold weak references to each
// other: either may end or move first. Pure; both belong to one thread.
#pragma once
#include <cstdint>
#include <optional>
#include <utility>

#include "kwind/bits/writer.h"
#include "kwind/core/compiler.h"
#include "kwind/core/time.h"

namespace kwind::link {

class PayloadSlot;

/// Writes bits of its own into datagrams, and learns whether each datagram arrived. It fills for
/// one link at a time, from Link::schedule_payload() until another payload source is offered there,
/// the link ends, or it is destroyed or offered to another link. It may be moved meanwhile.
class KWIND_API PayloadSource {
 public:
  PayloadSource() = default;
  PayloadSource(PayloadSource&& other) noexcept;
  PayloadSource& operator=(PayloadSource&& other) noexcept;
  PayloadSource(const PayloadSource&) = delete;
  PayloadSource& operator=(const PayloadSource&) = delete;
  virtual ~PayloadSource();

  /// Writes at most out.room_bits() bits, and returns the token that on_delivery() gets;
  /// nothing if there is nothing (more) to say, `out` then untouched.
  virtual std::optional<std::uint64_t> fill(Time now, bits::Writer& out) = 0;
  /// The datagram with what was written under `token` arrived, or seems lost: `arrived` may follow
  /// for a datagram that seemed lost, and is final. Called while the link receives or wakes.
  virtual void on_delivery(std::uint64_t /*token*/, bool /*arrived*/) noexcept {}

 private:
  friend class PayloadSlot;
  // A cache hint, for the library's own sources: fill() is about to be called. Steps 0 to 3, each a
  // microsecond or so after the one before.
  virtual void prefetch(unsigned /*step*/) const {}

  PayloadSlot* slot_ = nullptr;
};

/// A link's end of the tie: at most one payload source, and a number for each that was here.
class KWIND_API PayloadSlot {
 public:
  PayloadSlot() = default;
  PayloadSlot(const PayloadSlot&) = delete;
  PayloadSlot& operator=(const PayloadSlot&) = delete;
  ~PayloadSlot() { set(nullptr); }

  /// Unties the payload source that is here, and `payload source` from where it is; nullptr: none
  /// from now on.
  void set(PayloadSource* payload_source);
  [[nodiscard]] PayloadSource* get() const { return payload_source_; }
  /// See PayloadSource: a cache hint.
  void prefetch(unsigned step) const {
    if (payload_source_ != nullptr) payload_source_->prefetch(step);
  }
  /// Differs for payload sources that were here one after the other, but for every 65,536th.
  [[nodiscard]] std::uint16_t generation() const { return generation_; }

 private:
  friend class PayloadSource;
  PayloadSource* payload_source_ = nullptr;
  std::uint16_t generation_ = 0;
};

}  // namespace kwind::link
