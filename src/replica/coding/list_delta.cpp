// Edits of lists: runs of items that are kept, replaced, inserted or removed.
//
// The edits are the shortest ones between the two lists (edit distance by dynamic programming).
// Long lists, and lists of equal length of which a few items differ, are compared place by place.
// Edits are written as runs: so many items kept, then so many replaced, inserted or removed, with
// the new items behind each run.
//
// A reader checks every count against what is left of both lists and of the bits before it copies:
// an edit cannot make a list that its type does not permit.
//
// Costs: comparing is O(n) for lists that changed in one place and O(n * m), n and m at most 64,
// for others. Law: read_list_change(list_change(a, b), a) == b; a random walk tests it.
#include "replica/coding/list_delta.h"

#include <algorithm>
#include <vector>

namespace kwind::replica {
namespace {

constexpr unsigned kEditCountOrder = 0;
constexpr unsigned kKeptOrder = 2;
constexpr unsigned kRunOrder = 0;
constexpr unsigned kCommonOrder = 5;
// More items than these are not searched for the longest common part.
constexpr std::size_t kMaxSearched = 64;

enum Kind : std::uint8_t { replaced, inserted, removed };

// Behind `kept` items: so many of one kind.
struct Edit {
  std::size_t kept = 0;
  Kind kind = replaced;
  std::size_t count = 0;
  std::size_t first = 0;  // of the items in the new list
};

unsigned length_bits(const schema::ColumnInfo& column) {
  return bits::bits_for(std::uint64_t{column.max_items} + 1);
}

// A view: items are compared and copied as bits, whatever their type is. An item's bits do not
// depend on its place, so that equal bits are equal items.
// The items of a list as bits in order.
class Items {
 public:
  Items(const schema::ColumnInfo& column, const BitString& value)
      : bits_(&value), offset_(length_bits(column)), item_bits_(column.item_bits) {
    bits::Reader in(value.bytes, value.bits);
    size_ = static_cast<std::size_t>(in.get(offset_));
    ok_ = in.ok() && value.bits == offset_ + size_ * item_bits_ && size_ <= column.max_items;
  }
  [[nodiscard]] bool ok() const { return ok_; }
  [[nodiscard]] std::size_t size() const { return size_; }
  // Items have any number of bits; they are read 64 bits at a time.
  void copy(std::size_t item, bits::Writer& out) const {
    bits::Reader in = at(item);
    // 64 bits at a time.
    for (std::size_t left = item_bits_; left > 0;) {
      const auto part = static_cast<unsigned>(std::min<std::size_t>(left, 64));
      out.put(in.get(part), part);
      left -= part;
    }
  }
  [[nodiscard]] bool same(std::size_t item, const Items& other, std::size_t theirs) const {
    bits::Reader a = at(item);
    bits::Reader b = other.at(theirs);
    // Stops at the first difference.
    for (std::size_t left = item_bits_; left > 0;) {
      const auto part = static_cast<unsigned>(std::min<std::size_t>(left, 64));
      if (a.get(part) != b.get(part)) return false;
      left -= part;
    }
    return true;
  }

 private:
  [[nodiscard]] bits::Reader at(std::size_t item) const {
    bits::Reader in(bits_->bytes, bits_->bits);
    in.skip(offset_ + item * item_bits_);
    return in;
  }
  const BitString* bits_;
  unsigned offset_;
  std::size_t item_bits_;
  std::size_t size_ = 0;
  bool ok_ = false;
};

// Runs of one kind that follow each other become one edit.
class Edits {
 public:
  void keep(std::size_t count = 1) { kept_ += count; }
  // Invariant: edits alternate with at least one kept item, or differ in kind.
  // Without kept items between them two edits of the same kind are one.
  void add(Kind kind, std::size_t first) {
    if (kept_ == 0 && !all_.empty() && all_.back().kind == kind) {
      ++all_.back().count;
      return;
    }
    all_.push_back({kept_, kind, 1, first});
    kept_ = 0;
  }
  [[nodiscard]] const std::vector<Edit>& all() const { return all_; }

 private:
  std::vector<Edit> all_;
  std::size_t kept_ = 0;
};

// Where two lists differ: `old_count` items of the one and `new_count` of the other behind `head`
// that both begin with.
struct Middle {
  const Items& before;
  const Items& now;
  std::size_t head = 0;
  std::size_t old_count = 0;
  std::size_t new_count = 0;
  [[nodiscard]] bool same(std::size_t i, std::size_t j) const {
    return before.same(head + i, now, head + j);
  }
};

// Item by item: those at one place replace each other, the rest is inserted or removed.
void add_by_place(const Middle& middle, Edits& edits) {
  const std::size_t both = std::min(middle.old_count, middle.new_count);
  for (std::size_t i = 0; i < both; ++i) {
    if (middle.same(i, i)) {
      edits.keep();
    } else {
      edits.add(replaced, middle.head + i);
    }
  }
  for (std::size_t i = both; i < middle.new_count; ++i) edits.add(inserted, middle.head + i);
  for (std::size_t i = both; i < middle.old_count; ++i) edits.add(removed, 0);
}

// The edit distance (Wagner and Fischer 1974) by dynamic programming from the ends to the
// beginnings: a replaced, inserted or removed item costs 1. O(old_count * new_count).
void add_shortest(const Middle& middle, Edits& edits) {
  // Fewest edits from (i, j) on.
  const std::size_t old_count = middle.old_count;
  const std::size_t new_count = middle.new_count;
  const std::size_t width = new_count + 1;
  std::vector<std::uint16_t> cost((old_count + 1) * width);
  const auto at = [&](std::size_t i, std::size_t j) -> std::uint16_t& {
    return cost[i * width + j];
  };
  // cost(i, j) depends on cells to the right and below: rows from the last to the first.
  for (std::size_t i = old_count + 1; i-- > 0;) {
    for (std::size_t j = new_count + 1; j-- > 0;) {
      if (i == old_count || j == new_count) {
        at(i, j) = static_cast<std::uint16_t>(old_count - i + new_count - j);
      } else if (middle.same(i, j)) {
        at(i, j) = at(i + 1, j + 1);
      } else {
        const auto any = std::min({at(i + 1, j + 1), at(i + 1, j), at(i, j + 1)});
        at(i, j) = static_cast<std::uint16_t>(any + 1);
      }
    }
  }
  // Along the cheapest way from the beginnings to the ends.
  // Follows the table: each pass consumes an item of one list or of both.
  for (std::size_t i = 0, j = 0; i < old_count || j < new_count;) {
    if (i < old_count && j < new_count && middle.same(i, j)) {
      edits.keep();
      ++i;
      ++j;
    } else if (i < old_count && j < new_count && at(i, j) == at(i + 1, j + 1) + 1) {
      edits.add(replaced, middle.head + j);
      ++i;
      ++j;
    } else if (j < new_count && (i == old_count || at(i, j) == at(i, j + 1) + 1)) {
      edits.add(inserted, middle.head + j++);
    } else {
      edits.add(removed, 0);
      ++i;
    }
  }
}

// What makes `now` of `before`.
std::vector<Edit> edits_of(const Items& before, const Items& now) {
  // Most lists change in one place: the common beginning and the common end are found first.
  std::size_t head = 0;
  const std::size_t shorter = std::min(before.size(), now.size());
  while (head < shorter && before.same(head, now, head)) ++head;
  std::size_t tail = 0;
  while (tail < shorter - head &&
         before.same(before.size() - 1 - tail, now, now.size() - 1 - tail)) {
    ++tail;
  }
  const Middle middle{before, now, head, before.size() - head - tail, now.size() - head - tail};
  Edits edits;
  edits.keep(head);
  // Where a few items of as many differ, these were replaced. Long lists are not searched.
  constexpr std::size_t kFew = 4;
  const bool as_many = middle.old_count == middle.new_count;
  std::size_t apart = 0;
  // Counts no further than needed.
  for (std::size_t i = 0; i < middle.old_count && as_many && apart <= kFew; ++i) {
    apart += middle.same(i, i) ? 0 : 1;
  }
  if ((!as_many || apart > kFew) && middle.old_count <= kMaxSearched &&
      middle.new_count <= kMaxSearched) {
    add_shortest(middle, edits);
  } else {
    add_by_place(middle, edits);
  }
  return edits.all();
}

// 0: replaced; 1, 0: inserted; 1, 1: removed.
void write_kind(bits::Writer& out, Kind kind) {
  out.put_bool(kind != replaced);
  if (kind != replaced) out.put_bool(kind == removed);
}
Kind read_kind(bits::Reader& in) {
  if (!in.get_bool()) return replaced;
  return in.get_bool() ? removed : inserted;
}

// Nothing where a change would take as many bits as the whole value.
BitString finished(std::vector<std::byte> bytes, bits::Writer& out, std::size_t max) {
  if (!out.ok() || out.bit_count() >= max) return {};
  const std::size_t bits = out.bit_count();
  out.finish();
  bytes.resize(bits::bytes_for(bits));
  return {std::move(bytes), bits};
}

void copy_bits(bits::Reader& in, bits::Writer& out, std::size_t count) {
  while (count > 0) {
    const auto part = static_cast<unsigned>(std::min<std::size_t>(count, 64));
    out.put(in.get(part), part);
    count -= part;
  }
}

bool bit_at(const BitString& value, std::size_t bit) {
  return (std::to_integer<unsigned>(value.bytes[bit / 8]) >> bit % 8 & 1U) != 0;
}

// Of values that are no lists: how many bits stay at the beginning and at the end, and those
// between.
BitString common_change(const BitString& before, const BitString& now, std::size_t max) {
  const std::size_t shorter = std::min(before.bits, now.bits);
  std::size_t head = 0;
  while (head < shorter && bit_at(before, head) == bit_at(now, head)) ++head;
  std::size_t tail = 0;
  while (tail < shorter - head &&
         bit_at(before, before.bits - 1 - tail) == bit_at(now, now.bits - 1 - tail)) {
    ++tail;
  }
  std::vector<std::byte> bytes(bits::bytes_for(max));
  bits::Writer out(bytes);
  out.put_count(head, kCommonOrder);
  out.put_count(tail, kCommonOrder);
  out.put_count(now.bits - head - tail, kCommonOrder);
  bits::Reader in(now.bytes, now.bits);
  in.skip(head);
  copy_bits(in, out, now.bits - head - tail);
  return finished(std::move(bytes), out, max);
}

SharedBits read_common_change(bits::Reader& in, const schema::ColumnInfo& column,
                              const BitString& before) {
  const std::uint64_t head = in.get_count(kCommonOrder);
  const std::uint64_t tail = in.get_count(kCommonOrder);
  const std::uint64_t middle = in.get_count(kCommonOrder);
  if (!in.ok() || head > before.bits || tail > before.bits - head || middle > in.left_bits() ||
      head + tail + middle > column.last) {
    return nullptr;
  }
  BitString made;
  made.bits = static_cast<std::size_t>(head + middle + tail);
  made.bytes.resize(bits::bytes_for(made.bits));
  bits::Writer out(made.bytes);
  bits::Reader old(before.bytes, before.bits);
  copy_bits(old, out, static_cast<std::size_t>(head));
  copy_bits(in, out, static_cast<std::size_t>(middle));
  old.skip(before.bits - static_cast<std::size_t>(tail + head));
  copy_bits(old, out, static_cast<std::size_t>(tail));
  out.finish();
  return std::make_shared<const BitString>(std::move(made));
}

}  // namespace

BitString list_change(const schema::ColumnInfo& column, const BitString& before,
                      const BitString& now, std::size_t max) {
  if (column.max_items == 0) return common_change(before, now, max);
  const Items old(column, before);
  const Items items(column, now);
  if (!old.ok() || !items.ok()) return {};
  const std::vector<Edit> edits = edits_of(old, items);
  if (edits.empty()) return {};
  std::vector<std::byte> bytes(bits::bytes_for(max));
  bits::Writer out(bytes);
  out.put_count(edits.size() - 1, kEditCountOrder);
  // Items of a removed run are not written.
  for (const Edit& edit : edits) {
    out.put_count(edit.kept, kKeptOrder);
    write_kind(out, edit.kind);
    out.put_count(edit.count - 1, kRunOrder);
    for (std::size_t i = 0; i < edit.count && edit.kind != removed; ++i) {
      items.copy(edit.first + i, out);
    }
  }
  return finished(std::move(bytes), out, max);
}

// Each count is held against what is left of the old list, of the new one and of the bits, before
// anything is copied: a change cannot make a list longer than its type permits.
SharedBits read_list_change(bits::Reader& in, const schema::ColumnInfo& column,
                            const BitString& before) {
  if (column.max_items == 0) return read_common_change(in, column, before);
  const Items old(column, before);
  const std::uint64_t edits = in.get_count(kEditCountOrder) + 1;
  if (!old.ok() || !in.ok() || edits > std::uint64_t{2} * column.max_items) return nullptr;
  // Memory for what may come of it: old items, and those that stand in the change.
  BitString made;
  const std::size_t most_bits =
      length_bits(column) + std::size_t{column.max_items} * column.item_bits;
  made.bytes.resize(bits::bytes_for(std::min(most_bits, before.bits + in.left_bits())));
  bits::Writer out(made.bytes);
  out.put(0, length_bits(column));  // until they are counted
  std::size_t next = 0;             // of the old items
  std::size_t count = 0;
  const auto keep = [&](std::uint64_t items) {
    if (items > old.size() - next || items > column.max_items - count) return false;
    for (std::uint64_t i = 0; i < items; ++i) old.copy(next++, out);
    count += static_cast<std::size_t>(items);
    return true;
  };
  for (std::uint64_t i = 0; i < edits; ++i) {
    if (!keep(in.get_count(kKeptOrder))) return nullptr;
    const Kind kind = read_kind(in);
    const std::uint64_t run = in.get_count(kRunOrder) + 1;
    if (!in.ok()) return nullptr;
    if (kind != inserted) {
      if (run > old.size() - next) return nullptr;
      next += static_cast<std::size_t>(run);
    }
    if (kind == removed) continue;
    if (run > column.max_items - count || run * column.item_bits > in.left_bits()) return nullptr;
    copy_bits(in, out, static_cast<std::size_t>(run) * column.item_bits);
    count += static_cast<std::size_t>(run);
  }
  if (!keep(old.size() - next)) return nullptr;
  made.bits = out.bit_count();
  out.finish();
  made.bytes.resize(bits::bytes_for(made.bits));
  // The length stands before the items.
  const unsigned width = length_bits(column);
  // Bit by bit: the length may end in the middle of a byte.
  for (unsigned bit = 0; bit < width; ++bit) {
    std::byte& byte = made.bytes[bit / 8];
    const auto mask = static_cast<std::byte>(1U << bit % 8);
    byte = (count >> bit & 1U) != 0 ? byte | mask : byte & ~mask;
  }
  return std::make_shared<const BitString>(std::move(made));
}

}  // namespace kwind::replica
