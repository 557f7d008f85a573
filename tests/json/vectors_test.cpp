// JSON for people, and the committed test vectors for ports.
#include "kwind/json/vectors.h"

#include <gtest/gtest.h>

#include "kit/descriptions.h"
#include "kwind/core/printable.h"
#include "kwind/json/json.h"
#include "kwind/json/text.h"
#include "kwind/language/compile.h"

namespace kwind::json {
namespace vectors_test {

using kit::description;

TEST(Vectors, CommittedOnesAreWhatTheCodecDoes) {
  // `kwind gen FILE --vectors` writes them. A change of a layout shows here, and needs a version.
  for (const char* name : {"chart", "hails", "manifest", "world"}) {
    const schema::Protocol protocol = description(name);
    const std::string text =
        kit::read_file(std::string(KWIND_SOURCE_DIR "/examples/descriptions/vectors/") + name +
                       ".json")
            .value_or("");
    EXPECT_EQ(check_vectors(protocol, text), std::vector<Problem>{}) << name;
    EXPECT_TRUE(test_vectors(protocol) == text) << name << ": write them anew and read the diff";
  }
}

TEST(Vectors, SpoiltOnesAreFound) {
  const schema::Protocol protocol = description("hails");
  std::string text = test_vectors(protocol);
  const auto spoil = [&](const std::string& from, const std::string& to) {
    std::string spoilt = text;
    const std::size_t at = spoilt.find(from, spoilt.find("\"vectors\""));
    EXPECT_NE(at, std::string::npos) << from;
    spoilt.replace(at, from.size(), to);
    return check_vectors(protocol, spoilt).size();
  };
  EXPECT_EQ(spoil("\"hex\":\"00", "\"hex\":\"01"), 1U);
  EXPECT_EQ(spoil("\"message\":\"Hail\"", "\"message\":\"Hial\""), 1U);
  EXPECT_EQ(spoil("\"tone\":\"plain\"", "\"tone\":\"urgent\""), 1U);
  EXPECT_EQ(check_vectors(protocol, "{").size(), 1U);
}

// The error of from_json for JSON of the first message; nothing if there is none.
std::string problem_of(const schema::Protocol& protocol, const std::string& text) {
  const auto value = from_json(protocol, protocol.messages[0].fields, *parse_text(text));
  return value ? "" : value.error();
}
std::string problem(const std::string& text) {
  static const schema::Protocol protocol = description("manifest");
  return problem_of(protocol, text);
}

TEST(Json, NamesThePlaceAndWhatWasExpected) {
  EXPECT_EQ(problem("{}"), "") << "what is left out has its default";
  EXPECT_EQ(problem("[]"), "expected an object, found []");
  EXPECT_EQ(problem(R"({"barg": "Tern"})"), "there is no field `barg`; did you mean `barge`?");
  EXPECT_EQ(problem(R"({"barge": 5})"), "barge: expected a string, found 5");
  EXPECT_EQ(problem(R"({"total": 1.5})"), "total: expected a whole number, found 1.5");
  EXPECT_EQ(problem(R"({"holds": [{}, {"sealed": true}]})"),
            "holds[1].sealed: expected a number, found true");
  EXPECT_EQ(problem(R"({"holds": [{"content": {"salt": {}, "fish": {}}}]})"),
            "holds[0].content: expected the name of a case, or {\"case\": value}, found "
            "{\"salt\":{},\"fish\":{}}");
  EXPECT_EQ(problem(R"({"holds": [{"content": {"nothing": 1}}]})"),
            "holds[0].content: expected \"nothing\" alone: it carries nothing, found "
            "{\"nothing\":1}");
  EXPECT_EQ(problem(R"({"holds": [{"content": {"parcels": [{"seal": "0f0"}]}}]})"),
            "holds[0].content.parcels[0].seal: expected pairs of hexadecimal digits, found "
            "\"0f0\"");
  EXPECT_EQ(problem(R"({"holds": [{"content": {"parcels": [{"handling": ["dry"]}]}}]})"),
            "holds[0].content.parcels[0].handling: there is no flag `dry`; there are keep_dry, "
            "keep_cold, this_way_up, fragile");
  EXPECT_EQ(problem(R"({"total": 18446744073709551615})"),
            "total: expected a whole number below 2^63, found 18446744073709551615");
}

TEST(Json, DeepTextsRepeatedKeysAndLargeNumbersAreRefusedWithAReason) {
  const auto problem = [](const std::string& text) {
    const auto parsed = parse_text(text);
    return parsed ? std::string("none") : parsed.error().text;
  };
  EXPECT_EQ(problem(std::string(300000, '[') + std::string(300000, ']')),
            "nested more than 100 deep");
  EXPECT_EQ(problem(std::string(90, '[') + std::string(90, ']')), "none");
  EXPECT_EQ(problem(R"({"b":1,"c":{"b":2},"b":3})"), "\"b\" is there twice in one object");
  EXPECT_EQ(problem(R"({"b":1,"c":{"b":2}})"), "none");
  EXPECT_EQ(problem(R"({"d":1e999})"), "a number in it is too large to be held");
  EXPECT_EQ(problem("[1,"), "not JSON, from byte 4 on");
}

TEST(Json, TicksAndRefsAreTakenWholeOrRefused) {
  const auto compiled = language::compile(
      "protocol p 1, entities up to 9\nchannel c ordered\nentity Tug { a : bool }\n"
      "message M from client on c { t : tick, r : ref Tug }\n",
      "p.kw");
  const auto problem = [&](const std::string& text) { return problem_of(compiled.protocol, text); };
  EXPECT_EQ(problem(R"({"t":4294967295,"r":{"id":3,"generation":1}})"), "");
  EXPECT_EQ(problem(R"({"t":-1})"), "t: expected a tick, 0 to 4294967295, found -1");
  EXPECT_EQ(problem(R"({"t":4294967296})"),
            "t: expected a tick, 0 to 4294967295, found 4294967296");
  EXPECT_EQ(problem(R"({"r":{"id":3,"gen":1}})"),
            "r: there is no part `gen`; there are id, generation");
}

TEST(Json, VectorsHaveAsManyNumbersAsTheirType) {
  const auto compiled = language::compile(
      "protocol p 1\nchannel c ordered\n"
      "message M from client on c { a : vec2 of int 0..9, b : vec3 of int 0..9 }\n",
      "p.kw");
  const auto problem = [&](const std::string& text) { return problem_of(compiled.protocol, text); };
  EXPECT_EQ(problem(R"({"a":[1,2],"b":[1,2,3]})"), "");
  EXPECT_EQ(problem(R"({"a":[1]})"), "a: expected an array of 2 numbers, found [1]");
  EXPECT_EQ(problem(R"({"a":[1,2,3]})"), "a: expected an array of 2 numbers, found [1,2,3]");
  EXPECT_EQ(problem(R"({"b":[1,2,3,4]})"), "b: expected an array of 3 numbers, found [1,2,3,4]");
  EXPECT_EQ(problem(R"({"b":5})"), "b: expected an array of 3 numbers, found 5");
}

// An error that quotes a long text is itself valid UTF-8.
TEST(Json, ErrorsCutWhatTheyQuoteAtACharacter) {
  for (const std::string ahead : {"", "x", "xx"}) {
    std::string text = ahead;
    for (int i = 0; i < 30; ++i) text += "\xe6\xb8\xaf";
    const std::string error = problem(R"({"total": ")" + text + R"("})");
    EXPECT_TRUE(error.ends_with("...")) << error;
    EXPECT_EQ(valid_utf8_prefix(error, error.size()), error.size()) << error;
  }
}

}  // namespace vectors_test
}  // namespace kwind::json
