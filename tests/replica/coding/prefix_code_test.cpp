// Prefix codes: every symbol comes back, lengths are those of Huffman, wrong lengths are refused.
#include "replica/coding/prefix_code.h"

#include <gtest/gtest.h>

#include <cmath>
#include <numeric>
#include <random>
#include <vector>

#include "kit/sweep.h"

namespace kwind::replica {
namespace prefix_code_test {

std::vector<std::uint32_t> weights_of(std::mt19937_64& random, std::size_t symbols) {
  std::vector<std::uint32_t> weights(symbols);
  for (std::uint32_t& weight : weights) {
    weight = static_cast<std::uint32_t>(random() >> (33 + random() % 31));
  }
  return weights;
}

TEST(PrefixCode, EverySymbolComesBack) {
  for (const std::uint64_t seed : kit::seeds(100, 5000)) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    std::mt19937_64 random(seed);
    const PrefixCode code(weights_of(random, 1 + random() % 300));
    std::vector<std::size_t> said(200);
    for (std::size_t& symbol : said) symbol = random() % code.symbols();
    std::vector<std::byte> memory(said.size() * PrefixCode::kLongest / 8 + 8);
    bits::Writer out(memory);
    for (const std::size_t symbol : said) code.write(out, symbol);
    const std::size_t bits = out.bit_count();
    out.finish();
    bits::Reader in(memory, bits);
    for (const std::size_t symbol : said) EXPECT_EQ(code.read(in), symbol);
    EXPECT_EQ(in.left_bits(), 0U);
    // A single symbol takes no bits, so that it is always there.
    if (code.symbols() > 1) {
      EXPECT_EQ(code.read(in), std::nullopt);
    }
  }
}

// Shannon: the mean length lies between the entropy and one bit more.
TEST(PrefixCode, IsAsShortAsHuffmanSays) {
  std::mt19937_64 random(7);
  for (int i = 0; i < 50; ++i) {
    std::vector<std::uint32_t> weights(2 + random() % 100);
    for (std::uint32_t& weight : weights) weight = 1 + static_cast<std::uint32_t>(random() % 5000);
    const PrefixCode code(weights);
    const double sum = std::accumulate(weights.begin(), weights.end(), 0.0);
    double entropy = 0;
    double mean = 0;
    for (std::size_t s = 0; s < weights.size(); ++s) {
      entropy -= weights[s] / sum * std::log2(weights[s] / sum);
      mean += weights[s] / sum * code.bits(s);
    }
    EXPECT_GE(mean, entropy - 1e-9);
    EXPECT_LT(mean, entropy + 1);
  }
}

TEST(PrefixCode, NoCodeIsLongerThanTheLimit) {
  // Fibonacci weights ask for a code of one bit more for each symbol.
  std::vector<std::uint32_t> weights{1, 1};
  while (weights.size() < 45) weights.push_back(weights.back() + weights[weights.size() - 2]);
  const PrefixCode code(weights);
  for (std::size_t s = 0; s < code.symbols(); ++s) EXPECT_LE(code.bits(s), PrefixCode::kLongest);
}

TEST(PrefixCode, LengthsMakeTheSameCode) {
  std::mt19937_64 random(3);
  for (int i = 0; i < 50; ++i) {
    const PrefixCode code(weights_of(random, 1 + random() % 80));
    std::vector<std::uint8_t> lengths;
    for (std::size_t s = 0; s < code.symbols(); ++s) {
      lengths.push_back(static_cast<std::uint8_t>(code.bits(s)));
    }
    const auto again = PrefixCode::of_lengths(lengths);
    ASSERT_TRUE(again);
    for (std::size_t s = 0; s < code.symbols(); ++s) {
      EXPECT_EQ(again->code(s).code, code.code(s).code);
      EXPECT_EQ(again->bits(s), code.bits(s));
    }
  }
}

TEST(PrefixCode, LengthsThatAreNoCodeAreRefused) {
  using Lengths = std::vector<std::uint8_t>;
  EXPECT_TRUE(PrefixCode::of_lengths(Lengths{0}));
  EXPECT_TRUE(PrefixCode::of_lengths(Lengths{1, 2, 2}));
  EXPECT_FALSE(PrefixCode::of_lengths(Lengths{})) << "no symbol";
  EXPECT_FALSE(PrefixCode::of_lengths(Lengths{1})) << "one symbol has no bits";
  EXPECT_FALSE(PrefixCode::of_lengths(Lengths{1, 1, 2})) << "too many words";
  EXPECT_FALSE(PrefixCode::of_lengths(Lengths{1, 2})) << "a word without a symbol";
  EXPECT_FALSE(PrefixCode::of_lengths(Lengths{0, 0})) << "no bits for two";
  EXPECT_FALSE(PrefixCode::of_lengths(Lengths{1, 25, 25})) << "longer than the limit";
}

}  // namespace prefix_code_test
}  // namespace kwind::replica
