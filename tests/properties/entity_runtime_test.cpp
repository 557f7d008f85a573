// Entities that are known at run time only, held against generated code: the same columns, and the
// same values between two states.
#include <gtest/gtest.h>

#include <fstream>
#include <iterator>

#include "kwind/language/compile.h"
#include "kwind/schema/runtime.h"
#include "kwind/schema/sample.h"
#include "world.h"

namespace kwind::schema {
namespace entity_runtime_test {

std::string text_of(const std::string& path) {
  std::ifstream in(KWIND_SOURCE_DIR "/" + path);
  return {std::istreambuf_iterator<char>(in), {}};
}

Protocol compiled(const std::string& path) {
  const std::string folder = path.substr(0, path.rfind('/') + 1);
  const auto made = language::compile(
      text_of(path), path, [&](const std::string& name) { return std::optional(text_of(name)); });
  EXPECT_TRUE(made.ok()) << path;
  return made.protocol;
}

// The bits of a value, and where each field ends.
struct Bits {
  std::vector<std::byte> memory = std::vector<std::byte>(1 << 16);
  std::size_t count = 0;
  std::vector<std::size_t> ends{};
  friend bool operator==(const Bits&, const Bits&) = default;
};

template <class T>
T generated(const Protocol& protocol, const Entity& entity, const Value& value) {
  Bits bits;
  Encoder out{bits::Writer(bits.memory)};
  encode_value(protocol, entity.fields, value, out);
  out.finish();
  T made;
  Decoder in(bits::Reader(bits.memory, out.bit_count()));
  decode(in, made);
  EXPECT_EQ(in.error(), Errc::none);
  return made;
}

template <class T>
Bits bits_of(const T& value) {
  Bits bits;
  Encoder out{bits::Writer(bits.memory)};
  encode(out, value);
  bits.count = out.bit_count();
  out.finish();
  return bits;
}

template <class T>
void compare(const Protocol& protocol) {
  const auto found =
      std::find_if(protocol.entities.begin(), protocol.entities.end(),
                   [](const Entity& each) { return each.name == T::entity_info().name; });
  ASSERT_NE(found, protocol.entities.end());
  const Entity& entity = *found;
  SampleNumbers numbers(11);
  for (int round = 0; round < 60; ++round) {
    const Value from = sample_value(protocol, entity.fields, SampleSize::any, numbers);
    const Value to = sample_value(protocol, entity.fields, SampleSize::any, numbers);
    const T first = generated<T>(protocol, entity, from);
    const T second = generated<T>(protocol, entity, to);

    Bits ours;
    Encoder out{bits::Writer(ours.memory)};
    encode_columns(protocol, entity, from, out, [&] { ours.ends.push_back(out.bit_count()); });
    ours.count = out.bit_count();
    out.finish();
    Bits theirs;
    Encoder expected{bits::Writer(theirs.memory)};
    encode_columns(expected, first, [&] { theirs.ends.push_back(expected.bit_count()); });
    theirs.count = expected.bit_count();
    expected.finish();
    EXPECT_EQ(ours, theirs) << entity.name;

    for (const double part : {0.0, 0.25, 0.5, 0.999, 1.0}) {
      const Value between = blended_entity(protocol, entity, from, to, part);
      EXPECT_EQ(bits_of(generated<T>(protocol, entity, between)),
                bits_of(blend(first, second, part)))
          << entity.name << " at " << part;
    }
  }
}

TEST(EntityRuntime, HasTheColumnsAndTheBetweenOfGeneratedCode) {
  const Protocol world = compiled("examples/descriptions/world.kw");
  compare<::world::Tug>(world);
  compare<::world::Barge>(world);
  compare<::world::Buoy>(world);
  compare<::world::Gull>(world);
  compare<::world::Crate>(world);
}

}  // namespace entity_runtime_test
}  // namespace kwind::schema
