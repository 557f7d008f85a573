#include "kwind/language/format.h"

#include <gtest/gtest.h>

#include <filesystem>
#include <fstream>
#include <iterator>

#include "kit/random_description.h"
#include "kit/sweep.h"
#include "kwind/language/compile.h"

namespace kwind::language {
namespace format_test {

std::string read(const std::filesystem::path& file) {
  std::ifstream in(file, std::ios::binary);
  return {std::istreambuf_iterator<char>(in), {}};
}

std::optional<std::string> load(const std::string& name) {
  return read(name);
}

// What comments a text has, in order, and what it means.
std::string comments(const std::string& text) {
  std::string out;
  for (std::size_t at = text.find('#'); at != std::string::npos; at = text.find('#', at + 1)) {
    const std::size_t end = std::min(text.find('\n', at), text.size());
    out += text.substr(at + 1, end - at - 1) + "\n";
    at = end - 1;
  }
  return out;
}

// Which comment belongs to what.
std::string docs_of(const schema::Protocol& protocol) {
  std::string out = protocol.doc + "\n";
  const auto add = [&](const auto& all, const auto& inner) {
    for (const auto& each : all) {
      out += each.name + ": " + each.doc + "\n";
      inner(each);
    }
  };
  const auto none = [](const auto&) {};
  const auto fields = [&](const auto& each) { add(each.fields, none); };
  const auto options = [&](const auto& each) { add(each.options, none); };
  add(protocol.enums, options);
  add(protocol.flags, options);
  add(protocol.one_ofs, options);
  add(protocol.records, fields);
  add(protocol.channels, none);
  add(protocol.messages, fields);
  add(protocol.entities, fields);
  return out;
}

void expect_laws(const std::string& text, const std::string& name) {
  const Compiled before = compile(text, name, load);
  ASSERT_TRUE(before.ok()) << name << render(before.errors.front(), before);
  const std::string once = format(text);
  EXPECT_EQ(format(once), once) << name;
  const Compiled after = compile(once, name, load);
  ASSERT_TRUE(after.ok()) << name << "\n" << once << render(after.errors.front(), after);
  EXPECT_EQ(docs_of(after.protocol), docs_of(before.protocol)) << name << "\n" << once;
  for (std::uint16_t v = 1; v <= before.protocol.version; ++v) {
    EXPECT_EQ(schema::canonical_listing(before.protocol, v),
              schema::canonical_listing(after.protocol, v))
        << name;
  }
}

TEST(Format, KeepsTheMeaningAndIsStable) {
  int files = 0;
  for (const char* folder : {"/examples/descriptions", "/examples/harbour", "/examples/first_light",
                             "/tests/schema", "/tests/host", "/tests/properties"}) {
    for (const auto& entry :
         std::filesystem::directory_iterator(KWIND_SOURCE_DIR + std::string(folder))) {
      if (entry.path().extension() != ".kw" || entry.path().stem() == "marks") continue;
      ++files;
      const std::string text = read(entry.path());
      expect_laws(text, entry.path().string());
      EXPECT_EQ(comments(format(text)).size(), comments(text).size()) << entry.path();
    }
  }
  EXPECT_GE(files, 9);
}

TEST(Format, KeepsTheMeaningOfRandomDescriptionsHoweverTheyAreBroken) {
  for (const std::uint64_t seed : kit::seeds(60, 2000)) {
    const std::string text = kit::RandomDescription(seed, 8).text("made_up");
    expect_laws(text, "as made");
    // Blanks and line breaks where they mean nothing, comments anywhere.
    schema::SampleNumbers numbers(seed);
    std::string broken;
    for (const char c : text) {
      broken += c;
      if (c == ' ' && numbers.up_to(9) == 0) broken += "  ";
      if (c == '{' && numbers.up_to(3) == 0) broken += "  # behind a brace\n";
      if (c == '\n' && numbers.up_to(5) == 0) broken += "   # alone\n\n\n";
    }
    expect_laws(broken, fmt::format("seed {}", seed));
    if (HasFailure()) return;
  }
}

TEST(Format, ACommentStaysWithWhatItStandsBehind) {
  expect_laws(
      "protocol p 1\nchannel c ordered\n"
      "message M from client on c { a : bool,  # of a\n  b : bool }\n"
      "message N from client on c { a : bool, b : bool }  # of N\n"
      "message O from client on c {  # of O\n  a : bool }\n"
      "enum Tone { plain,  # of plain\n  urgent }\n"
      "message P from client on c { tone : Tone  # of tone\n}\n",
      "comments");
  const Compiled made = compile(
      "protocol p 1\nchannel c ordered\nmessage M from client on c { a : bool,  # of a\n b : bool "
      "}\n");
  EXPECT_EQ(made.protocol.messages[0].doc, "");
  EXPECT_EQ(made.protocol.messages[0].fields[0].doc, "of a");
}

TEST(Format, LaysOutAsDocumented) {
  EXPECT_EQ(format(R"(protocol p 2   ,  entities   up to 9
#  the tone
enum Tone{plain,urgent
  , mayday since 2 else urgent}
channel   a ordered # in order
channel longer    sequenced repeat 3
quantity X=real -1 .. 1 step 1 / 8 in m / s
message  M from client on a,at most 60 / s{ x:X   # the place
  load : one of { none
     some : int 0 .. 9 } }
message N from both on a { y : bool = true, tones : list of Tone up to 3 }


message O from both on a { }
request Ask from client on a { x : X } reply { y : X } refuse { no }
)"),
            R"(protocol p 2, entities up to 9

# the tone
enum Tone {
  plain
  urgent
  mayday since 2 else urgent
}

channel a      ordered  # in order
channel longer sequenced repeat 3
quantity X = real -1..1 step 1/8 in m/s

message M from client on a, at most 60/s {
  x    : X  # the place
  load : one of {
    none
    some : int 0..9
  }
}

message N from both on a { y : bool = true, tones : list of Tone up to 3 }

message O from both on a {}

request Ask from client on a { x : X }
  reply  { y : X }
  refuse { no }
)");
}

}  // namespace format_test
}  // namespace kwind::language
