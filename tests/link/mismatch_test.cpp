#include "link/handshake/mismatch.h"

#include <fmt/format.h>
#include <gtest/gtest.h>

#include "link/handshake/handshake.h"

namespace kwind::link {
namespace mismatch_test {

// Speaks versions `oldest` to `newest`; declarations are names with digests, alive from 1 on.
Identity identity(std::uint16_t oldest, std::uint16_t newest,
                  std::vector<DeclarationDigest> declarations) {
  Identity made;
  made.name = "test";
  for (std::uint16_t v = newest; v >= oldest; --v) made.versions.push_back({v, {}});
  made.declarations = std::move(declarations);
  return made;
}

std::string difference(const Identity& client, const Identity& server) {
  return explain_mismatch(client, mismatch_of(server, client));
}

TEST(Mismatch, NamesTheFirstDeclarationThatDiffersAndTheOlderSide) {
  const Identity ours = identity(1, 3, {{"office", 1, 11}, {"Hail", 1, 22}, {"Bell", 1, 33}});
  Identity theirs = identity(1, 5, {{"office", 1, 11}, {"Hail", 1, 23}, {"Bell", 1, 34}});
  EXPECT_EQ(difference(ours, theirs),
            "in version 3 `Hail` is the first that differs; the client is older (its newest: 3, "
            "the server's: 5)");
  EXPECT_EQ(difference(theirs, ours),
            "in version 3 `Hail` is the first that differs; the server is older (its newest: 5, "
            "the server's: 3)");
  theirs = identity(1, 3, {{"office", 1, 11}, {"Hail", 1, 22}, {"Bell", 1, 34}});
  EXPECT_EQ(difference(ours, theirs),
            "in version 3 `Bell` is the first that differs; both call it their newest, so one was "
            "changed without a new version (its newest: 3, the server's: 3)");
}

TEST(Mismatch, ComparesTheNewestVersionThatBothList) {
  // Hail changed in version 4, which only the server has; in 2 the server's Bell is another.
  const Identity ours = identity(1, 2, {{"Hail", 1, 22}, {"Bell", 1, 33}});
  const Identity theirs =
      identity(1, 4, {{"Hail", 1, 22}, {"Hail", 4, 24}, {"Bell", 1, 33}, {"Bell", 2, 35}});
  EXPECT_EQ(difference(ours, theirs).substr(0, 45),
            "in version 2 `Bell` is the first that differs");
}

TEST(Mismatch, TellsAdditionsRemovalsAndVersionsFarApart) {
  const Identity few = identity(1, 1, {{"Hail", 1, 22}});
  const Identity more = identity(1, 1, {{"Hail", 1, 22}, {"Bell", 1, 33}});
  EXPECT_EQ(difference(few, more).substr(0, 59),
            "in version 1 the server declares something behind `Hail`; b");
  EXPECT_EQ(difference(more, few).substr(0, 45), "in version 1 `Bell` is the first that differs");
  EXPECT_EQ(difference(identity(1, 2, {}), identity(5, 20, {})),
            "the server speaks versions 5 to 20, this client versions 1 to 2: the client is older");
}

TEST(Mismatch, OfManyDeclarationsStaysWithinAHello) {
  std::vector<DeclarationDigest> all;
  for (std::uint32_t i = 0; i < 1000; ++i) all.push_back({fmt::format("M{}", i), 1, i + 1});
  const Identity ours = identity(1, 1, all);
  all[777].digest = 5;
  const Identity theirs = identity(1, 1, all);
  const Mismatch said = mismatch_of(theirs, ours);
  EXPECT_EQ(said.digests.size(), 200U);
  EXPECT_EQ(said.group, 5);
  EXPECT_EQ(explain_mismatch(ours, said).substr(0, 61),
            "in version 1 the first that differs is among `M775` to `M779`");
  std::array<std::byte, kBaseDatagramBytes> out{};
  const Accept refusal{{}, {Errc::schema_mismatch, "", said}};
  const std::size_t size = write(refusal, out);
  EXPECT_LE(size, kMaxAcceptPayloadBytes) << "never more than the offer that asked";
  const auto back = read_accept(std::span(out).first(size));
  ASSERT_TRUE(back);
  EXPECT_EQ(back->refusal.mismatch, said);
  for (std::size_t cut = 0; cut < size; ++cut) {
    EXPECT_FALSE(read_accept(std::span(out).first(cut))) << cut;
  }
}

}  // namespace mismatch_test
}  // namespace kwind::link
