// How often values fell where, in buckets an eighth of an octave wide: what is read off is within
// 5 % of the truth. Plain values; safe anywhere.
#pragma once
#include <algorithm>
#include <array>
#include <cmath>
#include <cstddef>
#include <cstdint>
#include <vector>

namespace kwind::bots {

class Histogram {
 public:
  void add(double value) {
    ++counts_[bucket_of(value)];
    ++count_;
    max_ = std::max(max_, value);
  }
  void add(const Histogram& other) {
    for (std::size_t i = 0; i < counts_.size(); ++i) counts_[i] += other.counts_[i];
    count_ += other.count_;
    max_ = std::max(max_, other.max_);
  }
  [[nodiscard]] std::uint64_t count() const { return count_; }
  [[nodiscard]] double max() const { return max_; }
  /// The value that `share` of all do not exceed, from the middle of its bucket; 0 of none.
  [[nodiscard]] double at(double share) const {
    const auto wanted = static_cast<std::uint64_t>(std::ceil(share * static_cast<double>(count_)));
    std::uint64_t passed = 0;
    for (std::size_t i = 0; i < counts_.size(); ++i) {
      passed += counts_[i];
      if (passed > 0 && passed >= wanted) return std::min(middle_of(i), max_);
    }
    return 0;
  }
  /// All of them in at most `most` rows, each an equal factor wide: what they are below, and how
  /// many.
  struct Row {
    double below = 0;
    std::uint64_t count = 0;
  };
  [[nodiscard]] std::vector<Row> rows(std::size_t max) const {
    std::vector<Row> made;
    if (count_ == 0) return made;
    const auto used = [](std::uint64_t count) { return count > 0; };
    const auto first = std::find_if(counts_.begin(), counts_.end(), used) - counts_.begin();
    const std::size_t last = bucket_of(max_);
    const std::size_t buckets = last - static_cast<std::size_t>(first) + 1;
    const std::size_t width = (buckets + max - 1) / max;
    for (std::size_t i = static_cast<std::size_t>(first); i <= last; i += width) {
      Row row{end_of(std::min(i + width, counts_.size()) - 1), 0};
      for (std::size_t b = i; b < std::min(i + width, counts_.size()); ++b) row.count += counts_[b];
      made.push_back(row);
    }
    return made;
  }

 private:
  static constexpr double kFirst = 1.0 / 64;  // all below it are one
  static constexpr int kToOctave = 8;
  static constexpr std::size_t kBuckets = std::size_t{32} * kToOctave;
  static std::size_t bucket_of(double value) {
    if (!(value >= kFirst)) return 0;
    const double place = std::floor(std::log2(value / kFirst) * kToOctave) + 1;
    return static_cast<std::size_t>(std::min<double>(place, kBuckets - 1));
  }
  static double middle_of(std::size_t bucket) {
    return bucket == 0 ? 0 : end_of(bucket) * std::exp2(-0.5 / kToOctave);
  }
  static double end_of(std::size_t bucket) {
    return kFirst * std::exp2(static_cast<double>(bucket) / kToOctave);
  }
  std::array<std::uint64_t, kBuckets> counts_{};
  std::uint64_t count_ = 0;
  double max_ = 0;
};

}  // namespace kwind::bots
