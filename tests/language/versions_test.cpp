// Versions: digests that later files keep, and what `compare` says of a change.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <algorithm>

#include "kit/random_description.h"
#include "kit/sweep.h"
#include "kwind/language/compare.h"
#include "kwind/language/compile.h"

namespace kwind::language {
namespace versions_test {

schema::Protocol compiled(const std::string& text) {
  const Compiled made = compile(text, "test.kw");
  EXPECT_TRUE(made.ok()) << (made.ok() ? "" : render(made.errors.front(), made));
  return made.protocol;
}

const std::string kFirst = R"(protocol pier 1, peers up to 64
channel office ordered
enum Tone { plain, urgent }
record Spot { x : int 0..99, y : int 0..99 }
message Hail from both on office { words : text 60, tone : Tone, at : Spot }
message Bell from server on office { times : int 1..8 }
)";

// The same protocol two versions on.
const std::string kThird = R"(protocol pier 3, peers up to 64
channel office ordered
channel fleet  sequenced since 2
enum Tone { plain, mayday since 3 else urgent, urgent }
record Spot { x : int 0..99, depth : int 0..20 since 3, y : int 0..99 }
message Fleet from server on fleet since 2 { tugs : list of Spot up to 9 }
message Hail from both on office { to : maybe peer since 2, words : text 60, tone : Tone, at : Spot }
message Bell from server on office until 3 { times : int 1..8 }
)";

TEST(Versions, ALaterFileGivesAnOldVersionTheSameDigest) {
  const schema::Protocol third = compiled(kThird);
  EXPECT_EQ(schema::canonical_listing(third, 1), schema::canonical_listing(compiled(kFirst), 1));
  // Golden: these are what released peers compare. They never change.
  EXPECT_EQ(to_hex(schema::digest_of(third, 1), 16), "e821e2b504bb4611153f219a30e5abea");
  EXPECT_EQ(to_hex(schema::digest_of(third, 2), 16), "6c17cf6a4d41d24c33ca1a3a0d55959a");
  EXPECT_EQ(to_hex(schema::digest_of(third, 3), 16), "c42e722c0a2fd3de9565dfc9f07bd267");
}

TEST(Versions, AreTheNewestSixteen) {
  EXPECT_EQ(schema::oldest_version(compiled("protocol p 3\n")), 1);
  EXPECT_EQ(schema::oldest_version(compiled("protocol p 16\n")), 1);
  EXPECT_EQ(schema::oldest_version(compiled("protocol p 40\n")), 25);
}

Impact worst(const std::vector<Change>& changes) {
  Impact impact = Impact::harmless;
  for (const Change& change : changes) impact = std::max(impact, change.impact);
  return impact;
}

bool share_old_versions(const schema::Protocol& before, const schema::Protocol& after) {
  for (std::uint16_t v = schema::oldest_version(before); v <= before.version; ++v) {
    if (v < schema::oldest_version(after) || v > after.version) return false;
    if (schema::digest_of(before, v) != schema::digest_of(after, v)) return false;
  }
  return true;
}

TEST(Compare, FindsNothingInWhatIsTheSame) {
  EXPECT_TRUE(compare(compiled(kFirst), compiled(kFirst)).empty());
}

TEST(Compare, CallsAdditionsWithALifeSpanHarmless) {
  const auto changes = compare(compiled(kFirst), compiled(kThird));
  EXPECT_EQ(worst(changes), Impact::harmless);
  std::string all;
  for (const Change& change : changes) all += change.where + ": " + change.what + "\n";
  EXPECT_EQ(all, R"(protocol: version 3 is new
channel fleet: it is new, since 2
Tone, value mayday: it is new, since 3
record Spot, field depth: it is new, since 3
message Hail, field to: it is new, since 2
message Bell: it lives since 1 until 3 now
message Fleet: it is new, since 2
)");
}

struct Edit {
  const char* from;
  const char* to;
  Impact impact;
  const char* where;
};

TEST(Compare, JudgesEachKindOfChange) {
  const schema::Protocol before = compiled(kFirst);
  for (const Edit& edit : {
           Edit{"pier 1", "pier 2", Impact::harmless, "protocol"},
           {"pier 1", "quay 1", Impact::breaks, "protocol"},
           {"up to 64", "up to 128", Impact::harmless, "protocol"},
           {"office ordered", "office reliable", Impact::breaks, "channel office"},
           {"office ordered", "office ordered bulk", Impact::harmless, "channel office"},
           {"office ordered\n", "office ordered\nchannel b ordered\n", Impact::needs_since,
            "channel b"},
           {"plain, urgent", "urgent, plain", Impact::breaks, "Tone, value urgent"},
           {"plain, urgent", "plain, urgent, calm", Impact::needs_since, "Tone, value calm"},
           {"plain, urgent", "plain", Impact::breaks, "Tone, value urgent"},
           {"y : int 0..99", "y : int 0..100", Impact::breaks, "record Spot, field y"},
           {"y : int 0..99", "y : int 0..99 = 5", Impact::harmless, "record Spot, field y"},
           {"y : int 0..99", "y : int 0..99 in metres", Impact::harmless, "record Spot, field y"},
           {"x : int 0..99, y", "y", Impact::breaks, "record Spot, field x"},
           {"text 60", "text 61", Impact::breaks, "message Hail, field words"},
           {"words : text 60, tone : Tone", "tone : Tone, words : text 60", Impact::breaks,
            "message Hail, field tone"},
           {"at : Spot }", "at : Spot, by : bool }", Impact::needs_since, "message Hail, field by"},
           {"at : Spot }", "at : list of Spot up to 3 }", Impact::breaks, "message Hail, field at"},
           {"Hail from both on office", "Hail from client on office", Impact::breaks,
            "message Hail"},
           {"Hail from both on office", "Hail from both on office, at most 9/s", Impact::breaks,
            "message Hail"},
           {"message Bell", "# Ding.\nmessage Bell", Impact::harmless, "message Bell"},
           {"message Bell", "message Gong", Impact::breaks, "message Bell"},
           {"times : int 1..8 }", "times : int 1..8 }\nentity Buoy { lit : bool }",
            Impact::needs_since, "entity Buoy"},
       }) {
    std::string text = kFirst;
    const std::size_t at = text.find(edit.from);
    ASSERT_NE(at, std::string::npos) << edit.from;
    text.replace(at, std::string(edit.from).size(), edit.to);
    if (text.find("entity") != std::string::npos) {
      text.replace(text.find("peers"), 5, "entities up to 9, peers");
    }
    const schema::Protocol after = compiled(text);
    const auto changes = compare(before, after);
    EXPECT_EQ(worst(changes), edit.impact) << edit.to;
    EXPECT_EQ(worst(changes) == Impact::harmless, share_old_versions(before, after)) << edit.to;
    EXPECT_TRUE(std::any_of(changes.begin(), changes.end(),
                            [&](const Change& change) {
                              return change.where == edit.where && change.impact == edit.impact &&
                                     (change.fix.empty() == (change.impact == Impact::harmless));
                            }))
        << edit.to << ": " << (changes.empty() ? "no change" : changes.front().where);
  }
}

TEST(Compare, AgreesWithTheDigestsOfRandomDescriptions) {
  // A few lines of a random description are left out, doubled or changed; whatever still compiles
  // is judged, and the judgement held against the digests.
  int compared = 0;
  int harmless = 0;
  for (const std::uint64_t seed : kit::seeds(150, 5000)) {
    const std::string text = kit::RandomDescription(seed, 6).text("made_up");
    const schema::Protocol before = compiled(text);
    schema::SampleNumbers numbers(seed);
    for (int round = 0; round < 6; ++round) {
      std::vector<std::string> lines;
      for (std::size_t at = 0; at < text.size();) {
        const std::size_t end = text.find('\n', at);
        lines.push_back(text.substr(at, end - at));
        at = end + 1;
      }
      const std::size_t line = numbers.up_to(lines.size() - 1);
      switch (numbers.up_to(4)) {
        case 0: lines.erase(lines.begin() + static_cast<std::ptrdiff_t>(line)); break;
        case 1: std::swap(lines[line], lines[numbers.up_to(lines.size() - 1)]); break;
        case 2: lines[line] += " since 3"; break;
        case 3:
          lines[0].replace(lines[0].find(" 4,"), 3, " 5,");
          lines[line] += "\n  fresh : bool since 5";
          break;
        default: lines[line] += "\n  fresh : bool"; break;
      }
      std::string changed;
      for (const std::string& each : lines) changed += each + "\n";
      const Compiled after = compile(changed, "changed.kw");
      if (!after.ok()) continue;
      ++compared;
      const bool fine = worst(compare(before, after.protocol)) == Impact::harmless;
      harmless += fine ? 1 : 0;
      ASSERT_EQ(fine, share_old_versions(before, after.protocol)) << "seed " << seed << "\n"
                                                                  << changed;
    }
  }
  EXPECT_GT(compared, 100);
  EXPECT_GT(harmless, 10);
}

bool breaks(const std::string& before, const std::string& after) {
  const auto changes = compare(compiled(before), compiled(after));
  const bool any = std::any_of(changes.begin(), changes.end(), [](const Change& change) {
    return change.impact != Impact::harmless;
  });
  // What is said is what the handshake will do.
  const schema::Protocol old_one = compiled(before);
  const schema::Protocol new_one = compiled(after);
  EXPECT_EQ(schema::digest_of(old_one, 1) != schema::digest_of(new_one, 1), any) << after;
  return any;
}

TEST(Versions, WhatAClientWorldCouldNotReadIsRefusedBeforeItTries) {
  const std::string head = "protocol pier {}, entities up to {}\nchannel c ordered\n";
  const auto text = [&](int version, int max, const std::string& rest) {
    return fmt::format(fmt::runtime(head), version, max) + rest;
  };
  const std::string tug = "entity Tug { a : int 0..9, b : bool }\n";
  EXPECT_TRUE(breaks(text(1, 10, tug), text(1, 1000, tug))) << "ids beyond the limit are refused";
  EXPECT_TRUE(
      breaks(text(1, 10, tug), text(2, 10, "entity Tug { a : int 0..9, b : bool, n : bool }\n")));
  EXPECT_TRUE(breaks(text(1, 10, tug), text(2, 10, "entity Tug { b : bool, a : int 0..9 }\n")));
  EXPECT_TRUE(breaks(text(1, 10, tug), text(2, 10, tug + "entity Gull { a : bool }\n")));
  EXPECT_FALSE(breaks(text(1, 10, tug),
                      text(2, 10, "entity Tug { n : bool since 2, a : int 0..9, b : bool }\n")));
  EXPECT_FALSE(breaks(text(1, 10, tug), text(2, 10, "entity Gull since 2 { a : bool }\n" + tug)));
  EXPECT_FALSE(
      breaks(text(1, 10, tug), text(2, 10, "entity Tug { a : int 0..9, b : bool until 2 }\n")));
  EXPECT_FALSE(
      breaks(text(1, 10, tug), text(2, 10, tug + "message M from client on c since 2 { }\n")));
  EXPECT_FALSE(
      breaks(text(1, 10, tug),
             text(1, 10, "entity Tug { a : int 0..9, b : bool, c : int 0..9 server local }\n")));
  // No entities: nothing is read by the limit, and a field called xref names no ref.
  EXPECT_FALSE(breaks(text(1, 10, "message M from client on c { xref : bool }\n"),
                      text(1, 20, "message M from client on c { xref : bool }\n")));
}

// A prediction by fields that are new concerns new versions alone.
TEST(Versions, WhatAPositionFollowsMayComeLater) {
  const std::string head = "protocol pier {}, entities up to 10\nchannel c ordered\n";
  const auto tug = [&](int version, const std::string& speed, const std::string& follow) {
    return compiled(fmt::format(fmt::runtime(head), version) +
                    "entity Tug { course : angle step 2, speed : int 0..9" + speed +
                    ", at : vec2 of real 0..9 step 1/8" + follow + " }\n");
  };
  const auto told = [](const schema::Protocol& before, const schema::Protocol& after) {
    std::string all;
    for (const Change& change : compare(before, after)) {
      if (change.where.find("field at") != std::string::npos) all += change.what;
    }
    return all;
  };
  const std::string follows = " follow speed along course";
  EXPECT_EQ(told(tug(1, "", ""), tug(1, "", follows)), "it follows something else in version 1");
  EXPECT_EQ(told(tug(1, "", ""), tug(2, "", follows)), "it follows something else in version 1");
  const schema::Protocol later = tug(2, " since 2", follows);
  const schema::Protocol first = compiled(
      "protocol pier 1, entities up to 10\nchannel c ordered\n"
      "entity Tug { course : angle step 2, at : vec2 of real 0..9 step 1/8 }\n");
  EXPECT_EQ(told(first, later), "what it follows changed, for versions that are new");
  EXPECT_TRUE(refused_versions(first, later).empty());
}

TEST(Versions, TheRateOfAnEntityIsAChangeThatIsTold) {
  const std::string head = "protocol pier 1, entities up to 10\nchannel c ordered\n";
  const auto changes = compare(compiled(head + "entity Tug, at most 5/s { a : bool }\n"),
                               compiled(head + "entity Tug, at most 20/s { a : bool }\n"));
  ASSERT_EQ(changes.size(), 1U);
  EXPECT_EQ(changes[0].what, "its rate changed from 5/s to 20/s");
  EXPECT_EQ(changes[0].impact, Impact::harmless);
}

TEST(Versions, FreshnessOfAnEntityOrAFieldIsAChangeThatIsTold) {
  const std::string head = "protocol pier 1, entities up to 10\nchannel c ordered\n";
  const auto is_told = [&](const std::string& entity, const std::string& word) {
    const auto changes =
        compare(compiled(head + "entity Tug { a : bool }\n"), compiled(head + entity));
    ASSERT_EQ(changes.size(), 1U);
    EXPECT_EQ(changes[0].what, "its freshness changed from usual to " + word);
    EXPECT_EQ(changes[0].impact, Impact::harmless);
  };
  is_told("entity Tug, lazy { a : bool }\n", "lazy");
  is_told("entity Tug { a : bool urgent }\n", "urgent");
}

TEST(Compare, TellsWhatChangesForNobodyOnTheWire) {
  const std::string head = "protocol pier 1, entities up to 10\nchannel c ordered\n";
  const auto changes = compare(
      compiled(head +
               "entity Tug { a : bool, log : text 9 server local, b : int 0..3 client local }\n"),
      compiled(head + "entity Tug { a : bool, log : text 12 client local }\n"));
  std::string all;
  for (const Change& change : changes) {
    EXPECT_EQ(change.impact, Impact::harmless);
    all += change.where + ": " + change.what + "\n";
  }
  EXPECT_EQ(all,
            "entity Tug, field log: its type changed from `text 9` to `text 12`; it never travels\n"
            "entity Tug, field log: clients have it now\n"
            "entity Tug, field b: it is gone and never travelled\n");
}

TEST(Compare, AChannelThatMovedBreaksAndSaysSo) {
  const std::string message = "message Hail from client on office { words : text 9 }\n";
  const auto changes = compare(
      compiled("protocol pier 1\nchannel office ordered\nchannel fleet sequenced\n" + message),
      compiled("protocol pier 1\nchannel fleet sequenced\nchannel office ordered\n" + message));
  std::string all;
  for (const Change& change : changes) {
    EXPECT_EQ(change.impact, Impact::breaks);
    all += change.where + ": " + change.what + "\n";
  }
  EXPECT_EQ(all,
            "channel office: its number changed\n"
            "channel fleet: it moved before office\n"
            "channel fleet: its number changed\n");
}

TEST(Compare, NamesAFixThatCanBeWritten) {
  const std::string head = "protocol pier 1\nchannel c ordered\n";
  const std::string plain = head + "request Tow from client on c { } reply { }\n";
  const std::string refusable = head + "request Tow from client on c { } reply { } refuse { no }\n";
  for (const bool adds : {true, false}) {
    const auto changes =
        compare(compiled(adds ? plain : refusable), compiled(adds ? refusable : plain));
    ASSERT_EQ(changes.size(), 1U);
    EXPECT_EQ(changes[0].impact, Impact::breaks);
    EXPECT_EQ(changes[0].fix, "declare a new request `since 2`");
  }
}

TEST(Compare, WhatNoVersionThatBothSpeakHadIsNoBreak) {
  const std::string fields = "channel c ordered\nmessage Hail from client on c { words : text 9";
  const schema::Protocol before =
      compiled("protocol pier 5\n" + fields + ", old : bool until 3 }\n");
  const schema::Protocol after = compiled("protocol pier 20\n" + fields + " }\n");
  const auto changes = compare(before, after);
  ASSERT_EQ(changes.size(), 3U);
  EXPECT_EQ(changes[1].what,
            "versions 1 to 4 are no longer spoken: a hello lists 16 versions at most");
  EXPECT_EQ(changes[1].impact, Impact::breaks);
  EXPECT_EQ(changes[2].what, "it is gone, and no version that was spoken had it");
  EXPECT_EQ(refused_versions(before, after), (std::vector<std::uint16_t>{1, 2, 3, 4}));
}

}  // namespace versions_test
}  // namespace kwind::language
