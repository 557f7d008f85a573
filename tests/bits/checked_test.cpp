#include "kwind/bits/checked.h"

#include <fmt/format.h>
#include <gtest/gtest.h>

#include <random>

namespace kwind::bits {
namespace checked_test {

constexpr IntRange kCrew{0, 12};
constexpr RealRange kDepth{-64, 1, 4, 257};
constexpr AngleRange kBearing{1, 2, 720};

// The same code with either kind of writer and reader, as users write it.
template <class Out>
void write(Out& out) {
  out.put(5, 7);
  out.put_bool(true);
  out.put_count(300, 2);
  out.put_in(kCrew, 9);
  out.put_in(kDepth, -3.5);
  out.put_in(kBearing, 90.0);
  const std::array<std::byte, 2> raw{std::byte{0xab}, std::byte{0xcd}};
  out.put_bits(raw, 12);
}

template <class In>
void read_and_expect(In& in) {
  EXPECT_EQ(in.get(7), 5U);
  EXPECT_TRUE(in.get_bool());
  EXPECT_EQ(in.get_count(2), 300U);
  EXPECT_EQ(in.get_in(kCrew), 9);
  EXPECT_EQ(in.get_in(kDepth), -3.5);
  EXPECT_EQ(in.get_in(kBearing), 90.0);
  std::array<std::byte, 2> raw{};
  EXPECT_TRUE(in.get_bits(raw, 12));
  EXPECT_EQ(raw[1], std::byte{0x0d});
  EXPECT_TRUE(in.ok());
}

template <class Out, class In>
std::size_t there_and_back() {
  std::array<std::byte, 1000> memory{};
  Out out{std::span(memory)};
  write(out);
  out.finish();
  In in(std::span<const std::byte>(memory), out.bit_count());
  read_and_expect(in);
  EXPECT_EQ(in.left_bits(), 0U);
  return out.bit_count();
}

TEST(ByHand, TheSameCodeRunsPlainAndChecked) {
  EXPECT_EQ((there_and_back<PlainWriter, PlainReader>()), 7U + 1 + 15 + 4 + 9 + 10 + 12);
  EXPECT_GT((there_and_back<CheckedWriter, CheckedReader>()), 7U * 100);
}

TEST(ByHand, AWrongReadNamesBothPlaces) {
  const int first = __LINE__ + 4;
  std::array<std::byte, 200> memory{};
  CheckedWriter out(memory);
  const auto written = [&] {
    out.put_in(kCrew, 3);
    out.put_bool(true);
  };
  written();
  out.finish();
  const auto misread = [&](auto read) {
    CheckedReader in(memory, out.bit_count());
    read(in);
    EXPECT_FALSE(in.ok());
    return in.misread();
  };
  const auto four_bits = [](CheckedReader& in) { in.get(4); };
  const int line = __LINE__ - 1;
  EXPECT_EQ(
      misread(four_bits).text,
      fmt::format("checked_test.cpp:{} reads 4 bits where checked_test.cpp:{} wrote an int in "
                  "a range of 4 bits",
                  line, first));
  const Misread order = misread([](CheckedReader& in) {
    in.get_in(kCrew);
    in.get_in(kCrew);
  });
  EXPECT_EQ(order.value, 1U);
  EXPECT_NE(order.text.find(fmt::format("reads an int in a range of 4 bits where "
                                        "checked_test.cpp:{} wrote a boolean",
                                        first + 1)),
            std::string::npos)
      << order.text;
  EXPECT_NE(misread([](CheckedReader& in) {
              in.get_in(IntRange{1, 13});
            }).text.find("wrote an int in a range of 4 bits of another range"),
            std::string::npos);
  EXPECT_NE(misread([](CheckedReader& in) {
              in.get_in(kCrew);
              in.get_bool();
              in.get_bool();
            }).text.find("reads a boolean where nothing more was written"),
            std::string::npos);
}

TEST(ByHand, AfterAMisreadThereAreOnlyZeros) {
  std::array<std::byte, 200> memory{};
  CheckedWriter out(memory);
  out.put(9, 4);
  out.put(8, 4);
  out.finish();
  CheckedReader in(memory, out.bit_count());
  EXPECT_FALSE(in.get_bool());
  EXPECT_EQ(in.get(4), 0U) << "also what would have fitted";
  EXPECT_EQ(in.misread().value, 0U);
}

TEST(ByHand, UncheckedAndHostileBitsAreRefusedByName) {
  std::array<std::byte, 64> memory{};
  PlainWriter plain{std::span(memory)};
  plain.put(5, 30);
  plain.finish();
  CheckedReader in(memory);
  EXPECT_EQ(in.get(30), 0U);
  EXPECT_NE(in.misread().text.find("build both sides alike"), std::string::npos);
  std::mt19937_64 random(5);
  for (int round = 0; round < 20000; ++round) {
    std::array<std::byte, 100> bytes{};
    CheckedWriter out(bytes);
    out.put(1, 8);
    out.finish();
    bytes[random() % 30] ^= static_cast<std::byte>(random());
    CheckedReader reader(bytes, random() % 800);
    (void)reader.get(8);
    (void)reader.get_in(kDepth);
  }
}

}  // namespace checked_test
}  // namespace kwind::bits
