// The laws of the codec, over every type of the language, through generated code.
#include <gtest/gtest.h>

#include <random>

#include "every_type.h"
#include "kwind/schema/message_type_codes.h"

namespace kwind {
namespace every_type_test {

using namespace every_type;

using Random = std::mt19937_64;

// Values on the grid of their ranges: what a decoder can give back exactly.
template <class Range>
auto on_grid(Random& random, const Range& range) {
  const std::uint64_t last = range.last_index();
  return range.value_of(last == ~std::uint64_t{0} ? random() : random() % (last + 1));
}
std::int32_t small(Random& random, const bits::IntRange& range) {
  return static_cast<std::int32_t>(on_grid(random, range));
}
std::string words(Random& random, std::size_t max) {
  static const std::vector<std::string> kPieces = {
      "a", "~", "\xc3\xa9", "\xe2\x82\xac", "\xf0\x9f\x90\x9f", std::string(1, '\0')};
  std::string text;
  for (std::size_t i = random() % (max + 1); i > 0; --i) {
    const std::string& piece = kPieces[random() % kPieces.size()];
    if (text.size() + piece.size() <= max) text += piece;
  }
  return text;
}
template <class T>
T choice(Random& random, std::uint64_t count) {
  return static_cast<T>(random() % count);
}
Spot spot(Random& random) {
  return {on_grid(random, Spot::x_range), on_grid(random, Spot::y_range)};
}

void fill(Random& random, Flags& m) {
  m.a = random() % 2 != 0;
  m.b = random() % 2 != 0;
  m.all.clear();
  for (auto n = random() % 21; n > 0; --n) m.all.push_back(random() % 2 != 0);
}
void fill(Random& random, Whole& m) {
  m = {small(random, Whole::small_range), 7, on_grid(random, Whole::wide_range),
       on_grid(random, Whole::open_range), on_grid(random, Whole::high_range)};
}
void fill(Random& random, Parts& m) {
  m = {spot(random), on_grid(random, Parts::deep_range), on_grid(random, Parts::third_range)};
}
void fill(Random& random, Turned& m) {
  m = {on_grid(random, Turned::bearing_range), on_grid(random, Turned::coarse_range)};
}
void fill(Random& random, Words& m) {
  m = {words(random, 24), words(random, 200), words(random, 1)};
}
void fill(Random& random, Chosen& m) {
  m = {choice<Cargo>(random, 5), Lonely::only, choice<Chosen::Tone>(random, 3)};
}
void fill(Random& random, Nested& m) {
  m = {};
  for (auto n = random() % 7; n > 0; --n) {
    m.loads.push_back({choice<Cargo>(random, 5), small(random, Load::tons_range), spot(random)});
  }
  for (auto n = random() % 6; n > 0; --n) {
    m.grid.emplace_back();
    for (auto k = random() % 5; k > 0; --k) m.grid.back().push_back(small(random, {0, 3}));
  }
  for (auto n = random() % 10; n > 0; --n) m.kinds.push_back(choice<Nested::Kinds>(random, 2));
  for (auto n = random() % 4; n > 0; --n) m.names.push_back(words(random, 8));
}
void fill(Random&, Nothing&) {}

template <class T>
class EveryType : public testing::Test {};
using Messages = testing::Types<Flags, Whole, Parts, Turned, Words, Chosen, Nested, Nothing>;
TYPED_TEST_SUITE(EveryType, Messages);

TYPED_TEST(EveryType, ComesBackEqualWithinItsStatedSize) {
  Random random(11);
  std::array<std::byte, 1104> memory{};
  for (int round = 0; round < 1000; ++round) {
    TypeParam sent;
    fill(random, sent);
    const auto encoded = schema::encode_message(sent, memory, bits::Policy::refuse);
    ASSERT_TRUE(encoded) << "round " << round;
    ASSERT_EQ(encoded->out_of_range, 0U);
    ASSERT_GE(encoded->bits, TypeParam::info().min_bits);
    ASSERT_LE(encoded->bits, TypeParam::info().max_bits);
    TypeParam got;
    fill(random, got);  // decoding replaces whatever was there
    ASSERT_EQ(schema::decode_message(memory, encoded->bits, got), Errc::none);
    ASSERT_EQ(got, sent) << "round " << round;
  }
}

TYPED_TEST(EveryType, IsRefusedCutOrLengthenedAnywhere) {
  Random random(12);
  std::array<std::byte, 1104> memory{};
  for (int round = 0; round < 50; ++round) {
    TypeParam sent;
    fill(random, sent);
    const std::size_t bits = schema::encode_message(sent, memory)->bits;
    TypeParam got;
    for (std::size_t cut = 0; cut < bits; ++cut) {
      ASSERT_NE(schema::decode_message(memory, cut, got), Errc::none) << "cut at " << cut;
    }
    ASSERT_EQ(schema::decode_message(memory, bits + 1, got), Errc::trailing_bits);
  }
}

TYPED_TEST(EveryType, AcceptsOnlyCanonicalBits) {
  // Whatever decodes, encodes to the very same bits; anything else was refused.
  Random random(13);
  std::array<std::byte, 1104> memory{};
  std::array<std::byte, 1104> again{};
  int accepted = 0;
  for (int round = 0; round < 20000; ++round) {
    const std::size_t bits = random() % (TypeParam::info().max_bits + 20);
    for (std::size_t i = 0; i < bits::bytes_for(bits); ++i)
      memory[i] = static_cast<std::byte>(random());
    if (round % 2 == 0) {  // a valid one with one bit flipped is likelier to pass
      TypeParam sent;
      fill(random, sent);
      const std::size_t size = schema::encode_message(sent, memory)->bits;
      if (size > 0) memory[random() % bits::bytes_for(size)] ^= std::byte{1} << (random() % 8);
    }
    TypeParam got;
    if (schema::decode_message(memory, bits, got) != Errc::none) continue;
    ++accepted;
    const auto encoded = schema::encode_message(got, again, bits::Policy::refuse);
    ASSERT_TRUE(encoded) << "decoded to a value out of range, round " << round;
    ASSERT_EQ(encoded->bits, bits);
    bits::Reader a(memory, bits);
    bits::Reader b(again, bits);
    while (a.left_bits() > 0) ASSERT_EQ(a.get(1), b.get(1));
  }
  EXPECT_GT(accepted, 0);
}

TEST(Encoder, TreatsValuesOutOfRangeAsThePolicySays) {
  std::array<std::byte, 64> memory{};
  Whole wrong;
  wrong.small = 99;
  wrong.open = -1;
  EXPECT_EQ(schema::encode_message(wrong, memory, bits::Policy::refuse).error(),
            Errc::out_of_range);
  const auto clamped = schema::encode_message(wrong, memory, bits::Policy::clamp);
  ASSERT_TRUE(clamped);
  EXPECT_EQ(clamped->out_of_range, 2U);
  Whole got;
  ASSERT_EQ(schema::decode_message(memory, clamped->bits, got), Errc::none);
  EXPECT_EQ(got.small, 5);
  EXPECT_EQ(got.open, 0);
  EXPECT_DEATH((void)schema::encode_message(wrong, memory, bits::Policy::assert_range), "");
}

TEST(Encoder, CutsTextsAtAWholeCharacter) {
  std::array<std::byte, 64> memory{};
  const auto sent_and_got = [&](std::string name) {
    Words words;
    words.name = std::move(name);
    const auto encoded = schema::encode_message(words, memory);
    EXPECT_EQ(encoded->out_of_range, 1U);
    Words got;
    EXPECT_EQ(schema::decode_message(memory, encoded->bits, got), Errc::none);
    return got.name;
  };
  EXPECT_EQ(sent_and_got(std::string(23, 'x') + "\xc3\xa9"), std::string(23, 'x'));
  EXPECT_EQ(sent_and_got("ok\xff after"), "ok");
  EXPECT_EQ(sent_and_got("ok\xed\xa0\x80 surrogate"), "ok");
  EXPECT_EQ(sent_and_got("ok\xc0\xaf overlong"), "ok");
}

TEST(Encoder, CutsListsAtTheirLimit) {
  std::array<std::byte, 64> memory{};
  Flags flags;
  flags.all.assign(25, true);
  const auto encoded = schema::encode_message(flags, memory);
  ASSERT_TRUE(encoded);
  EXPECT_EQ(encoded->out_of_range, 1U);
  Flags got;
  ASSERT_EQ(schema::decode_message(memory, encoded->bits, got), Errc::none);
  EXPECT_EQ(got.all.size(), 20U);
}

TEST(Decoder, NamesTheCauseOfARefusal) {
  std::array<std::byte, 64> memory{};
  bits::Writer out(memory);
  out.put(31, 5);  // a list of 31 where 20 is the most
  out.put(0, 40);
  out.finish();
  Flags flags;
  bits::Writer shifted(memory);
  shifted.put(0, 2);
  shifted.put(31, 5);
  shifted.put(0, 40);
  shifted.finish();
  EXPECT_EQ(schema::decode_message(memory, 47, flags), Errc::too_long);

  bits::Writer text(memory);
  text.put(1, 5);
  text.put(0xff, 8);
  text.put(0, 8 + 1);
  text.finish();
  Words words;
  EXPECT_EQ(schema::decode_message(memory, 22, words), Errc::text_encoding);

  bits::Writer chosen(memory);
  chosen.put(7, 3);  // of five cargoes
  chosen.put(0, 2);
  chosen.finish();
  Chosen cargo;
  EXPECT_EQ(schema::decode_message(memory, 5, cargo), Errc::value_range);
}

TEST(Layout, IsTheOneThatDocsStateBitByBit) {
  // Golden: a change of layout shows here, and needs a new link or protocol version.
  std::array<std::byte, 1104> memory{};
  Nested nested;
  nested.loads.push_back({Cargo::timber, 9, {-1024, 0.0625}});
  nested.grid = {{1, 2, 3}};
  nested.kinds = {Nested::Kinds::barge};
  nested.names = {"Tern"};
  const auto encoded = schema::encode_message(nested, memory);
  ASSERT_TRUE(encoded);
  EXPECT_EQ(encoded->bits, 3U + 3 + 4 + 15 + 15 + 3 + 3 + 6 + 4 + 1 + 2 + 4 + 32);
  EXPECT_EQ(to_hex(memory, bits::bytes_for(encoded->bits)), "5102000280591e23aa323937");
  EXPECT_EQ(to_hex(kProtocol.versions[0].digest, 16), "384feb410e47cf1794f8ab5c26f88a16");
}

TEST(MessageTypeCodes, CostNothingWhereOneKindTravels) {
  const schema::MessageTypeCodes up(kProtocol, schema::Direction::from_client, kProtocol.version);
  std::array<std::byte, 4> memory{};
  const auto bits_of = [&](std::uint16_t kind) {
    bits::Writer out(memory);
    up.put(out, kind);
    out.finish();
    bits::Reader in(memory, out.bit_count());
    EXPECT_EQ(up.get(in, kProtocol.messages[kind].channel), kind);
    return out.bit_count();
  };
  EXPECT_EQ(bits_of(Flags::info().type), 2U) << "three kinds on `state`";
  EXPECT_EQ(bits_of(Nothing::info().type), 1U) << "two kinds on `rare`";
  memory[0] = std::byte{3};
  bits::Reader fourth(memory);
  EXPECT_EQ(up.get(fourth, 0).error(), Errc::unknown_kind);
  bits::Reader empty{std::span(memory).first(0)};
  EXPECT_EQ(up.get(empty, 0).error(), Errc::truncated);
}

TEST(Generated, DescribesItsFields) {
  const schema::MessageInfo& info = Parts::info();
  EXPECT_EQ(info.name, "Parts");
  ASSERT_EQ(info.fields.size(), 3U);
  EXPECT_EQ(info.fields[1].name, "deep");
  EXPECT_EQ(info.fields[1].type, "real -7/2..0 step 1/10");
  EXPECT_EQ(info.fields[1].max_bits, 6U);
  std::string names;
  visit_fields(Words{}, [&](std::string_view name, const std::string&) { names += name; });
  EXPECT_EQ(names, "namelongclass");
  EXPECT_EQ(name_of(Chosen::Tone::default_), "default");
}

}  // namespace every_type_test
}  // namespace kwind
