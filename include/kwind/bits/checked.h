// Bytes written by hand, checked while you develop: every value carries a tag, and a read in
// another order, width, type or range than the write is reported with both places in the code
// instead of yielding noise. HandWriter and HandReader are the checked ones where KWIND_CHECKED is
// defined and the plain ones otherwise; both sides must be built alike, as the tags take room. One
// of them, one thread.
//
//   void write(bits::HandWriter& out, const Tug& tug) {
//     out.put_in(kPlace, tug.x);
//     out.put(tug.crew, 4);
//   }
#pragma once
#include <cstdint>
#include <string>
#include <string_view>

#include "kwind/bits/quantise.h"
#include "kwind/bits/reader.h"
#include "kwind/bits/writer.h"
#include "kwind/core/compiler.h"

namespace kwind::bits {

/// A place in the code that calls. A default argument finds it: `Site site = Site::here()`.
struct Site {
  const char* file;
  std::uint32_t line;
  static Site here(const char* file = __builtin_FILE(), int line = __builtin_LINE()) {
    return {file, static_cast<std::uint32_t>(line)};
  }
};

/// What a value is, as far as reader and writer must agree.
struct KWIND_API ValueTag {
  enum class Kind : std::uint8_t { bits, boolean, count, integer, real, angle, bytes };
  Kind kind = Kind::bits;
  std::uint32_t width = 0;  ///< bits; order of a count
  std::uint32_t range = 0;  ///< digest of a range; 0 without one

  /// "12 bits", "a real in a range of 8 bits".
  [[nodiscard]] std::string text() const;
  friend bool operator==(const ValueTag&, const ValueTag&) = default;
};
KWIND_API ValueTag tag_of(const IntRange& range);
KWIND_API ValueTag tag_of(const RealRange& range);
KWIND_API ValueTag tag_of(const AngleRange& range);

/// What was read other than it was written.
struct Misread {
  std::string text;       ///< "tug.cpp:31 reads 4 bits where server.cpp:18 wrote a boolean"
  std::size_t value = 0;  ///< the how manieth value since the start, from 0
};

/// As Writer, with a tag of 15 bytes and the name of the file before each value. Allocates nothing.
class KWIND_API CheckedWriter {
 public:
  explicit CheckedWriter(std::span<std::byte> memory) : out_(memory) {}

  void put(std::uint64_t value, unsigned bits, Site site = Site::here());
  void put_bool(bool value, Site site = Site::here());
  void put_count(std::uint64_t value, unsigned k, Site site = Site::here());
  void put_bits(std::span<const std::byte> source, std::size_t bits, Site site = Site::here());
  /// A value of a range; outside of it the nearest end. False: it was outside.
  template <class Range, class Value>
  bool put_in(const Range& range, Value value, Site site = Site::here()) {
    tag(tag_of(range), site);
    const Quantised index = range.index_of(value);
    out_.put(index.index, range.bits());
    return index.in_range;
  }

  [[nodiscard]] bool ok() const { return out_.ok(); }
  [[nodiscard]] std::size_t bit_count() const { return out_.bit_count(); }
  std::size_t finish() { return out_.finish(); }

 private:
  void tag(const ValueTag& tag, Site site);

  Writer out_;
};

/// As Reader, of what CheckedWriter wrote. After the first misread it yields zeros and ok() is
/// false; misread() says what went wrong, unless the bits are no checked ones or end too early.
class KWIND_API CheckedReader {
 public:
  explicit CheckedReader(std::span<const std::byte> bytes) : in_(bytes) {}
  CheckedReader(std::span<const std::byte> bytes, std::size_t bits) : in_(bytes, bits) {}

  std::uint64_t get(unsigned bits, Site site = Site::here());
  bool get_bool(Site site = Site::here());
  std::uint64_t get_count(unsigned k, Site site = Site::here());
  bool get_bits(std::span<std::byte> target, std::size_t bits, Site site = Site::here());
  /// A value of a range. Bits that name none give its first one, and ok() is false.
  template <class Range>
  auto get_in(const Range& range, Site site = Site::here()) {
    std::uint64_t index = check(tag_of(range), site) ? in_.get(range.bits()) : 0;
    if (index > range.last_index()) {
      in_.set_failed();
      index = 0;
    }
    return range.value_of(index);
  }

  [[nodiscard]] bool ok() const { return in_.ok(); }
  [[nodiscard]] std::size_t left_bits() const { return in_.left_bits(); }
  [[nodiscard]] const Misread& misread() const { return misread_; }

 private:
  bool check(const ValueTag& expected, Site site);

  Reader in_;
  Misread misread_;
  std::size_t values_ = 0;
};

/// What the plain ones need to take calls for the checked ones.
class KWIND_API PlainWriter : public Writer {
 public:
  using Writer::Writer;
  template <class Range, class Value>
  bool put_in(const Range& range, Value value) {
    const Quantised index = range.index_of(value);
    put(index.index, range.bits());
    return index.in_range;
  }
};
/// As Reader, with get_in() as CheckedReader has it.
class KWIND_API PlainReader : public Reader {
 public:
  using Reader::Reader;
  template <class Range>
  auto get_in(const Range& range) {
    std::uint64_t index = get(range.bits());
    if (index > range.last_index()) {
      set_failed();
      index = 0;
    }
    return range.value_of(index);
  }
};

#ifdef KWIND_CHECKED
using HandWriter = CheckedWriter;
using HandReader = CheckedReader;
#else
using HandWriter = PlainWriter;
using HandReader = PlainReader;
#endif

}  // namespace kwind::bits
