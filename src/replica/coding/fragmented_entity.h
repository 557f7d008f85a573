// Fragmentation of an entity that is larger than a datagram. Pure.
#pragma once
#include <algorithm>
#include <cstddef>
#include <cstdint>
#include <span>
#include <utility>
#include <vector>

#include "kwind/bits/reader.h"
#include "kwind/bits/writer.h"
#include "replica/coding/strong_numbers.h"

namespace kwind::replica {

inline constexpr std::size_t kFragmentBytes = 16;
inline constexpr std::size_t kFragmentBits = kFragmentBytes * 8;
inline constexpr unsigned kFragmentedNumberBits = 8;  ///< of its number
inline constexpr unsigned kFragmentOrder =
    4;  ///< place of a fragment, fragments of a fragmented entity
inline constexpr unsigned kFragmentsOrder = 2;  ///< fragments in a snapshot
inline constexpr unsigned kRestBits = 7;  ///< bits behind the last fragment: fewer than one has
inline constexpr unsigned kFragmentedLagOrder = 4;  ///< ticks since it was packed

/// Chunks of a fragmented entity that a snapshot carries.
struct FragmentRun {
  std::uint8_t number = 0;  ///< of the fragmented entity
  std::uint32_t first = 0;
  std::uint32_t count = 0;
};

/// The server's end. All but the bits behind the last whole fragment goes ahead; these follow when
/// the rest is known to be there, and make it appear.
class FragmentedEntity {
 public:
  EntityId id;  ///< of the entity; 0: there is no fragmented entity
  std::uint8_t number = 0;
  std::uint8_t generation = 0;
  bool owner = false;
  Tick packed_at;
  Tick tick;                  ///< of its values
  std::uint32_t values = 0;   ///< their digest, see state_digest.h
  SnapshotNumber completing;  ///< snapshot in flight with the last bits

  /// Another one, with the next number, of `bits` that begin `bytes`.
  void pack(std::span<const std::byte> bytes, std::size_t bits) {
    ++number;
    completing = {};
    bytes_.assign(bytes.begin(),
                  bytes.begin() + static_cast<std::ptrdiff_t>(bits::bytes_for(bits)));
    bits_ = bits;
    chunks_.assign(bits / kFragmentBits, Fragment::waits);
  }
  void clear() {
    id = {};
    completing = {};
    bits_ = 0;
    bytes_.clear();
    chunks_.clear();
  }
  [[nodiscard]] bool is_of(EntityId entity, std::uint8_t user, bool owned) const {
    return id && id == entity && generation == user && owner == owned;
  }
  [[nodiscard]] std::size_t fragments() const { return chunks_.size(); }
  [[nodiscard]] bool all_there() const {
    return std::all_of(chunks_.begin(), chunks_.end(),
                       [](Fragment each) { return each == Fragment::there; });
  }
  /// The first run of fragments that wait, at most `most` of them; none: a count of 0.
  [[nodiscard]] FragmentRun waiting(std::size_t max) const {
    const auto first = std::find(chunks_.begin(), chunks_.end(), Fragment::waits);
    const auto end =
        std::find_if(first, chunks_.end(), [](Fragment each) { return each != Fragment::waits; });
    const auto count = std::min(max, static_cast<std::size_t>(end - first));
    return {number, static_cast<std::uint32_t>(first - chunks_.begin()),
            static_cast<std::uint32_t>(count)};
  }
  void send(const FragmentRun& run) { set(run, Fragment::waits, Fragment::under_way); }
  void lose(const FragmentRun& run) { set(run, Fragment::under_way, Fragment::waits); }
  void arrive(const FragmentRun& run) {
    set(run, Fragment::under_way, Fragment::there);
    set(run, Fragment::waits, Fragment::there);
  }
  void write(bits::Writer& out, const FragmentRun& run) const {
    out.put_bits(std::span(bytes_).subspan(run.first * kFragmentBytes, run.count * kFragmentBytes),
                 run.count * kFragmentBits);
  }
  [[nodiscard]] std::size_t rest_bits() const { return bits_ % kFragmentBits; }
  void write_rest(bits::Writer& out) const {
    out.put_bits(std::span(bytes_).subspan(chunks_.size() * kFragmentBytes), rest_bits());
  }
  [[nodiscard]] std::size_t memory() const { return bytes_.capacity() + chunks_.capacity(); }

 private:
  enum class Fragment : std::uint8_t { waits, under_way, there };
  void set(const FragmentRun& run, Fragment from, Fragment to) {
    if (!id || run.number != number) return;
    for (std::size_t i = run.first; i < std::size_t{run.first} + run.count; ++i) {
      if (chunks_[i] == from) chunks_[i] = to;
    }
  }
  std::size_t bits_ = 0;
  std::vector<std::byte> bytes_;
  std::vector<Fragment> chunks_;
};

/// The client's end: what has come of the newest fragmented entity.
class FragmentAssembly {
 public:
  /// Chunks that `snapshot` brought; those of an older fragmented entity are of no use.
  void take(SnapshotNumber snapshot, const FragmentRun& run, std::span<const std::byte> bytes) {
    if (!any_ || run.number != number_) {
      if (any_ && snapshot < snapshot_) return;
      any_ = true;
      number_ = run.number;
      there_.clear();
      bytes_.clear();
    }
    snapshot_ = std::max(snapshot_, snapshot);
    const std::size_t end = std::size_t{run.first} + run.count;
    if (there_.size() < end) {
      there_.resize(end);
      bytes_.resize(end * kFragmentBytes);
    }
    for (std::size_t i = 0; i < run.count; ++i) there_[run.first + i] = true;
    std::copy(bytes.begin(),
              bytes.begin() + static_cast<std::ptrdiff_t>(run.count * kFragmentBytes),
              bytes_.begin() + static_cast<std::ptrdiff_t>(run.first * kFragmentBytes));
  }
  /// Whether a fragment may come as far along as this: fragments go in order, and no more are in
  /// flight than a window of snapshots holds. So memory grows with what came, not with what is
  /// claimed.
  [[nodiscard]] bool reaches(std::uint8_t number, std::uint64_t place) const {
    return place <= kFarthestAhead + (any_ && number == number_ ? there_.size() : 0);
  }
  /// The first `fragments` of a fragmented entity; empty if not all are here.
  [[nodiscard]] std::span<const std::byte> first(std::uint8_t number, std::size_t fragments) const {
    if (!any_ || number != number_ || there_.size() < fragments) return {};
    const auto end = there_.begin() + static_cast<std::ptrdiff_t>(fragments);
    if (std::find(there_.begin(), end, false) != end) return {};
    return std::span(bytes_).first(fragments * kFragmentBytes);
  }
  void clear() {
    any_ = false;
    snapshot_ = {};
    there_.clear();
    bytes_.clear();
  }

 private:
  static constexpr std::size_t kFarthestAhead =
      std::size_t{64} * 2048 / kFragmentBytes;  // snapshots * their bytes
  bool any_ = false;
  std::uint8_t number_ = 0;
  SnapshotNumber snapshot_;  // the newest that brought something of it
  std::vector<bool> there_;
  std::vector<std::byte> bytes_;
};

}  // namespace kwind::replica
