// Laws of the runtime codec over descriptions and values that follow from seeds.
#include <gtest/gtest.h>

#include <cstdlib>

#include "kit/random_description.h"
#include "kit/sweep.h"
#include "kwind/json/json.h"
#include "kwind/language/compile.h"
#include "kwind/schema/runtime.h"

namespace kwind {
namespace runtime_test {

using schema::Protocol;
using schema::Value;

std::vector<std::byte>& memory() {
  static std::vector<std::byte> bytes(std::size_t{1} << 21);
  return bytes;
}

// The bits of a value in some version.
struct Coded {
  std::size_t bits = 0;
  std::uint64_t faults = 0;
  Errc error = Errc::none;
};
Coded coded(const Protocol& protocol, const std::vector<schema::Field>& fields, const Value& value,
            std::span<std::byte> to, std::uint16_t version) {
  schema::Encoder out(bits::Writer(to), bits::Policy::clamp, version);
  schema::encode_value(protocol, fields, value, out);
  out.finish();
  return {out.bit_count(), out.out_of_range_count(), out.error()};
}

Errc decoded(const Protocol& protocol, const std::vector<schema::Field>& fields,
             std::span<const std::byte> from, std::size_t bits, Value& to, std::uint16_t version) {
  schema::Decoder in(bits::Reader(from, bits), version);
  schema::decode_value(protocol, fields, in, to);
  if (in.error() != Errc::none) return in.error();
  return in.left_bits() == 0 ? Errc::none : Errc::trailing_bits;
}

void expect_same_bits(std::span<const std::byte> a, std::span<const std::byte> b,
                      std::size_t bits) {
  bits::Reader first(a, bits);
  bits::Reader second(b, bits);
  while (first.left_bits() > 0) {
    const auto step = static_cast<unsigned>(std::min<std::size_t>(64, first.left_bits()));
    ASSERT_EQ(first.get(step), second.get(step));
  }
}

class RandomProtocols : public testing::Test {
 protected:
  // Calls check(protocol, fields, numbers) for each body of each random description.
  template <class Check>
  void for_each_body(std::uint64_t first_seed, const Check& check) {
    for (const std::uint64_t offset : kit::seeds(40, 3000)) {
      const std::uint64_t seed = first_seed + offset;
      const std::string text = kit::RandomDescription(seed, 10).text("made_up");
      const auto compiled = language::compile(text, "random.kw");
      ASSERT_TRUE(compiled.ok()) << "seed " << seed << "\n"
                                 << language::render(compiled.errors.front(), compiled);
      schema::SampleNumbers numbers(seed);
      const Protocol& protocol = compiled.protocol;
      for (const auto& message : protocol.messages) {
        SCOPED_TRACE(fmt::format("seed {} message {}", seed, message.name));
        check(protocol, message.fields, numbers);
        if (HasFatalFailure()) return;
      }
      for (const auto& entity : protocol.entities) {
        SCOPED_TRACE(fmt::format("seed {} entity {}", seed, entity.name));
        check(protocol, entity.fields, numbers);
        if (HasFatalFailure()) return;
      }
    }
  }
};

TEST_F(RandomProtocols, ValuesComeBackEqualWithinTheirSizes) {
  for_each_body(1, [](const Protocol& protocol, const auto& fields,
                      schema::SampleNumbers& numbers) {
    const schema::Size size = schema::size_of(protocol, fields);
    for (const auto payload : {schema::SampleSize::min, schema::SampleSize::typical,
                               schema::SampleSize::max, schema::SampleSize::any}) {
      const Value sent = schema::sample_value(protocol, fields, payload, numbers);
      const Coded code = coded(protocol, fields, sent, memory(), protocol.version);
      ASSERT_EQ(code.error, Errc::none);
      ASSERT_EQ(code.faults, 0U);
      ASSERT_GE(code.bits, size.min_bits);
      ASSERT_LE(code.bits, size.max_bits);
      Value got;
      ASSERT_EQ(decoded(protocol, fields, memory(), code.bits, got, protocol.version), Errc::none);
      ASSERT_TRUE(got == sent) << json::to_json(protocol, fields, sent) << "\ncame back as\n"
                               << json::to_json(protocol, fields, got);
    }
  });
}

TEST_F(RandomProtocols, JsonComesBackEqual) {
  for_each_body(
      101, [](const Protocol& protocol, const auto& fields, schema::SampleNumbers& numbers) {
        const Value sent = schema::sample_value(protocol, fields, schema::SampleSize::any, numbers);
        const std::string text = json::to_json(protocol, fields, sent).dump();
        const auto got = json::from_json(protocol, fields, nlohmann::ordered_json::parse(text));
        ASSERT_TRUE(got) << got.error() << "\n" << text;
        ASSERT_TRUE(*got == sent) << text;
      });
}

TEST_F(RandomProtocols, OlderVersionsKeepWhatTheyKnow) {
  // What an older version gave back encodes to the very same bits in it: nothing is lost twice.
  for_each_body(201, [](const Protocol& protocol, const auto& fields,
                        schema::SampleNumbers& numbers) {
    static std::vector<std::byte> again(std::size_t{1} << 21);
    for (std::uint16_t version = 1; version <= protocol.version; ++version) {
      const Value sent = schema::sample_value(protocol, fields, schema::SampleSize::any, numbers);
      const Coded code = coded(protocol, fields, sent, memory(), version);
      ASSERT_EQ(code.error, Errc::none);
      ASSERT_EQ(code.faults, 0U);
      Value got;
      ASSERT_EQ(decoded(protocol, fields, memory(), code.bits, got, version), Errc::none);
      const Coded second = coded(protocol, fields, got, again, version);
      ASSERT_EQ(second.bits, code.bits) << "version " << version;
      expect_same_bits(memory(), again, code.bits);
      if (testing::Test::HasFatalFailure()) return;
    }
  });
}

TEST_F(RandomProtocols, OnlyCanonicalBitsAreAcceptedAndEveryBitIsExplained) {
  for_each_body(
      301, [](const Protocol& protocol, const auto& fields, schema::SampleNumbers& numbers) {
        static std::vector<std::byte> again(std::size_t{1} << 21);
        const Value sent = schema::sample_value(protocol, fields, schema::SampleSize::any, numbers);
        const Coded code = coded(protocol, fields, sent, memory(), protocol.version);
        for (int round = 0; round < 20; ++round) {
          if (round > 0 && code.bits > 0) {  // the first is as sent, the others one bit off it
            const std::size_t bit = numbers.up_to(code.bits - 1);
            memory()[bit / 8] ^= std::byte{1} << (bit % 8);
          }
          Value got;
          const Errc error = decoded(protocol, fields, memory(), code.bits, got, protocol.version);
          const auto explained =
              schema::explain(protocol, fields, memory(), code.bits, {protocol.version, 0});
          ASSERT_EQ(explained.error, error);
          std::size_t at = 0;
          for (const schema::Span& span : explained.spans) {
            ASSERT_EQ(span.first_bit, at) << span.path;
            at += span.bits;
          }
          ASSERT_EQ(at, code.bits) << "spans have no gaps and no end of their own";
          const auto faults = std::count_if(explained.spans.begin(), explained.spans.end(),
                                            [](const schema::Span& span) { return span.fault; });
          ASSERT_EQ(faults, error == Errc::none ? 0 : 1);
          if (error != Errc::none) continue;
          ASSERT_TRUE(explained.value == got);
          const Coded second = coded(protocol, fields, got, again, protocol.version);
          ASSERT_EQ(second.bits, code.bits);
          ASSERT_EQ(second.faults, 0U);
          expect_same_bits(memory(), again, code.bits);
          if (testing::Test::HasFatalFailure()) return;
        }
      });
}

// Items that have no bits in an older version are bounded by a number of their own: a datagram of
// a few bytes could ask for any number of them.
TEST(EmptyItems, OfAMessageAre65536AtMost) {
  const auto compiled = language::compile(
      "protocol p 2\nchannel c ordered\nrecord R { a : bool since 2 }\n"
      "message M from both on c {\n x : list of R up to 65535\n y : list of R up to 65535\n}\n",
      "p.kw");
  ASSERT_TRUE(compiled.ok()) << language::render(compiled.errors.front(), compiled);
  const Protocol& protocol = compiled.protocol;
  const auto& fields = protocol.messages[0].fields;
  const auto of_lengths = [&](std::uint64_t x, std::uint64_t y) {
    std::array<std::byte, 4> bytes{};
    bits::Writer out(bytes);
    out.put(x, 16);
    out.put(y, 16);
    out.finish();
    Value got;
    const Errc error = decoded(protocol, fields, bytes, 32, got, 1);
    if (error == Errc::none) {
      EXPECT_EQ(got.items[0].items.size(), x);
      EXPECT_EQ(got.items[1].items.size(), y);
    }
    return error;
  };
  EXPECT_EQ(of_lengths(0, 0), Errc::none);
  EXPECT_EQ(of_lengths(65535, 1), Errc::none);
  EXPECT_EQ(of_lengths(65535, 2), Errc::too_long);
  EXPECT_EQ(of_lengths(32768, 32768), Errc::none);
  EXPECT_EQ(of_lengths(32768, 32769), Errc::too_long);
  EXPECT_EQ(of_lengths(65535, 65535), Errc::too_long);
}

}  // namespace runtime_test
}  // namespace kwind
