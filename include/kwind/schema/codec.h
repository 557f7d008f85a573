// What generated code is written in: Encoder and Decoder know the types of the description
// language, hold values to their ranges, and remember the first thing that went wrong. One codec,
// one thread. No allocation except into the caller's texts and lists.
#pragma once
#include <concepts>
#include <cstdint>
#include <span>
#include <string>
#include <string_view>

#include "kwind/bits/errors.h"
#include "kwind/bits/quantise.h"
#include "kwind/bits/reader.h"
#include "kwind/bits/writer.h"
#include "kwind/schema/info.h"

namespace kwind::schema {

/// The length of the longest start of `text` that is valid UTF-8 (RFC 3629) and at most `limit`
/// bytes.
std::size_t valid_utf8_prefix(std::string_view text, std::size_t limit);

class Encoder {
 public:
  /// Borrows `out`. What is outside its range is treated as `policy` says, and counted.
  explicit Encoder(bits::Writer& out, bits::Policy policy = bits::Policy::clamp)
      : out_(out), policy_(policy) {}

  void boolean(bool value) { out_.put_bool(value); }
  void integer(const bits::IntRange& range, std::int64_t value) {
    index(range.index_of(value), range.bits());
  }
  void real(const bits::RealRange& range, double value) {
    index(range.index_of(value), range.bits());
  }
  void turn(const bits::TurnRange& range, double degrees) {
    index(range.index_of(degrees), range.bits());
  }
  /// One of `count` values; an index beyond them is clamped to the last.
  void choice(std::uint64_t count, std::uint64_t value) {
    index(value < count ? bits::Quantised{value, true} : bits::Quantised{count - 1, false},
          bits::bits_for(count));
  }
  /// Writes the length of a list of at most `limit` items and returns how many items to write:
  /// under Policy::clamp a longer list loses its tail.
  std::size_t length(std::uint32_t limit, std::size_t size) {
    const auto clamped = size <= limit ? size : limit;
    index({clamped, size <= limit}, bits::bits_for(std::uint64_t{limit} + 1));
    return clamped;
  }
  /// At most `limit` bytes of UTF-8. Under Policy::clamp the text is cut before the first invalid
  /// byte and at the last whole character that fits.
  void text(std::uint32_t limit, std::string_view value);

  /// none; out_of_range under Policy::refuse; message_too_large if the memory ended.
  [[nodiscard]] Errc error() const {
    if (error_ != Errc::none) return error_;
    return out_.ok() ? Errc::none : Errc::message_too_large;
  }
  [[nodiscard]] std::uint64_t out_of_range_count() const { return out_of_range_; }

 private:
  void index(bits::Quantised value, unsigned bits) {
    if (!value.in_range) fault();
    out_.put(value.index, bits);
  }
  void fault();

  bits::Writer& out_;
  bits::Policy policy_;
  Errc error_ = Errc::none;
  std::uint64_t out_of_range_ = 0;
};

class Decoder {
 public:
  /// Borrows `in`, whose bits may come from anybody.
  explicit Decoder(bits::Reader& in) : in_(in) {}

  bool boolean() { return in_.get_bool(); }
  std::int64_t integer(const bits::IntRange& range) {
    return range.value_of(index(range.last_index(), range.bits()));
  }
  double real(const bits::RealRange& range) {
    return range.value_of(index(range.last_index(), range.bits()));
  }
  double turn(const bits::TurnRange& range) {
    return range.value_of(index(range.last_index(), range.bits()));
  }
  std::uint64_t choice(std::uint64_t count) { return index(count - 1, bits::bits_for(count)); }
  /// The length of a list; 0 after an error, so that a loop over it ends at once.
  std::size_t length(std::uint32_t limit);
  /// Replaces `value`, reusing its storage.
  void text(std::uint32_t limit, std::string& value);

  /// none, truncated, value_range, too_long or text_encoding: the first that was met.
  [[nodiscard]] Errc error() const {
    if (error_ != Errc::none) return error_;
    return in_.ok() ? Errc::none : Errc::truncated;
  }

 private:
  std::uint64_t index(std::uint64_t last, unsigned bits) {
    const std::uint64_t value = in_.get(bits);
    if (value <= last) return value;
    set_error(Errc::value_range);
    return 0;
  }
  void set_error(Errc code) {
    if (error() == Errc::none) error_ = code;
    in_.set_failed();
  }

  bits::Reader& in_;
  Errc error_ = Errc::none;
};

/// A struct that the generator wrote for a message.
template <class T>
concept Message = std::default_initializable<T> &&
    requires(const T& message, T& target, Encoder& out, Decoder& in) {
  { T::info() } -> std::convertible_to<const MessageInfo&>;
  encode(out, message);
  decode(in, target);
};

struct Encoded {
  std::size_t bits = 0;
  std::uint64_t out_of_range = 0;  ///< values that Policy::clamp moved into their ranges
};

/// Encodes the fields of `message` at the start of `memory`.
/// Errors: Errc::message_too_large, Errc::out_of_range (Policy::refuse).
template <Message T>
[[nodiscard]] Result<Encoded> encode_message(const T& message, std::span<std::byte> memory,
                                             bits::Policy policy = bits::Policy::clamp) {
  bits::Writer writer(memory);
  Encoder out(writer, policy);
  encode(out, message);
  if (out.error() != Errc::none) return fail(out.error());
  writer.finish();
  return Encoded{writer.bit_count(), out.out_of_range_count()};
}

/// Decodes all bits that are left in `reader` into `target`, reusing its storage. Only the
/// canonical bits of in-range values are accepted. On an error `target` holds values that mean
/// nothing. Errors: truncated, trailing_bits, value_range, too_long, text_encoding.
template <Message T>
[[nodiscard]] Errc decode_message(bits::Reader reader, T& target) {
  Decoder in(reader);
  decode(in, target);
  if (in.error() != Errc::none) return in.error();
  return reader.left_bits() == 0 ? Errc::none : Errc::trailing_bits;
}
/// As above, from the first `bits` bits of `memory`.
template <Message T>
[[nodiscard]] Errc decode_message(std::span<const std::byte> memory, std::size_t bits, T& target) {
  return decode_message(bits::Reader(memory, bits), target);
}

}  // namespace kwind::schema
