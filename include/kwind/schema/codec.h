// What generated code is written in: Encoder and Decoder know the types of the description
// language, hold values to their ranges, and remember the first thing that went wrong. One codec,
// one thread. No allocation except into the caller's texts, bytes and lists.
#pragma once
#include <concepts>
#include <cstdint>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "kwind/bits/quantise.h"
#include "kwind/bits/reader.h"
#include "kwind/bits/unit_vectors.h"
#include "kwind/bits/writer.h"
#include "kwind/core/compiler.h"
#include "kwind/core/errors.h"
#include "kwind/schema/info.h"
#include "kwind/schema/life.h"
#include "kwind/schema/references.h"

namespace kwind::schema {

/// A value of at most 64 bits, ready to be written.
struct [[nodiscard]] Piece {
  std::uint64_t value;
  unsigned bits;
  std::uint64_t faults;  ///< 1 if the value had to be moved into its range
};

/// Whose copy of an entity is encoded: `owner only` fields go to its owner alone.
enum class View : std::uint8_t { owner, others };

/// Writes the values of a message's fields, and holds them to their ranges.
class KWIND_API Encoder {
 public:
  /// Writes on behind what `out` holds, in the layout of `version`. What is outside its range is
  /// treated as `policy` says, and counted. A copy goes on by itself: loops work on one, which
  /// compilers keep in registers, and assign it back.
  explicit Encoder(bits::Writer out, bits::Policy policy = bits::Policy::clamp,
                   std::uint16_t version = kNewest, View view = View::owner)
      : out_(out), policy_(policy), view_(view), version_(version) {}

  [[nodiscard]] std::uint16_t version() const { return version_; }
  [[nodiscard]] View view() const { return view_; }

  // ---- pieces: what they give is written by write() ----

  static Piece boolean(bool value) { return {value ? 1U : 0U, 1, 0}; }
  KWIND_ALWAYS_INLINE static Piece integer(const bits::IntRange& range, std::int64_t value) {
    return piece(range.index_of(value), range.bits());
  }
  KWIND_ALWAYS_INLINE static Piece real(const bits::RealRange& range, double value) {
    return piece(range.index_of(value), range.bits());
  }
  KWIND_ALWAYS_INLINE static Piece angle(const bits::AngleRange& range, double degrees) {
    return piece(range.index_of(degrees), range.bits());
  }
  /// One of `count` values; an index beyond them becomes the last.
  static Piece choice(std::uint64_t count, std::uint64_t value) {
    return piece(value < count ? bits::Quantised{value, true} : bits::Quantised{count - 1, false},
                 bits::bits_for(count));
  }
  /// IEEE 754 binary32 and binary64. Finite numbers only: NaN becomes 0, infinities the largest
  /// number of their sign, both out of range; -0 becomes 0, which compares equal.
  static Piece f32(float value);
  static Piece f64(double value);
  static Piece direction2(const bits::AngleRange& range, double x, double y) {
    return piece(bits::direction2_index(range, x, y), range.bits());
  }
  static Piece direction3(const bits::DirectionGrid& grid, double x, double y, double z) {
    return piece(grid.index_of(x, y, z), grid.bits());
  }
  static Piece rotation(const bits::RotationGrid& grid, double w, double x, double y, double z) {
    return piece(grid.index_of(w, x, y, z), grid.bits());
  }
  /// One of choices that not every version knows: its stand-in where the version does not.
  [[nodiscard]] Piece choice(std::span<const Choice> choices, std::uint64_t place) const;
  /// The low 16 bits of a tick.
  static Piece tick(std::uint32_t value) { return {value & 0xffffU, 16, 0}; }
  /// One of `peers` connections.
  static Piece peer(std::uint32_t peers, std::uint32_t value) { return choice(peers, value); }
  template <class T>
  static Piece ref(std::uint32_t entities, const Ref<T>& value) {
    return ref(entities, value.id, value.generation);
  }
  static Piece ref(std::uint32_t entities, std::uint32_t id, std::uint8_t generation);

  /// Writes pieces of together at most 64 bits.
  template <std::same_as<Piece>... P>
  KWIND_ALWAYS_INLINE void write(const P&... pieces) {
    std::uint64_t all = 0;
    unsigned at = 0;
    ((all |= at < 64 ? pieces.value << at : 0, at += pieces.bits), ...);
    count_faults((pieces.faults + ...));
    out_.put_clean(all, at);
  }

  // ---- values of varying size, written at once ----

  /// 0 to `limit`, in the Exp-Golomb code of order 3: small ones take few bits.
  void count(std::uint32_t limit, std::uint32_t value);
  /// Writes the length of a list of at most `limit` items and returns how many items to write:
  /// under Policy::clamp a longer list loses its tail.
  std::size_t length(std::uint32_t limit, std::size_t size) {
    const std::size_t kept = size <= limit ? size : limit;
    write(piece({kept, size <= limit}, bits::bits_for(std::uint64_t{limit} + 1)));
    return kept;
  }
  /// At most `limit` bytes of UTF-8. Under Policy::clamp the text is cut before the first invalid
  /// byte and at the last whole character that fits.
  void text(std::uint32_t limit, std::string_view value);
  void bytes(std::uint32_t limit, std::span<const std::byte> value);
  /// The value of a grid cell; its fault, if any, is counted now.
  std::uint64_t cell(const Piece& piece) {
    count_faults(piece.faults);
    return piece.value;
  }
  /// A number below 2^32 as Writer::put_count writes it.
  void count_code(std::uint64_t value, unsigned order) { out_.put_count(value, order); }

  /// none; out_of_range under Policy::refuse; message_too_large if the memory ended.
  [[nodiscard]] Errc error() const {
    if (policy_ == bits::Policy::refuse && out_of_range_ > 0) return Errc::out_of_range;
    return out_.ok() ? Errc::none : Errc::message_too_large;
  }
  [[nodiscard]] std::uint64_t out_of_range_count() const { return out_of_range_; }
  [[nodiscard]] std::size_t bit_count() const { return out_.bit_count(); }
  /// Stores the last bits, see bits::Writer::finish(), and returns the bytes used.
  std::size_t finish() { return out_.finish(); }

 private:
  KWIND_ALWAYS_INLINE static Piece piece(bits::Quantised value, unsigned bits) {
    return {value.index, bits, value.in_range ? 0U : 1U};
  }
  KWIND_ALWAYS_INLINE void count_faults(std::uint64_t times) {
    if (times == 0) [[likely]]
      return;
    KWIND_ASSERT(policy_ != bits::Policy::assert_range);
    out_of_range_ += times;
  }

  bits::Writer out_;
  bits::Policy policy_;
  View view_;
  std::uint16_t version_;
  std::uint64_t out_of_range_ = 0;
};

/// Which entities whoever decodes knows of, as of now: a ref to another one, or to one that had the
/// id before, arrives empty.
class KWIND_API KnownEntities {
 public:
  KnownEntities() = default;
  KnownEntities(const KnownEntities&) = delete;
  KnownEntities& operator=(const KnownEntities&) = delete;
  virtual ~KnownEntities() = default;
  [[nodiscard]] virtual bool knows(const AnyRef& entity) const = 0;
};

/// Reads the values of a message's fields, and holds them to their ranges.
class KWIND_API Decoder {
 public:
  /// Takes what is left in `in`, whose bits may come from anybody and are in the layout of
  /// `version`. Ticks are taken to be those nearest to `newest_tick`. A copy goes on by itself, as
  /// with Encoder.
  explicit Decoder(bits::Reader in, std::uint16_t version = kNewest, std::uint32_t newest_tick = 0,
                   View view = View::owner)
      : in_(in),
        view_(view),
        version_(version),
        reference_tick_(newest_tick),
        newest_tick_(newest_tick) {}

  [[nodiscard]] std::uint16_t version() const { return version_; }
  [[nodiscard]] View view() const { return view_; }
  /// The newest tick seen so far: the given one, or a later one that was decoded.
  [[nodiscard]] std::uint32_t newest_tick() const { return newest_tick_; }

  /// Borrowed; nullptr: all refs arrive as they are, which is how it begins.
  void know(const KnownEntities* known) { known_ = known; }
  /// Refs that arrived empty because of that.
  [[nodiscard]] std::uint64_t emptied_refs() const { return emptied_refs_; }

  // ---- slots: where read() puts what it takes ----

  /// Where a `bool` is put.
  struct BooleanSlot {
    bool* to;
    [[nodiscard]] static unsigned bits() { return 1; }
    bool take(std::uint64_t index, Decoder&) const {
      *to = index != 0;
      return true;
    }
  };
  /// Where a value of a range is put, of an integral or floating type.
  template <class Range, class T>
  struct RangeSlot {
    const Range& range;
    T* to;
    [[nodiscard]] unsigned bits() const { return range.bits(); }
    KWIND_ALWAYS_INLINE bool take(std::uint64_t index, Decoder&) const {
      const bool good = index <= range.last_index();
      *to = static_cast<T>(range.value_of(good ? index : 0));
      return good;
    }
  };
  /// Where the place of a name in its enum is put.
  template <class T>
  struct ChoiceSlot {
    std::uint64_t count;
    T* to;
    [[nodiscard]] unsigned bits() const { return bits::bits_for(count); }
    KWIND_ALWAYS_INLINE bool take(std::uint64_t index, Decoder&) const {
      const bool good = index < count;
      *to = static_cast<T>(good ? index : 0);
      return good;
    }
  };
  /// Where an `f32` is put.
  struct F32Slot {
    float* to;
    [[nodiscard]] static unsigned bits() { return 32; }
    bool take(std::uint64_t index, Decoder&) const;
  };
  /// Where an `f64` is put.
  struct F64Slot {
    double* to;
    [[nodiscard]] static unsigned bits() { return 64; }
    bool take(std::uint64_t index, Decoder&) const;
  };
  /// Where a `direction2` is put.
  struct Direction2Slot {
    const bits::AngleRange& range;
    double *x, *y;
    [[nodiscard]] unsigned bits() const { return range.bits(); }
    bool take(std::uint64_t index, Decoder&) const;
  };
  /// Where a `direction3` is put.
  struct Direction3Slot {
    const bits::DirectionGrid& grid;
    double *x, *y, *z;
    [[nodiscard]] unsigned bits() const { return grid.bits(); }
    bool take(std::uint64_t index, Decoder&) const;
  };
  /// Where a `rotation` is put.
  struct RotationSlot {
    const bits::RotationGrid& grid;
    double *w, *x, *y, *z;
    [[nodiscard]] unsigned bits() const { return grid.bits(); }
    bool take(std::uint64_t index, Decoder&) const;
  };
  /// Where a `tick` is put.
  struct TickSlot {
    std::uint32_t* to;
    [[nodiscard]] static unsigned bits() { return 16; }
    bool take(std::uint64_t index, Decoder& in) const;
  };
  /// Where a `ref` is put.
  struct RefSlot {
    std::uint32_t entities;
    std::uint32_t* id;
    std::uint8_t* generation;
    [[nodiscard]] unsigned bits() const {
      return bits::bits_for(std::uint64_t{entities} * kGenerations + 1);
    }
    bool take(std::uint64_t index, Decoder& in) const;
  };

  static BooleanSlot boolean(bool& to) { return {&to}; }
  template <class T>
  static RangeSlot<bits::IntRange, T> integer(const bits::IntRange& range, T& to) {
    return {range, &to};
  }
  template <class T>
  static RangeSlot<bits::RealRange, T> real(const bits::RealRange& range, T& to) {
    return {range, &to};
  }
  static RangeSlot<bits::AngleRange, double> angle(const bits::AngleRange& range, double& to) {
    return {range, &to};
  }
  template <class T>
  static ChoiceSlot<T> choice(std::uint64_t count, T& to) {
    return {count, &to};
  }
  static F32Slot f32(float& to) { return {&to}; }
  static F64Slot f64(double& to) { return {&to}; }
  static Direction2Slot direction2(const bits::AngleRange& range, double& x, double& y) {
    return {range, &x, &y};
  }
  static Direction3Slot direction3(const bits::DirectionGrid& grid, double& x, double& y,
                                   double& z) {
    return {grid, &x, &y, &z};
  }
  static RotationSlot rotation(const bits::RotationGrid& grid, double& w, double& x, double& y,
                               double& z) {
    return {grid, &w, &x, &y, &z};
  }
  static TickSlot tick(std::uint32_t& to) { return {&to}; }
  static ChoiceSlot<std::uint32_t> peer(std::uint32_t peers, std::uint32_t& to) {
    return {peers, &to};
  }
  template <class T>
  static RefSlot ref(std::uint32_t entities, Ref<T>& to) {
    return {entities, &to.id, &to.generation};
  }

  /// Fills slots of together at most 64 bits. Out of range or past the end: each such slot gets the
  /// first value of its range, and error() says which error.
  template <class... Slot>
  KWIND_ALWAYS_INLINE void read(const Slot&... slots) {
    std::uint64_t all = in_.get((slots.bits() + ... + 0U));
    bool good = true;
    ((good &= slots.take(all & bits::low_mask(slots.bits()), *this),
      all = slots.bits() < 64 ? all >> slots.bits() : 0),
     ...);
    if (!good) fail(Errc::value_range);
  }

  // ---- values taken at once ----

  bool boolean() { return in_.get_bool(); }
  std::uint64_t choice(std::uint64_t count) {
    const std::uint64_t value = in_.get(bits::bits_for(count));
    if (value < count) return value;
    fail(Errc::value_range);
    return 0;
  }
  /// The place of one of choices that not every version knows.
  std::uint64_t choice(std::span<const Choice> choices);
  std::uint32_t count(std::uint32_t limit) {
    return static_cast<std::uint32_t>(count_code(kCountOrder, limit));
  }
  /// The length of a list; 0 after an error, so that a loop over it ends at once.
  std::size_t length(std::uint32_t limit);
  /// As above, of a list whose items take at least `item_bits` each: a length that the bits left
  /// cannot hold is an error before anything is allocated for it. Items without bits, which a list
  /// has only in versions older than its fields, count against kMaxEmptyItems of the message.
  std::size_t length(std::uint32_t limit, std::uint32_t item_bits);
  /// Each replaces `value`, reusing its storage.
  void text(std::uint32_t limit, std::string& value);
  void bytes(std::uint32_t limit, std::vector<std::byte>& value);
  /// Fills `target` with the next bytes.
  void raw(std::span<std::byte> target) { in_.get_bits(target, target.size() * 8); }
  /// The inverse of Encoder::count_code; above `limit` is an error, 0 after one.
  std::uint64_t count_code(unsigned order, std::uint64_t limit) {
    const std::uint64_t value = in_.get_count(order);
    if (value <= limit) return value;
    fail(Errc::value_range);
    return 0;
  }

  /// Remembers an error, unless there is one, and reads nothing more.
  KWIND_ALWAYS_INLINE void fail(Errc code) {
    if (error() == Errc::none) error_ = code;
    in_.set_failed();
  }
  /// none, truncated, value_range, too_long or text_encoding: the first that was met.
  [[nodiscard]] Errc error() const {
    if (error_ != Errc::none) return error_;
    return in_.ok() ? Errc::none : Errc::truncated;
  }
  [[nodiscard]] std::size_t left_bits() const { return in_.left_bits(); }

  static constexpr unsigned kCountOrder = 3;  // of `count`: 0 to 7 take 4 bits
  static constexpr std::size_t kMaxEmptyItems = 65536;

 private:
  bits::Reader in_;
  View view_;
  Errc error_ = Errc::none;
  std::uint16_t version_;
  std::uint32_t reference_tick_;  // the same for all of a message
  std::uint32_t newest_tick_;
  std::size_t empty_items_ = 0;
  const KnownEntities* known_ = nullptr;
  std::uint64_t emptied_refs_ = 0;
};

/// A struct that the generator wrote for a message.
template <class T>
concept Message = std::default_initializable<T> &&
    requires(const T& message, T& target, Encoder& out, Decoder& in) {
  { T::info() } -> std::convertible_to<const MessageInfo&>;
  encode(out, message);
  decode(in, target);
};

/// The kinds of message of a protocol, as a type.
template <class... T>
struct MessageList {};

/// What can be sent: a generated message, or one that says at run time what it is.
template <class T>
concept Sendable = requires(const T& message, Encoder& out) {
  { message.info() } -> std::convertible_to<const MessageInfo&>;
  encode(out, message);
};

/// How long an encoded message is, and what was moved into range for it.
struct Encoded {
  std::size_t bits = 0;
  std::uint64_t out_of_range = 0;  ///< values that Policy::clamp moved into their ranges
};

/// Encodes the fields of `message` at the start of `memory`, in the layout of `version`.
/// Errors: Errc::message_too_large, Errc::out_of_range (Policy::refuse).
template <Message T>
[[nodiscard]] Result<Encoded> encode_message(const T& message, std::span<std::byte> memory,
                                             bits::Policy policy = bits::Policy::clamp,
                                             std::uint16_t version = kNewest) {
  Encoder out(bits::Writer(memory), policy, version);
  encode(out, message);
  if (out.error() != Errc::none) return fail(out.error());
  out.finish();
  return Encoded{out.bit_count(), out.out_of_range_count()};
}

/// What decoding depends on beside the bits.
struct Layout {
  std::uint16_t version = kNewest;
  std::uint32_t newest_tick = 0;         ///< ticks are taken to be those nearest to it
  const KnownEntities* known = nullptr;  ///< see Decoder::know()
  std::uint64_t emptied_refs = 0;        ///< counted up by what decodes
};

/// Decodes all bits that are left in `reader` into `target`, reusing its storage. Only the
/// canonical bits of in-range values are accepted. On an error `target` holds values that mean
/// nothing; otherwise layout.newest_tick has become the newest tick in the message, if that is
/// newer. Errors: truncated, trailing_bits, value_range, too_long, text_encoding.
template <Message T>
[[nodiscard]] Errc decode_message(bits::Reader reader, T& target, Layout& layout) {
  Decoder in(reader, layout.version, layout.newest_tick);
  in.know(layout.known);
  decode(in, target);
  if (in.error() != Errc::none) return in.error();
  if (in.left_bits() > 0) return Errc::trailing_bits;
  layout.newest_tick = in.newest_tick();
  layout.emptied_refs += in.emptied_refs();
  return Errc::none;
}
/// As above, from the first `bits` bits of `memory`.
template <Message T>
[[nodiscard]] Errc decode_message(std::span<const std::byte> memory, std::size_t bits, T& target,
                                  Layout layout = {}) {
  return decode_message(bits::Reader(memory, bits), target, layout);
}

/// For generated decoders: the alternative T of a std::variant, with its storage if it is held
/// already.
template <class T, class Variant>
T& alternative(Variant& variant) {
  if (T* held = get_if<T>(&variant)) return *held;
  return variant.template emplace<T>();
}

}  // namespace kwind::schema
