// Canonical Huffman codes with a length limit, and a decoding table.
//
// Huffman (1952) gives the lengths; the codes follow from the lengths in the order of symbols
// (canonical: Schwartz and Kallick, 1964), so that tables travel as lengths. If a code is longer
// than kLongest, weights are halved until it is not. Codes of up to kShortBits bits are read by one
// look at a table, longer ones bit by bit.
//
// Invariant 1: lengths fill the code space (Kraft's sum is 1), so that every bit string decodes to
//   some symbol.
#include "replica/coding/prefix_code.h"

#include <algorithm>
#include <numeric>
#include <queue>

#include "kwind/core/assert.h"

namespace kwind::replica {
namespace {

// Lengths of a Huffman code; among equal weights the one that was made first goes first.
std::vector<unsigned> lengths_of(const std::vector<std::uint64_t>& weights) {
  struct Node {
    std::uint64_t weight;
    std::size_t number;
  };
  const auto later = [](const Node& a, const Node& b) {
    return a.weight != b.weight ? a.weight > b.weight : a.number > b.number;
  };
  std::priority_queue<Node, std::vector<Node>, decltype(later)> open(later);
  for (std::size_t i = 0; i < weights.size(); ++i) open.push({weights[i], i});
  std::vector<std::size_t> parent(weights.size());
  while (open.size() > 1) {
    const Node first = open.top();
    open.pop();
    const Node second = open.top();
    open.pop();
    parent[first.number] = parent[second.number] = parent.size();
    open.push({first.weight + second.weight, parent.size()});
    parent.push_back(0);
  }
  std::vector<unsigned> depth(parent.size(), 0);
  for (std::size_t i = parent.size() - 1; i-- > 0;) depth[i] = depth[parent[i]] + 1;
  depth.resize(weights.size());
  return depth;
}

}  // namespace

// Halving the weights flattens the code. It ends: equal weights give lengths of about the logarithm
// of their number, which is below the limit.
PrefixCode::PrefixCode(std::span<const std::uint32_t> weights_in) : codes_(weights_in.size()) {
  KWIND_ASSERT(!weights_in.empty() && weights_in.size() <= 0xffff);
  std::vector<std::uint64_t> weights(weights_in.begin(), weights_in.end());
  for (std::uint64_t& weight : weights) weight = std::max<std::uint64_t>(weight, 1);
  std::vector<unsigned> lengths;
  for (;;) {
    lengths = lengths_of(weights);
    if (*std::max_element(lengths.begin(), lengths.end()) <= kLongest) break;
    for (std::uint64_t& weight : weights) weight = (weight + 1) / 2;
  }
  assign(std::vector<std::uint8_t>(lengths.begin(), lengths.end()));
}

// Lengths from a file are accepted only if they keep invariant 1.
std::optional<PrefixCode> PrefixCode::of_lengths(std::span<const std::uint8_t> lengths) {
  if (lengths.empty() || lengths.size() > 0xffff) return std::nullopt;
  std::uint64_t taken = 0;  // Kraft 1949, in words of kLongest bits
  for (const std::uint8_t length : lengths) {
    if (length > kLongest) return std::nullopt;
    taken += std::uint64_t{1} << (kLongest - length);
  }
  if (taken != std::uint64_t{1} << kLongest) return std::nullopt;
  PrefixCode made;
  made.codes_.resize(lengths.size());
  made.assign(lengths);
  return made;
}

// Gives symbols consecutive codes in the order of length, then of symbol. A code's first bit is its
// lowest, because readers take the low bits first.
void PrefixCode::assign(std::span<const std::uint8_t> lengths) {
  ordered_.resize(lengths.size());
  std::iota(ordered_.begin(), ordered_.end(), std::uint16_t{0});
  std::stable_sort(ordered_.begin(), ordered_.end(),
                   [&](std::uint16_t a, std::uint16_t b) { return lengths[a] < lengths[b]; });
  of_length_.assign(kLongest + 1, 0);
  std::uint32_t next = 0;
  unsigned length = 0;
  for (const std::uint16_t symbol : ordered_) {
    next <<= lengths[symbol] - length;
    length = lengths[symbol];
    Code& code = codes_[symbol];
    code.bits = static_cast<std::uint8_t>(length);
    for (unsigned i = 0; i < length; ++i) code.code |= (next >> (length - 1 - i) & 1) << i;
    ++of_length_[length];
    ++next;
    if (length == 0 || length > kShortBits) continue;
    for (std::uint32_t behind = 0; behind < 1U << (kShortBits - length); ++behind) {
      short_[code.code | behind << length] = {symbol, code.bits};
    }
  }
}

// Canonical decoding: among codes of one length the code less the first code of that length is the
// place in the order of symbols.
std::optional<std::size_t> PrefixCode::read_long(bits::Reader& in) const {
  std::uint32_t code = 0;
  std::uint32_t first = 0;
  std::size_t place = 0;
  for (unsigned length = 1; length <= kLongest; ++length) {
    code = code << 1 | (in.get_bool() ? 1U : 0U);
    if (!in.ok()) return std::nullopt;
    first <<= 1;
    const std::uint32_t count = of_length_[length];
    if (code - first < count) return ordered_[place + (code - first)];
    place += count;
    first += count;
  }
  return std::nullopt;
}

}  // namespace kwind::replica
