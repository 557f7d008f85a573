// Tags of checked readers and writers: the type and range of each value travel before it, and a
// read that differs from the write reports both places in the code.
//
// A debugging aid: in checked mode each value costs 14 bytes and a file name, and the reader stops
// at the first value that is not read as it was written, instead of returning nonsense for all that
// follow.
#include "kwind/bits/checked.h"

#include <fmt/format.h>

#include <array>
#include <vector>

#include "kwind/core/digest.h"

namespace kwind::bits {
namespace {

// A tag: mark (8 bits), kind (8), width (32), range (32), line (24), length of the file name (8),
// its bytes. The mark distinguishes checked bits from others.
constexpr std::uint64_t kMark = 0xc5;
constexpr std::size_t kMaxNameBytes = 60;

// The file's name without its folders: enough to find the place.
std::string_view short_name(std::string_view file) {
  const std::size_t slash = file.rfind('/');
  if (slash != std::string_view::npos) file.remove_prefix(slash + 1);
  return file.substr(0, kMaxNameBytes);
}

// A number that stands for a range: equal ranges have equal numbers.
std::uint32_t digest_of(std::initializer_list<std::uint64_t> numbers) {
  // Four numbers at most; the rest of the array stays zero.
  std::array<std::byte, 32> data{};
  Writer writer(data);
  for (const std::uint64_t number : numbers) writer.put(number, 64);
  writer.finish();
  const Digest128 digest = blake2b_128(data);
  // Never 0, which stands for "no range".
  return static_cast<std::uint32_t>(Reader(digest).get(32)) | 1U;
}

}  // namespace

// The written value's type, in words for an error message.
std::string ValueTag::text() const {
  switch (kind) {
    case Kind::bits: return fmt::format("{} bits", width);
    case Kind::boolean: return "a boolean";
    case Kind::count: return fmt::format("a count of order {}", width);
    case Kind::integer: return fmt::format("an int in a range of {} bits", width);
    case Kind::real: return fmt::format("a real in a range of {} bits", width);
    case Kind::angle: return fmt::format("an angle in {} bits", width);
    case Kind::bytes: return fmt::format("a run of {} bits", width);
  }
  return "something unknown";
}

ValueTag tag_of(const IntRange& range) {
  return {ValueTag::Kind::integer, range.bits(),
          digest_of({static_cast<std::uint64_t>(range.lo), static_cast<std::uint64_t>(range.hi)})};
}
ValueTag tag_of(const RealRange& range) {
  return {ValueTag::Kind::real, range.bits(),
          digest_of({static_cast<std::uint64_t>(range.lo), static_cast<std::uint64_t>(range.step),
                     static_cast<std::uint64_t>(range.scale), range.count})};
}
ValueTag tag_of(const AngleRange& range) {
  return {ValueTag::Kind::angle, range.bits(),
          digest_of({static_cast<std::uint64_t>(range.step),
                     static_cast<std::uint64_t>(range.scale), range.count})};
}

// Before each value: kind, width, range and place in the source.
void CheckedWriter::tag(const ValueTag& tag, Site site) {
  const std::string_view name = short_name(site.file);
  out_.put(kMark, 8);
  out_.put(static_cast<std::uint64_t>(tag.kind), 8);
  out_.put(tag.width, 32);
  out_.put(tag.range, 32);
  out_.put(site.line, 24);
  out_.put(name.size(), 8);
  out_.put_bits(std::as_bytes(std::span(name)), name.size() * 8);
}

void CheckedWriter::put(std::uint64_t value, unsigned bits, Site site) {
  tag({ValueTag::Kind::bits, bits, 0}, site);
  out_.put(value, bits);
}
void CheckedWriter::put_bool(bool value, Site site) {
  tag({ValueTag::Kind::boolean, 1, 0}, site);
  out_.put_bool(value);
}
void CheckedWriter::put_count(std::uint64_t value, unsigned k, Site site) {
  tag({ValueTag::Kind::count, k, 0}, site);
  out_.put_count(value, k);
}
void CheckedWriter::put_bits(std::span<const std::byte> source, std::size_t bits, Site site) {
  tag({ValueTag::Kind::bytes, static_cast<std::uint32_t>(bits), 0}, site);
  out_.put_bits(source, bits);
}

// Compares what is read with what was written; the first difference stops the reader.
bool CheckedReader::check(const ValueTag& expected, Site site) {
  if (!in_.ok()) return false;
  const auto here = [&] { return fmt::format("{}:{}", short_name(site.file), site.line); };
  // The error names both places: a person compares these two lines of code.
  const auto stop = [&](std::string text) {
    misread_ = {std::move(text), values_};
    in_.set_failed();
    return false;
  };
  if (in_.left_bits() == 0) {
    return stop(fmt::format("{} reads {} where nothing more was written", here(), expected.text()));
  }
  // The mark is read first: bits of another format are most likely to differ there.
  const bool marked = in_.get(8) == kMark;
  ValueTag found;
  const std::uint64_t kind = in_.get(8);
  found.width = static_cast<std::uint32_t>(in_.get(32));
  found.range = static_cast<std::uint32_t>(in_.get(32));
  const std::uint64_t line = in_.get(24);
  const std::uint64_t size = in_.get(8);
  std::array<char, kMaxNameBytes> name{};
  if (!marked || kind > static_cast<std::uint64_t>(ValueTag::Kind::bytes) || size > name.size() ||
      !in_.get_bits(std::as_writable_bytes(std::span(name).first(size)), size * 8)) {
    return stop(
        fmt::format("{} reads bits that no checked writer wrote; build both sides alike", here()));
  }
  found.kind = static_cast<ValueTag::Kind>(kind);
  // The name came over the network: it may hold anything.
  for (char& c : name) {
    if (c != 0 && (c < 0x20 || c == 0x7f)) c = '?';
  }
  if (found == expected) {
    ++values_;
    return true;
  }
  const bool same_words = found.text() == expected.text();
  return stop(fmt::format("{} reads {} where {}:{} wrote {}{}", here(), expected.text(),
                          std::string_view(name.data(), size), line, found.text(),
                          same_words ? " of another range" : ""));
}

std::uint64_t CheckedReader::get(unsigned bits, Site site) {
  return check({ValueTag::Kind::bits, bits, 0}, site) ? in_.get(bits) : 0;
}
bool CheckedReader::get_bool(Site site) {
  return check({ValueTag::Kind::boolean, 1, 0}, site) && in_.get_bool();
}
std::uint64_t CheckedReader::get_count(unsigned k, Site site) {
  return check({ValueTag::Kind::count, k, 0}, site) ? in_.get_count(k) : 0;
}
bool CheckedReader::get_bits(std::span<std::byte> target, std::size_t bits, Site site) {
  return check({ValueTag::Kind::bytes, static_cast<std::uint32_t>(bits), 0}, site) &&
         in_.get_bits(target, bits);
}

}  // namespace kwind::bits
