// Encoder and Decoder for types that are not a plain number of bits: ranges, counts
// (exponential Golomb codes), texts, lists, choices. A decoder accepts one bit string for each
// value: what an encoder would have written otherwise is an error.
#include "kwind/schema/codec.h"

#include <bit>
#include <cmath>
#include <limits>

#include "kwind/core/printable.h"

namespace kwind::schema {
namespace {

// Only the shortest way to say a number is canonical: no NaN, no infinity, no negative zero.
template <class Float, class Bits>
Piece float_piece(Float value) {
  std::uint64_t faults = 0;
  if (!std::isfinite(value)) {
    faults = 1;
    value = std::isnan(value) ? Float{0} : std::copysign(std::numeric_limits<Float>::max(), value);
  }
  if (value == 0) value = 0;  // also -0
  return {std::bit_cast<Bits>(value), 8 * sizeof(Float), faults};
}
// Infinities, NaN and -0 have no place in the format: each value has one bit string.
template <class Bits, class Float>
bool take_float(std::uint64_t index, Float& to) {
  to = std::bit_cast<Float>(static_cast<Bits>(index));
  if (std::isfinite(to) && !(to == 0 && std::signbit(to))) return true;
  to = 0;
  return false;
}

}  // namespace

// ---- Encoder ----

Piece Encoder::f32(float value) {
  return float_piece<float, std::uint32_t>(value);
}
Piece Encoder::f64(double value) {
  return float_piece<double, std::uint64_t>(value);
}

// Id and generation as one number; 0 is none.
Piece Encoder::ref(std::uint32_t entities, std::uint32_t id, std::uint8_t generation) {
  const unsigned bits = bits::bits_for(std::uint64_t{entities} * kGenerations + 1);
  if (id == 0) return {0, bits, generation == 0 ? 0U : 1U};
  if (id > entities || generation >= kGenerations) return {0, bits, 1};  // none, not another one
  return {1 + std::uint64_t{id - 1} * kGenerations + generation, bits, 0};
}

// A value that the peer's version lacks travels as the one that stands for it there.
Piece Encoder::choice(std::span<const Choice> choices, std::uint64_t place) const {
  const bool known = place < choices.size();
  const std::size_t sent =
      choice_standing_for(choices, version_, known ? static_cast<std::size_t>(place) : 0);
  return {code_of_choice(choices, version_, sent), bits::bits_for(choices_alive(choices, version_)),
          known ? 0U : 1U};
}

// Exp-Golomb of a fixed order; a value beyond the limit is clamped and counted.
void Encoder::count(std::uint32_t limit, std::uint32_t value) {
  if (value > limit) {
    count_faults(1);
    value = limit;
  }
  out_.put_count(value, Decoder::kCountOrder);
}

// Cut before the first byte that is no UTF-8, and at a whole character.
void Encoder::text(std::uint32_t limit, std::string_view value) {
  const std::size_t size = valid_utf8_prefix(value, limit);
  if (size != value.size()) count_faults(1);
  out_.put(size, bits::bits_for(std::uint64_t{limit} + 1));
  out_.put_bits(std::as_bytes(std::span(value.data(), size)), size * 8);
}

void Encoder::bytes(std::uint32_t limit, std::span<const std::byte> value) {
  const std::size_t size = length(limit, value.size());
  out_.put_bits(value, size * 8);
}

// ---- Decoder ----

bool Decoder::F32Slot::take(std::uint64_t index, Decoder&) const {
  return take_float<std::uint32_t>(index, *to);
}
bool Decoder::F64Slot::take(std::uint64_t index, Decoder&) const {
  return take_float<std::uint64_t>(index, *to);
}

// Beyond the last step the direction is the first one, and the decoder fails.
bool Decoder::Direction2Slot::take(std::uint64_t index, Decoder&) const {
  const bool good = index < range.count;
  const auto value = bits::direction2_value(range, good ? index : 0);
  *x = value[0];
  *y = value[1];
  return good;
}

// Of several indices that name one direction only the canonical one is accepted.
bool Decoder::Direction3Slot::take(std::uint64_t index, Decoder&) const {
  const bool good = index <= grid.last_index() && grid.canonical(index);
  const auto value = good ? grid.value_of(index) : std::array<double, 3>{0, 0, 1};
  *x = value[0];
  *y = value[1];
  *z = value[2];
  return good;
}

// As for directions: one bit string for each rotation.
bool Decoder::RotationSlot::take(std::uint64_t index, Decoder&) const {
  const bool good = index <= grid.last_index() && grid.canonical(index);
  const auto value = good ? grid.value_of(index) : std::array<double, 4>{1, 0, 0, 0};
  *w = value[0];
  *x = value[1];
  *y = value[2];
  *z = value[3];
  return good;
}

// 16 bits of a tick: of the ticks with these low bits the one nearest to the snapshot's, at most
// 2^15 away (as RFC 9000, A.3, for packet numbers).
bool Decoder::TickSlot::take(std::uint64_t index, Decoder& in) const {
  const std::uint32_t newest = in.reference_tick_;
  const auto ahead = static_cast<std::int16_t>(
      static_cast<std::uint16_t>(index - static_cast<std::uint16_t>(newest)));
  if (ahead < 0 && newest < static_cast<std::uint32_t>(-ahead)) {
    *to = static_cast<std::uint32_t>(index);  // before tick 0: it must be the one after
  } else {
    *to = newest + static_cast<std::uint32_t>(static_cast<std::int32_t>(ahead));
  }
  if (ahead > 0 && *to > in.newest_tick_) in.newest_tick_ = *to;
  return true;
}

// An entity that the receiver does not know becomes none; the game never sees a dangling reference.
bool Decoder::RefSlot::take(std::uint64_t index, Decoder& in) const {
  const bool good = index <= std::uint64_t{entities} * kGenerations;
  const bool some = good && index > 0;
  *id = some ? 1 + static_cast<std::uint32_t>((index - 1) / kGenerations) : 0;
  *generation = some ? static_cast<std::uint8_t>((index - 1) % kGenerations) : std::uint8_t{0};
  if (some && in.known_ != nullptr && !in.known_->knows({*id, *generation})) {
    *id = 0;
    *generation = 0;
    ++in.emptied_refs_;
  }
  return good;
}

std::uint64_t Decoder::choice(std::span<const Choice> choices) {
  return choice_with_code(choices, version_, choice(choices_alive(choices, version_)));
}

// A length beyond the limit fails before memory is taken.
std::size_t Decoder::length(std::uint32_t limit) {
  const std::uint64_t size = in_.get(bits::bits_for(std::uint64_t{limit} + 1));
  if (size <= limit) return static_cast<std::size_t>(size);
  fail(Errc::too_long);
  return 0;
}

// A length that the bits left cannot hold is a lie: it fails before memory is taken.
std::size_t Decoder::length(std::uint32_t limit, std::uint32_t item_bits) {
  const std::size_t size = length(limit);
  if (item_bits == 0) {
    empty_items_ += size;
    if (empty_items_ <= kMaxEmptyItems) return size;
    fail(Errc::too_long);
    return 0;
  }
  if (size * item_bits <= in_.left_bits()) return size;
  in_.set_failed();
  return 0;
}

// Invalid UTF-8 fails: the game gets text or nothing.
void Decoder::text(std::uint32_t limit, std::string& value) {
  value.resize(length(limit, 8));
  in_.get_bits(std::as_writable_bytes(std::span(value.data(), value.size())), value.size() * 8);
  if (valid_utf8_prefix(value, value.size()) != value.size()) fail(Errc::text_encoding);
}

void Decoder::bytes(std::uint32_t limit, std::vector<std::byte>& value) {
  value.resize(length(limit, 8));
  in_.get_bits(value, value.size() * 8);
}

}  // namespace kwind::schema
