// Generated code against the runtime codec: the same bits in every version, both ways, for the
// descriptions in examples/descriptions and three random ones.
#include <gtest/gtest.h>
#include <sys/stat.h>

#include <cmath>
#include <cstdlib>
#include <fstream>

#include "awkward_d.h"
#include "awkward_d_client.h"
#include "awkward_d_server.h"
#include "awkward_e.h"
#include "chart.h"
#include "every_type.h"
#include "hails.h"
#include "kit/descriptions.h"
#include "kit/random_description.h"
#include "kit/sweep.h"
#include "kwind/replica/world.h"
#include "kwind/schema/blend.h"
#include "log.h"
#include "log_client.h"
#include "log_server.h"
#include "manifest.h"
#include "properties/comparison.h"
#include "random_a.h"
#include "random_b.h"
#include "random_c.h"
#include "world.h"

namespace kwind {
namespace generated_test {

TEST(Generated, EqualsTheRuntimeCodecForTheExamples) {
  KWIND_COMPARE(world, "/examples/descriptions/world.kw");
  KWIND_COMPARE(hails, "/examples/descriptions/hails.kw");
  KWIND_COMPARE(manifest, "/examples/descriptions/manifest.kw");
  KWIND_COMPARE(chart, "/examples/descriptions/chart.kw");
  KWIND_COMPARE(every_type, "/tests/schema/every_type.kw");
}

TEST(Generated, EqualsTheRuntimeCodecForRandomDescriptions) {
  KWIND_COMPARE(random_a, "/tests/properties/random_a.kw");
  KWIND_COMPARE(random_b, "/tests/properties/random_b.kw");
  KWIND_COMPARE(random_c, "/tests/properties/random_c.kw");
}

TEST(Generated, EqualsTheRuntimeCodecWhateverThingsAreCalled) {
  KWIND_COMPARE(log_, "/tests/properties/awkward_names.kw");
  KWIND_COMPARE(awkward_d, "/tests/properties/awkward_d.kw");
  KWIND_COMPARE(awkward_e, "/tests/properties/awkward_e.kw");
}

TEST(Generated, StructsOfAwkwardNamesCanBeUsed) {
  log_::Choices choices{};
  choices.k = log_::Choices::K::Fee{7};
  EXPECT_EQ(std::get<log_::Choices::K::Fee>(choices.k).value, 7);
  EXPECT_EQ(choices.note, "salt");
  log_::server::Tug tug{};
  tug.mate = kwind::schema::Ref<log_::Tug>{3, 1};
  log_::client::Tug other{};
  other.boats.push_back(tug.mate);
  EXPECT_EQ(log_::Ask::info().name, "Ask");
  log_::Declarations plain{};
  plain.v.a = 2;
  plain.errno_ = plain.class_ = true;
  EXPECT_EQ(plain.v.a, 2);
  // The widest integer is no column of so many bits, and corrupts none behind it.
  replica::World world(log_::kEntities);
  ASSERT_TRUE(world.spawn(log_::Mark{}));
  const auto& columns = log_::Tug::entity_info().columns;
  ASSERT_EQ(columns.size(), 3U);
  EXPECT_EQ(columns[1].form, schema::ColumnForm::varying);
  // Sizes hold for every version that is spoken.
  EXPECT_GE(log_::Old::info().max_bits, 8U * 100);
}

TEST(Blend, IntegersVectorsAndFarNumbersGoStraight) {
  using schema::blended;
  EXPECT_EQ(blended(0, 9, 0.9), 8);
  EXPECT_EQ(blended(Eigen::Vector3i(0, 0, 9), Eigen::Vector3i(9, -9, 0), 0.9),
            Eigen::Vector3i(8, -8, 1));
  constexpr std::int64_t kMax = std::numeric_limits<std::int64_t>::max();
  EXPECT_EQ(blended(kMax - 1, kMax - 1, 0.5), kMax - 1);
  EXPECT_EQ(blended(kMax - 2, kMax, 0.5), kMax - 1);
  EXPECT_EQ(blended(-kMax - 1, kMax, 1.0), kMax);
  EXPECT_EQ(blended(-1.7e308, 1.7e308, 0.5), 0);
  EXPECT_EQ(blended(-1.7e308, 1.7e308, 1.0), 1.7e308);
}

TEST(Generated, RandomDescriptionsAreThoseOfTheirSeeds) {
  // KWIND_REWRITE=1 writes them anew; then build and test again. The sweep writes those of
  // KWIND_SEED, with KWIND_MESSAGES messages (12), to KWIND_INTO.
  if (const char* into = std::getenv("KWIND_INTO")) {
    const std::string seed = std::getenv("KWIND_SEED");
    const std::string protocol = "random_" + seed;
    const char* const wanted = std::getenv("KWIND_MESSAGES");
    const std::size_t messages = wanted != nullptr ? std::stoul(wanted) : 12;
    std::ofstream(std::string(into) + "/" + protocol + ".kw")
        << kit::RandomDescription(std::stoull(seed), messages, true).text(protocol);
    return;
  }
  for (const char name : {'d', 'e'}) {
    const std::string protocol = fmt::format("awkward_{}", name);
    const std::string path = fmt::format("{}/tests/properties/{}.kw", KWIND_SOURCE_DIR, protocol);
    const std::string text =
        kit::RandomDescription(static_cast<std::uint64_t>(name), 10, true).text(protocol);
    if (std::getenv("KWIND_REWRITE") != nullptr) std::ofstream(path, std::ios::binary) << text;
    EXPECT_EQ(kit::read_file(path).value_or(""), text);
  }
  for (const char name : {'a', 'b', 'c'}) {
    const std::string protocol = fmt::format("random_{}", name);
    const std::string path = fmt::format("{}/tests/properties/{}.kw", KWIND_SOURCE_DIR, protocol);
    const std::string text =
        kit::RandomDescription(static_cast<std::uint64_t>(name), 20).text(protocol);
    if (std::getenv("KWIND_REWRITE") != nullptr) std::ofstream(path, std::ios::binary) << text;
    EXPECT_EQ(kit::read_file(path).value_or(""), text);
  }
}

}  // namespace generated_test
}  // namespace kwind
