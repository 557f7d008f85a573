// State digests: a value that differs shows, and the sum of shares does not depend on the order.
#include "replica/coding/state_digest.h"

#include <gtest/gtest.h>

#include <set>

#include "bay.h"

namespace kwind::replica {
namespace state_digest_test {

OwnRow row_of(const EntityModel& model) {
  OwnRow row;
  row.numbers.assign(model.columns(), 7);
  row.varying.assign(model.varying(), nullptr);
  return row;
}

TEST(StateDigest, AnyColumnThatDiffersShows) {
  for (const schema::EntityInfo* type : bay::kEntities.types) {
    SCOPED_TRACE(type->name);
    const EntityModel model(*type, 20);
    const OwnRow row = row_of(model);
    const std::uint32_t digest = digest_of(model, row, true);
    for (std::size_t c = 0; c < model.columns(); ++c) {
      OwnRow other = row;
      if (type->columns[c].form == schema::ColumnForm::varying) {
        other.varying[model.varying_place(c)] =
            std::make_shared<const BitString>(BitString{{std::byte{3}}, 2});
      } else {
        other.numbers[c] ^= 1;
      }
      EXPECT_NE(digest_of(model, other, true), digest) << c;
      if (type->columns[c].owner_only) {
        EXPECT_EQ(digest_of(model, other, false), digest_of(model, row, false))
            << c << ": who is not the owner has no such value";
      }
    }
  }
}

TEST(StateDigest, AShareTellsEntityGenerationOwnerAndTickApart) {
  const std::uint32_t share = share_of(1234, EntityId(5), 6, false, Tick(7));
  EXPECT_EQ(share, share_of(1234, EntityId(5), 6, false, Tick(7)));
  // The first argument is a digest itself: two of them differ in half of their bits.
  std::set<std::uint32_t> others{share,
                                 share_of(0x9e3779b9, EntityId(5), 6, false, Tick(7)),
                                 share_of(1234, EntityId(6), 6, false, Tick(7)),
                                 share_of(1234, EntityId(5), 7, false, Tick(7)),
                                 share_of(1234, EntityId(5), 6, true, Tick(7)),
                                 share_of(1234, EntityId(5), 6, false, Tick(8))};
  EXPECT_EQ(others.size(), 6U);
}

}  // namespace state_digest_test
}  // namespace kwind::replica
