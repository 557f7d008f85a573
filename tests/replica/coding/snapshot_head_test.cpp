// Heads of snapshots: every one comes back as it was written, and none is read from less.
#include "replica/coding/snapshot_head.h"

#include <gtest/gtest.h>

#include <array>
#include <random>
#include <string>
#include <utility>

#include "bay.h"
#include "kit/sweep.h"
#include "replica/coding/code_tables.h"

namespace kwind::replica {
namespace snapshot_head_test {

class SnapshotHeads : public testing::Test {
 protected:
  struct Written {
    std::array<std::byte, 64> bytes{};
    std::size_t bits = 0;
  };
  Written write(const SnapshotMark& mark, const SnapshotMark* newest,
                std::optional<std::uint32_t> digest, const Sections& sections) const {
    Written made;
    bits::Writer out(made.bytes);
    write_head(out, mark, newest, digest, sections, terms_, heads(), nullptr);
    made.bits = out.bit_count();
    out.finish();
    return made;
  }
  // Snapshots of two ticks, of which the second builds on the first.
  static std::pair<SnapshotMark, SnapshotMark> two_in_a_row() {
    SnapshotMark base;
    base.snapshot = SnapshotNumber(10);
    base.tick = Tick(40);
    base.newest = SnapshotNumber(9);
    SnapshotMark mark = base;
    mark.snapshot = SnapshotNumber(11);
    mark.tick = Tick(41);
    mark.newest = base.snapshot;
    return {base, mark};
  }
  [[nodiscard]] const PrefixCode& heads() const { return tables_.inside().heads; }

  CodeTables tables_{SymbolCounts::expected(bay::kEntities)};
  SnapshotTerms terms_{tick_rate_of(20), static_cast<std::uint16_t>(tables_.digest()), false};
};

bool same(const Sections& a, const Sections& b) {
  return a.continuing == b.continuing && a.unexpected == b.unexpected && a.spawns == b.spawns &&
         a.fragments == b.fragments;
}

TEST_F(SnapshotHeads, ComeBackAsTheyWereWritten) {
  for (const std::uint64_t seed : kit::seeds(2000, 200000)) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    std::mt19937_64 random(seed);
    const auto up_to = [&](std::uint32_t most) {
      return static_cast<std::uint32_t>(random() % (std::uint64_t{most} + 1));
    };
    SnapshotMark base;
    base.snapshot = SnapshotNumber(200 + up_to(1000));
    base.tick = Tick(500 + up_to(100000));
    base.start = base.snapshot - up_to(100);
    base.newest = base.snapshot - 1 - up_to(random() % 4 == 0 ? kSnapshotWindow - 2 : 2);
    base.input = up_to(kMaxInput);
    SnapshotMarks marks;
    marks.add(base);
    SnapshotMark mark;
    mark.snapshot = base.snapshot + 1 + up_to(random() % 4 == 0 ? kSnapshotWindow - 2 : 3);
    mark.tick = base.tick + up_to(random() % 2 == 0 ? 3 : 70000);
    mark.start = base.start;
    mark.newest = base.snapshot;
    mark.input = random() % 2 == 0 ? base.input : up_to(kMaxInput);
    const std::uint32_t between = sent_between(base);
    mark.between = random() & (between == 0 ? 0 : ~std::uint64_t{0} >> (64 - between));
    const Sections sections{random() % 2 == 0, random() % 2 == 0, random() % 2 == 0,
                            random() % 4 == 0};
    std::optional<std::uint32_t> digest;
    if (random() % 3 == 0) digest = up_to(0xffff);
    const bool full = random() % 5 == 0;
    if (full) {
      mark.newest = {};
      mark.between = 0;
      mark.start = mark.snapshot - up_to(50);
    }
    const Written made = write(mark, full ? nullptr : &base, digest, sections);
    const auto read = [&](std::size_t bits, std::optional<std::uint32_t>& digest_read,
                          Sections& sections_read) {
      bits::Reader in(made.bytes, bits);
      SnapshotTerms told = terms_;
      return read_head(in, marks, base.snapshot + up_to(3), told, digest_read, sections_read,
                       heads(), nullptr);
    };
    std::optional<std::uint32_t> digest_read;
    Sections sections_read;
    const auto back = read(made.bits, digest_read, sections_read);
    ASSERT_TRUE(back) << error_info(back.error()).text;
    EXPECT_EQ(*back, mark);
    EXPECT_EQ(digest_read, digest);
    // A full snapshot has no entities that continue, or are known otherwise.
    const Sections expected =
        full ? Sections{false, false, sections.spawns, sections.fragments} : sections;
    EXPECT_TRUE(same(sections_read, expected));
    EXPECT_EQ(low_of_snapshot(made.bytes), mark.snapshot.raw() & kSnapshotLowMask);
    if (!full) {
      EXPECT_EQ(snapshot_number(made.bytes, base.snapshot), mark.snapshot);
    }
    for (std::size_t bits = 0; bits < made.bits; ++bits) {
      digest_read.reset();
      EXPECT_FALSE(read(bits, digest_read, sections_read)) << bits << " of " << made.bits;
    }
  }
}

TEST_F(SnapshotHeads, TheUsualOneTakesAFewBits) {
  auto [base, mark] = two_in_a_row();
  const std::size_t bits = write(mark, &base, std::nullopt, {true, false, false, false}).bits;
  EXPECT_LE(bits, 12U);
}

TEST_F(SnapshotHeads, SaysWhatIsMissingOrWrong) {
  auto [base, mark] = two_in_a_row();
  const Written delta = write(mark, &base, std::nullopt, {});
  const auto error_of = [&](const Written& made, const SnapshotMarks& marks, std::uint32_t latest,
                            const SnapshotTerms& terms) {
    bits::Reader in(made.bytes, made.bits);
    SnapshotTerms told = terms;
    std::optional<std::uint32_t> digest;
    Sections sections;
    const auto read =
        read_head(in, marks, SnapshotNumber(latest), told, digest, sections, heads(), nullptr);
    return read ? Errc::none : read.error();
  };
  SnapshotMarks with_base;
  with_base.add(base);
  EXPECT_EQ(error_of(delta, with_base, 10, terms_), Errc::none);
  EXPECT_EQ(error_of(delta, {}, 10, terms_), Errc::base_missing);
  EXPECT_EQ(error_of(delta, {}, 0, terms_), Errc::base_missing) << "nothing has come yet";
  mark.newest = {};
  const Written full = write(mark, nullptr, std::nullopt, {});
  EXPECT_EQ(error_of(full, {}, 0, terms_), Errc::none);
  SnapshotTerms other = terms_;
  ++other.codes;
  EXPECT_EQ(error_of(full, {}, 0, other), Errc::code_tables);
}

}  // namespace snapshot_head_test
}  // namespace kwind::replica
