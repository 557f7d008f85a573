#include <fmt/format.h>
#include <gtest/gtest.h>

#include <cstdlib>
#include <map>
#include <optional>
#include <string>

#include "kwind/bits/nearest.h"
#include "kwind/language/compile.h"
#include "kwind/language/generate_cpp.h"

namespace kwind::language {
namespace compile_test {

schema::Protocol compiled(const std::string& text) {
  const Compiled made = compile(text, "test.kw");
  EXPECT_TRUE(made.ok()) << (made.ok() ? "" : render(made.errors.front(), made));
  return made.protocol;
}

schema::Protocol with_field(const std::string& type) {
  return compiled("protocol p 1\nchannel c ordered\nrecord Spot { x : int 0..9 }\n" +
                  std::string("enum Cargo { salt, ice, fish }\nquantity Q = int 0..9\n") +
                  "message M from client on c { f : " + type + " }\n");
}

struct Cost {
  const char* type;
  std::uint32_t min;
  std::uint32_t max;
};

TEST(Sizes, FollowFromTheRange) {
  for (const Cost& cost : {Cost{"bool", 1, 1},
                           {"int 0..100", 7, 7},
                           {"int 0..<128", 7, 7},
                           {"int 5..5", 0, 0},
                           {"int -9223372036854775808..9223372036854775807", 64, 64},
                           {"real -1024..1024 step 1/16", 16, 16},
                           {"real -1024..<1024 step 1/16", 15, 15},
                           {"real 0..1 step 0.1", 4, 4},
                           {"real -0.5..0.5 step 0.25", 3, 3},
                           {"angle step 0.5", 10, 10},
                           {"angle step 360/1024", 10, 10},
                           {"angle step 360", 0, 0},
                           {"text 24", 5, 5 + 24 * 8},
                           {"text 1", 1, 9},
                           {"Cargo", 2, 2},
                           {"enum { a }", 0, 0},
                           {"enum { a, b, c, d, e }", 3, 3},
                           {"Spot", 4, 4},
                           {"Q", 4, 4},
                           {"list of Spot up to 7", 3, 3 + 28},
                           {"list of list of bool up to 3 up to 3", 2, 2 + 3 * 5}}) {
    const schema::Protocol protocol = with_field(cost.type);
    ASSERT_EQ(protocol.messages.size(), 1U) << cost.type;
    const schema::Size size = schema::size_of(protocol, protocol.messages[0].fields);
    EXPECT_EQ(size.min_bits, cost.min) << cost.type;
    EXPECT_EQ(size.max_bits, cost.max) << cost.type;
  }
}

Digest128 digest_of_newest(const schema::Protocol& protocol) {
  return schema::digest_of(protocol, protocol.version);
}

std::string digest(const std::string& text) {
  return to_hex(digest_of_newest(compiled(text)), 16);
}

const std::string kPlain = R"(protocol harbour 2
quantity Place = real -1024..<1024 step 1/16
enum Cargo { salt, ice }
channel moves sequenced
channel office ordered
record Spot { x : Place, y : Place }
message Move from client on moves, at most 60/s { at : Spot, cargo : Cargo }
message Hail from both on office { words : text 60, tone : enum { plain, urgent } }
)";

TEST(Digest, SurvivesCommentsSpellingAndTheOrderOfHelpers) {
  // The same layout: comments, line breaks, names of quantities, records and enums, other spellings
  // of the same numbers, unused declarations and helpers after their use.
  EXPECT_EQ(digest(kPlain), digest(R"(# a comment
protocol harbour 2
channel moves sequenced    channel office ordered
message Move from client on moves, at most 60/s {
  at : Where     # metres
  cargo : Freight
}
message Hail from both on office { words : text 60
  tone : Tone }
enum Tone { plain, urgent }
record Where { x : Metres, y : Metres }
quantity Metres = real -2048/2..1023.9375 step 0.0625
enum Freight { salt, ice }
quantity Unused = int 0..3
record Idle { a : bool }
)"));
}

TEST(Digest, ChangesWithEverythingThatDecidesTheLayout) {
  const auto changed = [&](const std::string& from, const std::string& to) {
    std::string text = kPlain;
    const std::size_t at = text.find(from);
    EXPECT_NE(at, std::string::npos) << from;
    return digest(text.replace(at, from.size(), to));
  };
  const std::string plain = digest(kPlain);
  EXPECT_NE(plain, changed("harbour 2", "harbour 3"));
  EXPECT_NE(plain, changed("harbour", "port"));
  EXPECT_NE(plain, changed("1/16", "1/8"));
  EXPECT_NE(plain, changed("..<1024", "..1024"));
  EXPECT_NE(plain, changed("salt, ice", "ice, salt"));
  EXPECT_NE(plain, changed("moves sequenced", "moves unreliable"));
  EXPECT_NE(plain, changed("Move from client", "Move from server"));
  EXPECT_NE(plain, changed("60/s", "30/s"));
  EXPECT_NE(plain, changed("at : Spot, cargo : Cargo", "cargo : Cargo, at : Spot"));
  EXPECT_NE(plain, changed("text 60", "text 61"));
  EXPECT_NE(plain, changed("words", "text"));
  EXPECT_NE(plain, changed("x : Place, y : Place", "y : Place, x : Place"));
  EXPECT_NE(plain, changed("message Hail", "message Shout"));
  EXPECT_NE(plain, changed("plain, urgent", "plain, urgent, secret"));
}

// One description with every word that reaches the wire, and edits of a single word.
TEST(Digest, ChangesWithEachWordOfADeclaration) {
  const std::string rich = R"(protocol yard 3, entities up to 100, peers up to 16
channel helm sequenced repeat 3
channel office ordered
channel sparks unreliable
enum Tone { plain, mayday since 2 else plain, urgent }
flags Lamp { red, green until 3 }
entity Tug, at most 20/s { at : vec2 of real 0..<64 step 1/4, name : text 24 at spawn, fuel : int 0..99 owner only }
entity Gull { flock : int 0..9 }
message Helm from owner of tug on helm, at most 60/s { tug : ref Tug, rudder : real -1..1 step 1/100 }
message Burst from server on sparks, split { points : list of int 0..255 up to 500 }
message Hail from both on office { to : peer, tone : Tone, lamps : Lamp, extra : maybe bytes 9 }
message Chart from server on office { cells : grid of int 0..3 8 x 4, heading : angle step 1/16 }
message Fate from server on office { what : one of { sunk, towed : int 1..4 } }
request Tow from client on office { tug : ref Tug } reply { line : int 1..4 } refuse { far, busy }
)";
  const std::string plain = digest(rich);
  const std::pair<std::string, std::string> edits[] = {
      {"entities up to 100", "entities up to 101"},
      {"peers up to 16", "peers up to 17"},
      {"repeat 3", "repeat 2"},
      {"sequenced repeat 3", "sequenced"},
      {" helm", " tiller"},
      {", split", ""},
      {"from owner of tug on helm", "from client on helm"},
      {"message Helm", "message Steer"},
      {"Hail from both", "Hail from client"},
      {"Hail from both on office", "Hail from both on sparks"},
      {"green until 3", "green"},
      {"vec2 of", "vec3 of"},
      {" at spawn", ""},
      {" owner only", ""},
      {"entity Gull { flock : int 0..9 }\n", ""},
      {"flock : int 0..9", "flock : count up to 9"},
      {"tug : ref Tug, rudder", "tug : ref Gull, rudder"},
      {"-1..1 step", "-1..<1 step"},
      {"up to 500", "up to 501"},
      {"maybe bytes 9", "bytes 9"},
      {"bytes 9", "bytes 8"},
      {"8 x 4", "4 x 8"},
      {"angle step 1/16", "angle step 1/8"},
      {"sunk, towed", "lost, towed"},
      {"towed : int 1..4", "towed"},
      {"reply { line : int 1..4 }", "reply { line : int 1..5 }"},
      {"refuse { far, busy }", "refuse { busy, far }"},
      {"refuse { far, busy }", ""},
  };
  for (const auto& [from, to] : edits) {
    std::string text = rich;
    std::size_t at = text.find(from);
    ASSERT_NE(at, std::string::npos) << from;
    for (; at != std::string::npos; at = text.find(from, at + to.size())) {
      text.replace(at, from.size(), to);
    }
    EXPECT_NE(plain, digest(text)) << from << " -> " << to;
  }
}

TEST(Digest, IsThatOfTheDocumentedListing) {
  // docs/schema-language.md shows this listing; both must change together.
  EXPECT_EQ(schema::canonical_listing(compiled(kPlain), 2), R"(protocol harbour 2
channel 0 moves sequenced
channel 1 office ordered
message Move client -> server on moves at most 60
 at : record
  x : real -1024..<1024 step 1/16
  y : real -1024..<1024 step 1/16
 cargo : enum { salt, ice }
message Hail both ways on office at most 0
 words : text 60
 tone : enum { plain, urgent }
)");
  EXPECT_EQ(digest(kPlain), "687c460d281733093d6e4a1252c17907");
}

TEST(Generate, GivesTheSameTextTwiceAndAvoidsKeywords) {
  const schema::Protocol protocol = compiled(
      "protocol class 1\nchannel c ordered\nmessage M from client on c { int : int 0..1, class : "
      "bool, "
      "info : bool, tone : enum { default, plain } }\n");
  const auto all = [&] {
    std::string text;
    for (const GeneratedFile& file : generate_cpp(protocol, "odd.kw")) text += file.text;
    return text;
  };
  const std::string text = all();
  EXPECT_EQ(text, all());
  for (const char* piece : {"namespace class_ {", "int_", "class_ = false", "info_", "default_"}) {
    EXPECT_NE(text.find(piece), std::string::npos) << piece;
  }
}

// 300 messages of which one can be told to have another field.
std::string many_messages(int changed) {
  std::string text = "protocol big 1\nchannel c ordered\nrecord Spot { x : int 0..9 }\n";
  for (int i = 0; i < 300; ++i) {
    text += "message M" + std::to_string(i) + " from both on c { at : Spot, " +
            (i == changed ? "other" : "words") + " : text 40 }\n";
  }
  return text;
}

TEST(Generate, AChangedMessageChangesItsOwnHeaderAndTheTablesAlone) {
  const auto before = generate_cpp(compiled(many_messages(-1)), "big.kw");
  const auto after = generate_cpp(compiled(many_messages(7)), "big.kw");
  ASSERT_EQ(before.size(), after.size());
  std::vector<std::string> changed;
  for (std::size_t i = 0; i < before.size(); ++i) {
    if (before[i].text != after[i].text) changed.push_back(before[i].path);
  }
  EXPECT_EQ(changed, (std::vector<std::string>{"big/m7.h", "big.h"}));
}

TEST(Compile, TakesTenThousandLines) {
  std::string text = "protocol long_one 1\nchannel c ordered\n";
  for (int i = 0; i < 1000; ++i) {
    text += "record R" + std::to_string(i) + " {\n";
    for (int k = 0; k < 8; ++k) text += "  f" + std::to_string(k) + " : int 0..9\n";
    text += "}\n";
  }
  const Compiled made = compile(text, "long.kw");
  EXPECT_TRUE(made.ok());
  EXPECT_EQ(made.protocol.records.size(), 1000U);
  const Compiled wrong = compile(text + "record R7 { x : bool }\n", "long.kw");
  ASSERT_EQ(wrong.errors.size(), 1U);
  EXPECT_EQ(wrong.errors[0].line, 10003U);
}

TEST(Nearest, FindsSlipsAndNothingFarFetched) {
  const std::vector<std::string> names = {"Place", "Bearing", "Knots", "text"};
  EXPECT_EQ(bits::nearest("Plaec", names), "Place");
  EXPECT_EQ(bits::nearest("bearing", names), "Bearing");
  EXPECT_EQ(bits::nearest("txt", names), "text");
  EXPECT_EQ(bits::nearest("Quay", names), "");
  EXPECT_EQ(bits::nearest("", names), "");
}

TEST(Includes, AFileIsTheSameHoweverItIsSpelled) {
  const std::map<std::string, std::string> files = {
      {"harbour/marks.kw", "record Spot { x : int 0..9 }\n"},
      {"harbour/sub/a.kw", "include \"../marks.kw\"\nrecord Buoy { at : Spot }\n"}};
  const auto load = [&](const std::string& name) -> std::optional<std::string> {
    const auto found = files.find(name);
    return found == files.end() ? std::nullopt : std::optional(found->second);
  };
  const Compiled made = compile(
      "protocol p 1\ninclude \"marks.kw\"\ninclude \"./marks.kw\"\ninclude \"sub/a.kw\"\n"
      "channel c ordered\nmessage M from client on c { b : Buoy, s : Spot }\n",
      "harbour/main.kw", load);
  EXPECT_TRUE(made.ok()) << (made.ok() ? "" : render(made.errors.front(), made));
}

TEST(Defaults, AreTheNearestDoubleAndKeepAllBytesOfATexts) {
  const auto initial = [](const std::string& field) {
    const schema::Protocol protocol =
        compiled("protocol p 1\nchannel c ordered\nmessage M from client on c { " + field + " }\n");
    return schema::initial_value(protocol, protocol.messages[0].fields[0]);
  };
  EXPECT_EQ(initial("a : f64 = 3280387012.273878288").real, 3280387012.273878288);
  EXPECT_EQ(initial("a : f64 = -0.1").real, -0.1);
  EXPECT_EQ(initial("a : f64 = 1/3").real, 1.0 / 3);
  for (int i = 1; i < 2000; ++i) {
    const std::string text = fmt::format("{}.{:09}", i * 7919 % 100003, i * 104729 % 1000000000);
    EXPECT_EQ(initial("a : f64 = " + text).real, std::strtod(text.c_str(), nullptr)) << text;
  }
  const std::string zero = "a : text 20 = \"ab" + std::string(1, '\0') + "cd\"";
  EXPECT_EQ(initial(zero).text, std::string("ab\0cd", 5));
  const schema::Protocol protocol =
      compiled("protocol p 1\nchannel c ordered\nmessage M from client on c { " + zero + " }\n");
  std::string all;
  for (const auto& file : generate_cpp(protocol, "p.kw")) all += file.text;
  EXPECT_NE(all.find("\"ab\\000cd\", 5}"), std::string::npos) << "a zero ends no literal";
}

TEST(Ranges, OfOneValueAreSpelledSoThatTheyCanBeRead) {
  for (const char* type : {"real 0..<1 step 1", "real 3..<4 step 1", "real 0..<1/8 step 1/8"}) {
    const schema::Protocol protocol = with_field(type);
    const std::string shown = schema::type_text(protocol, protocol.messages[0].fields[0].type);
    EXPECT_EQ(schema::type_text(with_field(shown), with_field(shown).messages[0].fields[0].type),
              shown)
        << type;
  }
}

// Carets stand under the characters that an error is about, however many bytes these have; nothing
// of a description moves a cursor.
TEST(Errors, AreDrawnInCharacters) {
  const auto drawn = [](const std::string& text) {
    const Compiled made = compile("protocol p 1\nchannel c ordered\n" + text, "p.kw");
    EXPECT_FALSE(made.ok());
    const std::string all = made.ok() ? "" : render(made.errors.front(), made);
    return all.substr(all.find('\n') + 1);
  };
  EXPECT_EQ(drawn("message M from client on c { t : text 5 = \"\xc3\xa9\xc3\xa9\xc3\xa9\" }\n"),
            "     3 | message M from client on c { t : text 5 = \"\xc3\xa9\xc3\xa9\xc3\xa9\" }\n"
            "       |                                           ^^^^^\n");
  EXPECT_EQ(drawn("record R { a : int 0..9, b : text 9 = \"\xe6\xb8\xaf\", c : itn 0..9 }\n"),
            "     3 | record R { a : int 0..9, b : text 9 = \"\xe6\xb8\xaf\", c : itn 0..9 }\n"
            "       | " +
                std::string(47, ' ') + "^^^\n");
  EXPECT_EQ(drawn("record R { c : itn 0..9 }  # \x1b[2J \xc2\x9b"
                  "1A \xe2\x80\xae \xff \xbf\n"),
            "     3 | record R { c : itn 0..9 }  #  [2J ?1A ? ? ?\n"
            "       |                ^^^\n");
  const Compiled marked = compile(
      "\xef\xbb\xbf"
      "protocol\n",
      "p.kw");
  ASSERT_FALSE(marked.ok());
  EXPECT_NE(render(marked.errors.front(), marked).find("     1 | protocol\n"), std::string::npos);
}

TEST(Compile, HintsAtStateThatCostsMoreThanItHasTo) {
  const Compiled made = compile(
      "protocol p 1, entities up to 9\n"
      "entity Kite {\n"
      "  at : vec3 of real 0..9 step 1/8 smooth\n"
      "  turn : rotation within 1\n"
      "  name : text 9 at spawn\n"
      "  cargo : list of text 9 up to 7\n"
      "  marks : list of int 0..9 up to 7\n"
      "}\n"
      "entity Crate { at : vec2 of real 0..9 step 1/8 }\n"
      "entity Gust { drift : vec2 of real -9..9 step 1/8, at : vec2 of real 0..9 step 1/8 follow "
      "drift }\n",
      "p.kw");
  ASSERT_TRUE(made.ok());
  std::vector<std::string> found;
  for (const Diagnostic& hint : made.hints) {
    found.push_back(std::to_string(hint.line) + hint.message.substr(0, hint.message.find("of an")));
  }
  // Of `at` of a crate nothing is predicted: it may stand still. A velocity is steered.
  ASSERT_EQ(found.size(), 2U) << found.back();
  EXPECT_EQ(found[0], "4`turn` ");
  EXPECT_EQ(found[1].substr(0, 10), "6items of ");
}

}  // namespace compile_test
}  // namespace kwind::language
