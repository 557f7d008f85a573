// Messages as people type and read them: `Helm rudder=0.5 throttle=80`.
#include "kwind/json/line.h"

#include <gtest/gtest.h>

#include "kit/descriptions.h"
#include "kwind/schema/sample.h"

namespace kwind::json {
namespace line_test {

using kit::description;
using schema::Direction;

std::string taken(const schema::Protocol& protocol, std::string_view line) {
  const auto parsed = parse_line(protocol, line);
  if (!parsed) return "error: " + parsed.error();
  const auto& message = protocol.messages[parsed->kind];
  return message.name + " " + line_text(protocol, message.fields, parsed->value);
}

TEST(Line, WhatIsPrintedCanBeTyped) {
  int checked = 0;
  for (const char* name : {"chart", "hails", "manifest", "world"}) {
    const schema::Protocol protocol = description(name);
    for (std::size_t kind = 0; kind < protocol.messages.size(); ++kind) {
      const auto& message = protocol.messages[kind];
      for (std::uint64_t seed = 1; seed <= 50; ++seed) {
        schema::SampleNumbers numbers(seed);
        const schema::Value value =
            schema::sample_value(protocol, message.fields, schema::SampleSize::any, numbers);
        const std::string text = line_text(protocol, message.fields, value);
        const auto back = parse_line(protocol, message.name + " " + text);
        ASSERT_TRUE(back) << back.error() << "\n" << message.name << " " << text;
        EXPECT_EQ(back->kind, kind);
        EXPECT_EQ(line_text(protocol, message.fields, back->value), text);
        ++checked;
      }
    }
  }
  EXPECT_GT(checked, 500);
}

TEST(Line, TakesWordsQuotesListsAndJson) {
  const schema::Protocol world = description("world");
  EXPECT_EQ(taken(world, "Helm rudder=0.5 throttle=80 tug=7/2"),
            "Helm tug=7/2 tick=0 rudder=0.5 throttle=80");
  EXPECT_EQ(taken(world, R"(Helm {"rudder":-1,"throttle":3})"),
            "Helm tug=none tick=0 rudder=-1.0 throttle=3");
  EXPECT_EQ(taken(world, "Spark at=1,2,3.5 toward=0,0,1 by=none"),
            "Spark at=1.0,2.0,3.5 toward=0.0,0.0,1.0 by=none");
  EXPECT_EQ(taken(world, R"(TakeTowAnswer outcome={"refused":{"reason":"in_use","words":"no"}})"),
            R"(TakeTowAnswer outcome={"refused":{"reason":"in_use","words":"no"}})");
}

TEST(Line, ErrorsNameWhatIsNearOrTheRange) {
  const schema::Protocol world = description("world");
  const std::pair<const char*, const char*> wrong[] = {
      {"Hlem rudder=0", "error: there is no message \"Hlem\"; did you mean Helm?"},
      {"Helm ruder=0", "error: Helm: there is no field \"ruder\"; did you mean rudder?"},
      {"Helm rudder", "error: Helm: rudder: write rudder=VALUE, real -1..1 step 1/64"},
      {"Helm rudder=2", "error: Helm: rudder: 2.0 is not within real -1..1 step 1/64"},
      {"Helm throttle=101", "error: Helm: throttle: 101 is not within int 0..100"},
      {"Helm rudder=hard",
       "error: Helm: rudder: expected a number, found \"hard\"; it is real -1..1 step 1/64"},
      {"Helm {rudder:1}", "error: Helm: {rudder:1} is not JSON"},
      {"", "error: nothing to send"}};
  for (const auto& [line, expected] : wrong) EXPECT_EQ(taken(world, line), expected) << line;
}

TEST(Line, TextsCannotMoveACursor) {
  EXPECT_EQ(shown("a\x1b[2Jb\r\n\t\x7f"), R"("a\u001b[2Jb\r\n\t\u007f")");
  EXPECT_EQ(shown("left \u202eright\u200b \u0085"), R"("left \u202eright\u200b \u0085")");
  EXPECT_EQ(shown("gr\u00fc\u00df dich \u2014 \U0001f6a2"),
            "\"gr\u00fc\u00df dich \u2014 \U0001f6a2\"");
  EXPECT_EQ(shown("half \xc3"), "\"half \ufffd\"");
}

TEST(Line, CompletesKindsFieldsAndValues) {
  const schema::Protocol world = description("world");
  const std::vector<std::string> commands = {"help", "quit"};
  const auto all = [&](std::string_view typed, Direction way = Direction::from_client) {
    return completions(world, way, commands, typed);
  };
  using Words = std::vector<std::string>;
  EXPECT_EQ(all("He"), Words{"Helm"});
  EXPECT_EQ(all("h"), Words{"help"});
  EXPECT_EQ(all(""), (Words{"Helm", "TakeTow", "help", "quit"}));
  EXPECT_EQ(all("", Direction::from_server), (Words{"Spark", "help", "quit"}));
  EXPECT_EQ(all("Helm t"), (Words{"tug=", "tick=", "throttle="}));
  EXPECT_EQ(all("Helm tug=7 t"), (Words{"tick=", "throttle="}));
  EXPECT_EQ(all("Helm tug="), Words{"tug=none"});
  EXPECT_EQ(all("to 2 Spark b", Direction::from_server), Words{"by="});
  EXPECT_EQ(all("Helm zz"), Words{});
  EXPECT_EQ(completions(description("hails"), Direction::from_client, {}, "Hail tone=u"),
            Words{"tone=urgent"});
}

TEST(Line, ConditionsLookIntoFields) {
  const auto fields = nlohmann::ordered_json::parse(
      R"({"tugs":[{"speed":3.5},{"speed":9}],"words":"ahoy","by":null,"lit":true})");
  const auto holds_for = [&](const char* text) {
    const auto condition = parse_condition(text);
    EXPECT_TRUE(condition) << text;
    return condition && holds(*condition, fields);
  };
  for (const char* text : {"tugs[1].speed=9", "tugs[0].speed>=3.5", "tugs[0].speed<4", "words=ahoy",
                           "words=\"ahoy\"", "words!=adieu", "by=none", "lit=true", "tugs[2]!=1",
                           "nothing.here!=1", "tugs[0].speed>3", "tugs[0].speed<=3.5"}) {
    EXPECT_TRUE(holds_for(text)) << text;
  }
  for (const char* text : {"tugs[1].speed=8", "tugs[2].speed=1", "words>3", "words=Ahoy", "by=7",
                           "tugs[x]=1", "tugs[99999999999999999999]=1", "lit=false"}) {
    EXPECT_FALSE(holds_for(text)) << text;
  }
  for (const char* text : {"words", "=3", "speed<fast", ""}) EXPECT_FALSE(parse_condition(text));
}

}  // namespace line_test
}  // namespace kwind::json
