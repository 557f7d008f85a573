// Entities that are known at run time only, held against generated code: the same columns, and the
// same values between two states.
#include <gtest/gtest.h>

#include <algorithm>
#include <fstream>
#include <iterator>

#include "kwind/language/compile.h"
#include "kwind/replica/code_tables.h"
#include "kwind/schema/columns.h"
#include "kwind/schema/runtime.h"
#include "kwind/schema/sample.h"
#include "refit.h"
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

// The tables of generated code and those that are made at run time, in each version.
TEST(EntityVersions, OfGeneratedCodeAreThoseMadeAtRunTime) {
  const Protocol protocol = compiled("tests/replica/refit.kw");
  const EntityTables tables(protocol);
  const auto expect_same = [](const EntitiesInfo& a, const EntitiesInfo& b) {
    EXPECT_EQ(a.up_to, b.up_to);
    EXPECT_EQ(std::pair(a.since, a.version), std::pair(b.since, b.version));
    ASSERT_EQ(a.types.size(), b.types.size());
    for (std::size_t i = 0; i < a.types.size(); ++i) {
      const EntityInfo& one = *a.types[i];
      const EntityInfo& other = *b.types[i];
      EXPECT_EQ(one.name, other.name);
      EXPECT_EQ(one.type, i);
      EXPECT_EQ(one.life, other.life);
      EXPECT_TRUE(std::ranges::equal(one.columns, other.columns)) << one.name;
      EXPECT_TRUE(std::ranges::equal(one.follows, other.follows)) << one.name;
    }
  };
  expect_same(refit::kEntities, tables.info());
  ASSERT_EQ(refit::kEntities.older.size(), tables.info().older.size());
  for (std::size_t i = 0; i < tables.info().older.size(); ++i) {
    expect_same(*refit::kEntities.older[i], *tables.info().older[i]);
  }
  EXPECT_EQ(&refit::kEntities.in_version(3), &refit::kEntities);
  EXPECT_EQ(refit::kEntities.in_version(2).version, 2);
  EXPECT_EQ(refit::kEntities.in_version(1).types[1]->follows.size(), 0U);
  EXPECT_EQ(refit::kEntities.in_version(2).types[1]->follows.size(), 1U);
  EXPECT_EQ(refit::kProtocol.entities_since, 3);
}

// An old program does not know of what came later, and has the same tables nevertheless.
TEST(EntityVersions, HaveTheTablesOfAProgramThatWasBuiltFromTheOldDescription) {
  const auto first_made = language::compile(R"(protocol refit 1, entities up to 60
channel office ordered
enum Cargo { empty, salt }
entity Tug {
  bearing : angle step 2
  at      : vec2 of real -100..<100 step 1/16
  cargo   : Cargo
  crew    : int 0..9
}
entity Buoy { at : vec2 of real -100..<100 step 1/16, lit : bool }
)",
                                            "refit.kw");
  ASSERT_TRUE(first_made.ok());
  const Protocol& first = first_made.protocol;
  const Protocol newest = compiled("tests/replica/refit.kw");
  EXPECT_EQ(digest_of(first, 1), digest_of(newest, 1));
  const EntityTables old_program(first);
  const EntityTables new_program(newest);
  EXPECT_TRUE(old_program.info().older.empty());
  EXPECT_EQ(new_program.info().older.size(), 2U);
  EXPECT_EQ(new_program.info().since, 3);
  const auto& now = new_program.info().in_version(1);
  EXPECT_EQ(replica::built_in_codes(old_program.info())->digest(),
            replica::built_in_codes(now)->digest());
  EXPECT_NE(replica::built_in_codes(new_program.info())->digest(),
            replica::built_in_codes(now)->digest());
  // Tables that the old program was trained with can be read for its version, and for no other.
  const std::string trained =
      replica::text_of(*replica::built_in_codes(old_program.info()), old_program.info(), "refit");
  EXPECT_TRUE(replica::read_codes(trained, now));
  EXPECT_FALSE(replica::read_codes(trained, new_program.info()));
  EXPECT_FALSE(replica::read_codes(trained, new_program.info().in_version(2)));
}

}  // namespace entity_runtime_test
}  // namespace kwind::schema
