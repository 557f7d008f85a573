// Bits as text: counts, Huffman words, and edits of lists and texts.
#pragma once
#include <algorithm>
#include <cstdint>
#include <string>
#include <utility>
#include <vector>

#include "kwind/schema/entity_info.h"

namespace kwind::kit {

/// The words of a Huffman code of these weights, none longer than 24 bits.
inline std::vector<std::string> huffman(const std::vector<std::uint32_t>& symbol_counts) {
  struct Node {
    std::uint64_t priority;
    std::vector<std::size_t> symbols;
    bool joined = false;
  };
  std::vector<std::uint64_t> weights;
  for (const std::uint32_t priority : symbol_counts) weights.push_back(std::max(priority, 1U));
  std::vector<unsigned> lengths;
  for (bool fits = false; !fits;) {
    std::vector<Node> nodes;
    for (std::size_t s = 0; s < weights.size(); ++s) nodes.push_back({weights[s], {s}});
    lengths.assign(weights.size(), 0);
    for (std::size_t left = nodes.size(); left > 1; --left) {
      Node made{0, {}};
      for (int i = 0; i < 2; ++i) {
        Node* min = nullptr;
        for (Node& node : nodes) {  // in the order in which they were made
          if (!node.joined && (min == nullptr || node.priority < min->priority)) min = &node;
        }
        min->joined = true;
        made.priority += min->priority;
        made.symbols.insert(made.symbols.end(), min->symbols.begin(), min->symbols.end());
      }
      for (const std::size_t s : made.symbols) ++lengths[s];
      nodes.push_back(made);
    }
    fits = *std::max_element(lengths.begin(), lengths.end()) <= 24;
    if (!fits) {
      for (std::uint64_t& priority : weights) priority = (priority + 1) / 2;
    }
  }
  std::vector<std::string> words(weights.size());
  std::uint64_t next = 0;
  unsigned length = 0;
  for (unsigned wanted = 0; wanted <= 24; ++wanted) {
    for (std::size_t s = 0; s < words.size(); ++s) {
      if (lengths[s] != wanted) continue;
      next <<= wanted - std::exchange(length, wanted);
      for (unsigned i = wanted; i-- > 0;) words[s] += (next >> i & 1) != 0 ? '1' : '0';
      ++next;
    }
  }
  return words;
}

/// Appends to `bits_`.
class SlowBits {
 protected:
  void put(std::uint64_t value, unsigned count) {
    for (unsigned i = 0; i < count; ++i) bits_ += (value >> i & 1) != 0 ? '1' : '0';
  }
  void put_count(std::uint64_t value, unsigned order) {
    const std::uint64_t head = (value >> order) + 1;
    unsigned width = 0;
    while (head >> width != 0) ++width;
    for (unsigned i = 1; i < width; ++i) bits_ += '0';
    bits_ += '1';
    put(head, width - 1);
    put(value, order);
  }
  static std::uint64_t folded(std::int64_t value) {
    return static_cast<std::uint64_t>(value >= 0 ? 2 * value : -2 * value - 1);
  }
  // A list or text by its items, another value by what both have in common; or all of it.
  void varying(const schema::ColumnInfo& column, const std::string& before,
               const std::string& now) {
    const std::string all_before = std::exchange(bits_, "");
    put(1, 1);
    const std::size_t ahead = bits_.size();
    if (column.grid >= 0) {
      bits_.clear();  // the twin's grids are whole
    } else if (column.max_items > 0) {
      edits(column, before, now);
    } else {
      std::size_t head = 0;
      while (head < std::min(before.size(), now.size()) && before[head] == now[head]) ++head;
      std::size_t tail = 0;
      while (tail < std::min(before.size(), now.size()) - head &&
             before[before.size() - 1 - tail] == now[now.size() - 1 - tail]) {
        ++tail;
      }
      put_count(head, 5);
      put_count(tail, 5);
      put_count(now.size() - head - tail, 5);
      bits_ += now.substr(head, now.size() - head - tail);
    }
    const std::string change = std::exchange(bits_, all_before);
    if (!change.empty() && change.size() - ahead < now.size()) {
      bits_ += change;
      return;
    }
    put(0, 1);
    put_count(now.size(), 5);
    bits_ += now;
  }
  static std::vector<std::string> items_of(const schema::ColumnInfo& column,
                                           const std::string& value) {
    unsigned width = 0;
    while (std::uint64_t{1} << width < std::uint64_t{column.max_items} + 1) ++width;
    std::vector<std::string> items;
    for (std::size_t i = width; i < value.size(); i += column.item_bits) {
      items.push_back(value.substr(i, column.item_bits));
    }
    return items;
  }
  void edits(const schema::ColumnInfo& column, const std::string& before, const std::string& now) {
    const auto old = items_of(column, before);
    const auto items = items_of(column, now);
    // 'k'ept, 'r'eplaced, 'i'nserted, 'd'eleted; the item of those that bring one.
    std::vector<std::pair<char, std::string>> steps;
    std::size_t head = 0;
    while (head < std::min(old.size(), items.size()) && old[head] == items[head]) ++head;
    std::size_t tail = 0;
    while (tail < std::min(old.size(), items.size()) - head &&
           old[old.size() - 1 - tail] == items[items.size() - 1 - tail]) {
      ++tail;
    }
    for (std::size_t i = 0; i < head; ++i) steps.emplace_back('k', "");
    const std::size_t rows = old.size() - head - tail;
    const std::size_t columns = items.size() - head - tail;
    std::size_t apart = 0;
    for (std::size_t i = 0; rows == columns && i < rows; ++i) {
      apart += old[head + i] != items[head + i] ? 1 : 0;
    }
    if ((rows == columns && apart <= 4) || rows > 64 || columns > 64) {
      for (std::size_t i = 0; i < std::max(rows, columns); ++i) {
        if (i >= columns) {
          steps.emplace_back('d', "");
        } else if (i >= rows) {
          steps.emplace_back('i', items[head + i]);
        } else {
          const bool same = old[head + i] == items[head + i];
          steps.emplace_back(same ? 'k' : 'r', items[head + i]);
        }
      }
    } else {
      std::vector<std::vector<int>> cost(rows + 1, std::vector<int>(columns + 1));
      for (std::size_t i = rows + 1; i-- > 0;) {
        for (std::size_t j = columns + 1; j-- > 0;) {
          if (i == rows || j == columns) {
            cost[i][j] = static_cast<int>(rows - i + columns - j);
          } else if (old[head + i] == items[head + j]) {
            cost[i][j] = cost[i + 1][j + 1];
          } else {
            cost[i][j] = 1 + std::min({cost[i + 1][j + 1], cost[i + 1][j], cost[i][j + 1]});
          }
        }
      }
      std::size_t i = 0;
      std::size_t j = 0;
      while (i < rows || j < columns) {
        const bool both = i < rows && j < columns;
        if (both && old[head + i] == items[head + j]) {
          steps.emplace_back('k', "");
          ++i, ++j;
        } else if (both && cost[i][j] == cost[i + 1][j + 1] + 1) {
          steps.emplace_back('r', items[head + j]);
          ++i, ++j;
        } else if (j < columns && (i == rows || cost[i][j] == cost[i][j + 1] + 1)) {
          steps.emplace_back('i', items[head + j]);
          ++j;
        } else {
          steps.emplace_back('d', "");
          ++i;
        }
      }
    }
    std::string runs;
    std::size_t count = 0;
    std::string written = std::exchange(bits_, "");
    for (std::size_t i = 0; i < steps.size();) {
      std::size_t kept = 0;
      while (i < steps.size() && steps[i].first == 'k') ++kept, ++i;
      if (i == steps.size()) break;
      const char kind = steps[i].first;
      std::string brought;
      std::size_t length = 0;
      for (; i < steps.size() && steps[i].first == kind; ++i, ++length) brought += steps[i].second;
      ++count;
      put_count(kept, 2);
      put(kind == 'r' ? 0 : 1, 1);
      if (kind != 'r') put(kind == 'd' ? 1 : 0, 1);
      put_count(length - 1, 0);
      if (kind != 'd') bits_ += brought;
    }
    runs = std::exchange(bits_, written);
    put_count(count - 1, 0);
    bits_ += runs;
  }

  std::string bits_;
};

}  // namespace kwind::kit
