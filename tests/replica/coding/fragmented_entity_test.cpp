// Both ends of a fragmented entity: over a path that loses and reorders, the bits arrive whole.
#include "replica/coding/fragmented_entity.h"

#include <gtest/gtest.h>

#include <deque>
#include <random>
#include <vector>

#include "kit/sweep.h"
#include "kwind/bits/reader.h"

namespace kwind::replica {
namespace fragmented_entity_test {

std::vector<std::byte> random_bytes(std::mt19937_64& random, std::size_t bytes) {
  std::vector<std::byte> made(bytes);
  for (std::byte& byte : made) byte = static_cast<std::byte>(random());
  return made;
}

TEST(FragmentedEntity, ArrivesWholeOverALossyPath) {
  for (const std::uint64_t seed : kit::seeds(100, 5000)) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    std::mt19937_64 random(seed);
    FragmentedEntity sender;
    FragmentAssembly receiver;
    std::uint32_t snapshot = 0;
    for (int entity = 0; entity < 3; ++entity) {
      const std::size_t bits = 2 * kFragmentBits + random() % 20000;
      const auto bytes = random_bytes(random, bits / 8 + 1);
      sender.pack(bytes, bits);
      sender.id = EntityId(5);
      ASSERT_EQ(sender.fragments(), bits / kFragmentBits);
      std::deque<FragmentRun> in_flight;
      for (int guard = 0; !sender.all_there(); ++guard) {
        ASSERT_LT(guard, 100000);
        if (const FragmentRun run = sender.waiting(1 + random() % 20); run.count > 0) {
          sender.send(run);
          in_flight.push_back(run);
        }
        if (in_flight.empty() || random() % 2 == 0) continue;
        const std::size_t which = random() % in_flight.size();
        const FragmentRun run = in_flight[which];
        in_flight.erase(in_flight.begin() + static_cast<std::ptrdiff_t>(which));
        if (random() % 4 == 0) {
          sender.lose(run);
          continue;
        }
        std::vector<std::byte> carried(run.count * kFragmentBytes);
        bits::Writer out(carried);
        sender.write(out, run);
        ASSERT_EQ(out.finish(), carried.size());
        ASSERT_TRUE(receiver.reaches(run.number, run.first + std::uint64_t{run.count}));
        receiver.take(SnapshotNumber(++snapshot), run, carried);
        sender.arrive(run);
      }
      const auto ahead = receiver.first(sender.number, sender.fragments());
      ASSERT_EQ(ahead.size(), sender.fragments() * kFragmentBytes);
      EXPECT_TRUE(std::equal(ahead.begin(), ahead.end(), bytes.begin()));
      std::vector<std::byte> rest(kFragmentBytes);
      bits::Writer out(rest);
      sender.write_rest(out);
      EXPECT_EQ(out.bit_count(), bits % kFragmentBits);
      out.finish();
      bits::Reader in(rest, bits % kFragmentBits);
      bits::Reader expected(bytes, bits);
      expected.skip(sender.fragments() * kFragmentBits);
      while (in.left_bits() > 0) EXPECT_EQ(in.get(1), expected.get(1));
    }
  }
}

TEST(FragmentedEntity, WhatIsLostWaitsAgainAndWhatArrivedDoesNot) {
  FragmentedEntity sender;
  const std::vector<std::byte> bytes(kFragmentBytes * 4);
  sender.pack(bytes, bytes.size() * 8);
  sender.id = EntityId(1);
  const FragmentRun all = sender.waiting(10);
  EXPECT_EQ(all.count, 4U);
  sender.send(all);
  EXPECT_EQ(sender.waiting(10).count, 0U);
  sender.arrive({sender.number, 1, 1});
  sender.lose(all);
  EXPECT_EQ(sender.waiting(10).count, 1U) << "the one before what arrived";
  // Reports of an older fragmented entity change nothing.
  const std::uint8_t old = sender.number;
  sender.pack(bytes, bytes.size() * 8);
  sender.arrive({old, 0, 4});
  EXPECT_FALSE(sender.all_there());
}

TEST(FragmentedEntity, ChunksOfAnOlderOneAreOfNoUse) {
  FragmentAssembly receiver;
  const std::vector<std::byte> ones(kFragmentBytes, std::byte{1});
  const std::vector<std::byte> twos(kFragmentBytes, std::byte{2});
  receiver.take(SnapshotNumber(5), {2, 0, 1}, twos);
  receiver.take(SnapshotNumber(4), {1, 0, 1}, ones);
  ASSERT_FALSE(receiver.first(2, 1).empty());
  EXPECT_EQ(receiver.first(2, 1).front(), std::byte{2});
  EXPECT_TRUE(receiver.first(1, 1).empty());
  EXPECT_TRUE(receiver.first(2, 2).empty()) << "the second has not come";
  EXPECT_FALSE(receiver.reaches(2, 1U << 20)) << "memory is not taken for what is claimed";
}

}  // namespace fragmented_entity_test
}  // namespace kwind::replica
