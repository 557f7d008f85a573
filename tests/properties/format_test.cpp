#include "kwind/schema/format.h"

#include <gtest/gtest.h>

#include "hails.h"
#include "manifest.h"
#include "world.h"

namespace kwind {
namespace format_test {

TEST(Formatting, PrintsGeneratedStructsForPeople) {
  world::Helm helm;
  helm.tug = {7, 2};
  helm.tick = 900;
  helm.rudder = 0.25;
  helm.throttle = 50;
  EXPECT_EQ(fmt::format("{}", helm), "Helm{tug: 7/2, tick: 900, rudder: 0.25, throttle: 50}");
  hails::Hail hail;
  EXPECT_EQ(fmt::format("{}", hail), "Hail{words: \"ahoy\", tone: plain, mark: none}");
  hail.words = "a\nb\"";
  hail.mark = hails::Mark{1, 2.5};
  EXPECT_EQ(fmt::format("{}", hail),
            "Hail{words: \"a\\x0ab\\x22\", tone: plain, mark: {x: 1, y: 2.5}}");
  EXPECT_EQ(fmt::format("{:>8}", hails::Tone::mayday), "  mayday");
}

TEST(Formatting, KnowsVariantsListsVectorsAndFlags) {
  manifest::Hold hold;
  EXPECT_EQ(fmt::format("{}", hold), "{number: 1, content: nothing, sealed: 0}");
  manifest::FragmentedEntity fragmented;
  fragmented.seal = {std::byte{15}};
  fragmented.handling.fragile = true;
  hold.content = manifest::Hold::Content::Parcels{{fragmented}};
  EXPECT_EQ(fmt::format("{}", hold),
            "{number: 1, content: parcels [{label: \"\", seal: [0f], handling: {keep_dry: false, "
            "keep_cold: false, this_way_up: false, fragile: true}}], sealed: 0}");
  world::Gull gull;
  EXPECT_EQ(fmt::format("{}", gull), "{at: [0, 0], height: 0, attitude: (1, 0, 0, 0)}");
}

}  // namespace format_test
}  // namespace kwind
