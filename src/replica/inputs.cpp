#include "kwind/replica/inputs.h"

#include <algorithm>

#include "kwind/replica/viewer.h"

namespace kwind::replica {
namespace {

constexpr unsigned kNumberBits = 8;  // once the server has used one
constexpr unsigned kBackOrder = 2;
constexpr unsigned kCountOrder = 0;
constexpr unsigned kSizeOrder = 3;
constexpr std::uint64_t kMostInFrame = 8;

// The number with these low bits that is nearest to `near`.
std::uint32_t unwrapped(std::uint32_t low, unsigned bits, std::uint32_t near) {
  const std::uint32_t size = std::uint32_t{1} << bits;
  const std::uint32_t ahead = (low - near) & (size - 1);
  return ahead < size / 2 ? near + ahead : near + ahead - size;
}

}  // namespace

InputSender::InputSender(Mirror& mirror, std::size_t redundancy)
    : mirror_(mirror), redundancy_(redundancy), kept_(kKept) {
  KWIND_ASSERT(redundancy >= 1 && redundancy <= kMostInFrame);
}

PackedInput& InputSender::next() {
  PackedInput& packed = kept_[++newest_ % kKept];
  packed = {newest_, 0, {}};
  return packed;
}

std::uint32_t InputSender::used() const {
  const auto low = mirror_.input_used();
  if (!low || newest_ == 0) return 0;
  const std::uint32_t number = unwrapped(*low, 16, newest_);
  return number <= newest_ ? number : 0;
}

std::optional<std::uint64_t> InputSender::fill(Time, bits::Writer& out) {
  constexpr std::size_t kHead = 64;
  if (out.room_bits() < kHead) return std::nullopt;
  bits::Writer report = out;
  report.put_bool(true);
  if (mirror_.report(report) > 0) {
    out = report;
    return ++frames_;
  }
  if (newest_ == sent_) return std::nullopt;
  // Built on the newest that the server has surely got.
  const std::uint32_t base = used();
  const bool has_base = base > 0 && newest_ - base < kKept - kMostInFrame && base < newest_;
  const std::uint32_t count = std::min<std::uint32_t>(static_cast<std::uint32_t>(redundancy_),
                                                      has_base ? newest_ - base : newest_);
  bits::Writer frame = out;
  frame.put_bool(false);
  frame.put_bool(has_base);
  frame.put(newest_, has_base ? kNumberBits : 32);
  if (has_base) frame.put_count(newest_ - base - 1, kBackOrder);
  frame.put_bool(count == redundancy_ && count == 3);
  if (!(count == redundancy_ && count == 3)) frame.put_count(count - 1, kCountOrder);
  const PackedInput* before = has_base ? &at(base) : nullptr;
  for (std::uint32_t number = newest_ - count + 1; number <= newest_; ++number) {
    const PackedInput& input = at(number);
    const bool same = before != nullptr && input.same_as(*before);
    if (before != nullptr) frame.put_bool(same);
    if (!same) {
      const bool as_long = before != nullptr && before->bits == input.bits;
      if (before != nullptr) frame.put_bool(as_long);
      if (!as_long) frame.put_count(input.bits, kSizeOrder);
      frame.put_bits(input.bytes, input.bits);
    }
    before = &input;
  }
  if (!frame.ok()) return std::nullopt;
  bits_ += frame.bit_count() - out.bit_count();
  out = frame;
  sent_ = newest_;
  return ++frames_;
}

Errc InputReceiver::receive(std::span<const std::byte> payload, std::size_t bits, Viewer* viewer) {
  fresh_.clear();
  bits::Reader in(payload, bits);
  if (in.get_bool()) {
    // What follows starts within a byte: shift it to the front.
    std::vector<std::byte> rest(bits::bytes_for(in.left_bits()));
    const std::size_t left = in.left_bits();
    if (!in.get_bits(rest, left)) return Errc::truncated;
    return viewer != nullptr ? viewer->hear_report(rest, left) : Errc::unexpected;
  }
  const bool has_base = in.get_bool();
  const auto low = static_cast<std::uint32_t>(in.get(has_base ? kNumberBits : 32));
  if (!in.ok()) return Errc::truncated;
  const std::uint32_t newest = has_base ? unwrapped(low, kNumberBits, newest_) : low;
  const PackedInput* before = nullptr;
  PackedInput copy;
  if (has_base) {
    const std::uint64_t back = in.get_count(kBackOrder) + 1;
    if (!in.ok()) return Errc::truncated;
    if (back >= InputSender::kKept || back >= newest) return Errc::value_range;
    copy = kept_[(newest - back) % InputSender::kKept];
    if (copy.number != newest - back) return Errc::unexpected;  // long forgotten
    before = &copy;
  }
  const std::uint64_t count = in.get_bool() ? 3 : in.get_count(kCountOrder) + 1;
  if (!in.ok()) return Errc::truncated;
  if (count > kMostInFrame || count > newest) return Errc::value_range;
  std::vector<PackedInput> found(count);
  for (std::size_t i = 0; i < count; ++i) {
    PackedInput& input = found[i];
    if (before != nullptr && in.get_bool()) {
      input = *before;
    } else {
      const bool as_long = before != nullptr && in.get_bool();
      const std::uint64_t size = as_long ? before->bits : in.get_count(kSizeOrder);
      if (!in.ok()) return Errc::truncated;
      if (size > PackedInput::kMostBits) return Errc::value_range;
      input.bits = size;
      if (!in.get_bits(input.bytes, size)) return Errc::truncated;
    }
    input.number = newest - static_cast<std::uint32_t>(count - 1 - i);
    before = &input;
  }
  if (!in.ok()) return Errc::truncated;
  if (in.left_bits() > 0) return Errc::trailing_bits;
  for (const PackedInput& input : found) {
    if (input.number <= newest_) continue;
    kept_[input.number % InputSender::kKept] = input;
    fresh_.push_back(input);
  }
  newest_ = std::max(newest_, newest);
  return Errc::none;
}

}  // namespace kwind::replica
