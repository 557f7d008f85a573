// What frames told a client of one entity, kept as long as others may build on it. One entity, one
// thread.
#pragma once
#include <algorithm>
#include <cstdint>
#include <vector>

#include "kwind/bits/prefetch.h"
#include "rows.h"
#include "sent_frames.h"

namespace kwind::replica {

struct Record {
  std::uint32_t frame = 0;
  std::uint32_t at = 0;    ///< tick of the frame
  std::uint32_t tick = 0;  ///< of the values
  Told told = Told::whole;
  std::uint8_t generation = 0;
  std::uint16_t kind = 0;
  bool owner = false;
  std::uint16_t slot = 0;  ///< of its values, see Records
};

/// Columns of the widest kind of a protocol.
struct Widths {
  std::size_t numbers = 0;
  std::size_t varying = 0;
};

/// By frame. The values of one entity lie together, in places that are used again: what the next
/// frame builds on is near, and nothing is allocated for it once there are enough places.
class Records {
 public:
  [[nodiscard]] bool empty() const { return records_.empty(); }
  /// The next one takes more memory.
  [[nodiscard]] bool full() const { return free_.empty(); }
  [[nodiscard]] auto begin() const { return records_.begin(); }
  [[nodiscard]] auto end() const { return records_.end(); }
  [[nodiscard]] auto rbegin() const { return records_.rbegin(); }
  [[nodiscard]] auto rend() const { return records_.rend(); }
  [[nodiscard]] Row row(const Record& record, const Widths& widths) const {
    return {std::span(numbers_).subspan(record.slot * widths.numbers, widths.numbers),
            std::span(varying_).subspan(record.slot * widths.varying, widths.varying)};
  }
  void insert(const Record& record, const Row& row, const Widths& widths) {
    if (free_.empty()) grow(widths);
    const std::uint16_t slot = free_.back();
    free_.pop_back();
    std::copy(row.numbers.begin(), row.numbers.end(),
              numbers_.begin() + offset(slot * widths.numbers));
    std::copy(row.varying.begin(), row.varying.end(),
              varying_.begin() + offset(slot * widths.varying));
    auto place = records_.end();
    while (place != records_.begin() && (place - 1)->frame > record.frame) --place;
    records_.insert(place, record)->slot = slot;
  }
  void erase(std::uint32_t frame) {
    const auto place = find(frame);
    if (place != records_.end()) drop(place, place + 1);
  }
  /// Lets go of those before the newest up to `frame`. Not each time: what stays has to be moved.
  /// That older ones are still here harms nobody.
  void trim(std::uint32_t frame) {
    const std::size_t half = records_.size() / 2;
    if (records_.size() < 2 || records_[half].frame > frame) return;
    auto keep = records_.begin() + offset(half);
    while (keep + 1 != records_.end() && (keep + 1)->frame <= frame) ++keep;
    drop(records_.begin(), keep);
  }
  /// Lets go of all up to the one of `frame`.
  void forget_through(std::uint32_t frame) {
    const auto place = find(frame);
    if (place != records_.end()) drop(records_.begin(), place + 1);
  }
  /// What the next frame will be built on, for who comes to it soon.
  void ask_for() const {
    const std::size_t newest = std::min<std::size_t>(records_.size(), kKnownStates);
    bits::ask_for(records_.data() + records_.size() - newest, newest * sizeof(Record));
  }
  void ask_for_values(const Widths& widths) const {
    for (std::size_t i = 0; i < std::min<std::size_t>(records_.size(), kKnownStates); ++i) {
      const std::size_t slot = records_[records_.size() - 1 - i].slot;
      bits::ask_for(numbers_.data() + slot * widths.numbers, 1);
    }
  }
  /// What insert() will write to.
  void ask_for_room() const {
    if (!free_.empty()) bits::ask_for(&free_.back(), 1);
    bits::ask_for(records_.data() + records_.size(), sizeof(Record));
  }
  void ask_for_room_of_values(const Widths& widths) const {
    if (!free_.empty()) bits::ask_for(numbers_.data() + free_.back() * widths.numbers, 1);
  }
  /// For Mirror::spoil().
  void flip(std::size_t column, std::uint32_t bits, const Widths& widths) {
    for (const Record& record : records_) numbers_[record.slot * widths.numbers + column] ^= bits;
  }

 private:
  using Place = std::vector<Record>::iterator;
  static std::ptrdiff_t offset(std::size_t at) { return static_cast<std::ptrdiff_t>(at); }
  [[nodiscard]] Place find(std::uint32_t frame) {
    const auto place = std::lower_bound(
        records_.begin(), records_.end(), frame,
        [](const Record& each, std::uint32_t wanted) { return each.frame < wanted; });
    return place != records_.end() && place->frame == frame ? place : records_.end();
  }
  void drop(Place from, Place to) {
    const std::size_t width = varying_.size() / slots_;
    for (auto each = from; each != to; ++each) {
      free_.push_back(each->slot);
      // Texts and lists may be large: they do not wait for the next use of the place.
      for (std::size_t i = 0; i < width; ++i) varying_[each->slot * width + i] = nullptr;
    }
    records_.erase(from, to);
  }
  void grow(const Widths& widths) {
    const std::size_t more = std::max<std::size_t>(2, slots_);
    for (std::size_t i = slots_ + more; i-- > slots_;) {
      free_.push_back(static_cast<std::uint16_t>(i));
    }
    slots_ += more;
    free_.reserve(slots_);
    numbers_.resize(slots_ * widths.numbers);
    varying_.resize(slots_ * widths.varying);
  }

  std::vector<Record> records_;
  std::size_t slots_ = 0;
  std::vector<std::uint16_t> free_;
  std::vector<std::uint32_t> numbers_;
  std::vector<SharedBits> varying_;
};

}  // namespace kwind::replica
