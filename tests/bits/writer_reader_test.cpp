#include <gtest/gtest.h>

#include <array>
#include <random>
#include <vector>

#include "kwind/bits/reader.h"
#include "kwind/bits/writer.h"

namespace kwind::bits {
namespace writer_reader_test {

struct Value {
  std::uint64_t value;
  unsigned bits;
};

std::vector<Value> random_values(std::mt19937_64& random, std::size_t count) {
  std::vector<Value> values;
  for (std::size_t i = 0; i < count; ++i) {
    const auto bits = static_cast<unsigned>(random() % 65);
    values.push_back({random() & low_mask(bits), bits});
  }
  return values;
}

// The slow twin: one bit at a time, the lowest first.
std::vector<std::byte> slow_bits(const std::vector<Value>& values) {
  std::vector<bool> all;
  for (const Value& v : values) {
    for (unsigned i = 0; i < v.bits; ++i) all.push_back((v.value >> i & 1) != 0);
  }
  std::vector<std::byte> bytes(bytes_for(all.size()));
  for (std::size_t i = 0; i < all.size(); ++i) {
    if (all[i]) bytes[i / 8] |= std::byte{1} << (i % 8);
  }
  return bytes;
}

TEST(Writer, AgreesWithTheSlowTwinOnRandomValues) {
  std::mt19937_64 random(1);
  for (int round = 0; round < 2000; ++round) {
    const auto values = random_values(random, random() % 40);
    const auto expected = slow_bits(values);
    std::vector<std::byte> memory(expected.size());
    Writer out(memory);
    for (const Value& v : values) out.put(v.value, v.bits);
    ASSERT_TRUE(out.ok());
    ASSERT_EQ(out.finish(), expected.size());
    ASSERT_EQ(memory, expected) << "round " << round;
    Reader in(memory);
    for (const Value& v : values) ASSERT_EQ(in.get(v.bits), v.value);
    ASSERT_TRUE(in.ok());
  }
}

TEST(Writer, IgnoresBitsAboveTheWidth) {
  std::array<std::byte, 8> memory{};
  Writer out(memory);
  out.put(~std::uint64_t{0}, 3);
  out.put(0, 5);
  EXPECT_EQ(out.finish(), 1U);
  EXPECT_EQ(memory[0], std::byte{7});
}

TEST(Writer, WritesNothingPastTheEndAndRemembers) {
  for (std::size_t size = 0; size < 20; ++size) {
    std::vector<std::byte> memory(size + 4, std::byte{0xee});
    Writer out{std::span(memory).first(size)};
    while (out.ok()) out.put(0x5555555555555555ULL, 13);
    out.put(1, 1);
    EXPECT_FALSE(out.ok()) << "sticky, even for what would fit";
    out.finish();
    for (std::size_t i = size; i < memory.size(); ++i) EXPECT_EQ(memory[i], std::byte{0xee});
  }
}

TEST(Writer, MayFinishAndGoOn) {
  std::array<std::byte, 16> memory{};
  Writer out(memory);
  out.put(5, 3);
  EXPECT_EQ(out.finish(), 1U);
  out.put(0x1234, 16);
  EXPECT_EQ(out.finish(), 3U);
  Reader in(memory, 19);
  EXPECT_EQ(in.get(3), 5U);
  EXPECT_EQ(in.get(16), 0x1234U);
}

TEST(Writer, CopiesRunsOfBitsAtAnyOffset) {
  std::mt19937_64 random(2);
  for (int round = 0; round < 500; ++round) {
    std::vector<std::byte> source(40);
    for (std::byte& byte : source) byte = static_cast<std::byte>(random());
    const std::size_t bits = random() % (source.size() * 8 + 1);
    const auto offset = static_cast<unsigned>(random() % 64);
    std::vector<std::byte> memory(60);
    Writer out(memory);
    out.put(random(), offset);
    out.put_bits(source, bits);
    ASSERT_TRUE(out.ok());
    out.finish();
    Reader in(memory, out.bit_count());
    in.get(offset);
    std::vector<std::byte> copy(40);
    ASSERT_TRUE(in.get_bits(copy, bits));
    Reader a(source);
    Reader b(copy);
    for (std::size_t i = 0; i < bits; ++i) ASSERT_EQ(a.get(1), b.get(1));
  }
}

TEST(Reader, YieldsZerosPastTheEndAndRemembers) {
  const std::array<std::byte, 2> memory{std::byte{0xff}, std::byte{0xff}};
  Reader in(memory, 11);
  EXPECT_EQ(in.get(10), 0x3ffU);
  EXPECT_EQ(in.get(2), 0U);
  EXPECT_FALSE(in.ok());
  EXPECT_EQ(in.get(1), 0U) << "sticky, though one bit was left";
  EXPECT_EQ(in.left_bits(), 0U);
}

TEST(Counts, SurviveTheRoundTripInTheStatedBits) {
  for (const unsigned k : {0U, 1U, 2U, 6U, 10U, 31U}) {
    for (std::uint64_t value :
         {0ULL, 1ULL, 2ULL, 3ULL, 63ULL, 64ULL, 1000ULL, 65535ULL, 0xfffffffeULL, 0xffffffffULL}) {
      std::array<std::byte, 16> memory{};
      Writer out(memory);
      out.put_count(value, k);
      ASSERT_TRUE(out.ok());
      EXPECT_EQ(out.bit_count(),
                2 * static_cast<std::size_t>(std::bit_width((value >> k) + 1)) - 1 + k);
      out.finish();
      Reader in(memory, out.bit_count());
      EXPECT_EQ(in.get_count(k), value);
      EXPECT_TRUE(in.ok());
    }
  }
}

TEST(Counts, RefuseEndlessZerosAndOverlongValues) {
  const std::array<std::byte, 32> zeros{};
  Reader in(zeros);
  EXPECT_EQ(in.get_count(3), 0U);
  EXPECT_FALSE(in.ok());
  std::array<std::byte, 16> memory{};
  Writer out(memory);
  out.put(std::uint64_t{1} << 32, 33);  // 32 zeros and a one: a head of 33 bits
  out.put(1, 32);
  out.finish();
  Reader too_large(memory, out.bit_count());
  EXPECT_EQ(too_large.get_count(0), 0U);
  EXPECT_FALSE(too_large.ok());
}

}  // namespace writer_reader_test
}  // namespace kwind::bits
