// What a plan costs, held against figures worked out by hand and against the link itself.
#include <gtest/gtest.h>

#include <map>

#include "kwind/budget/advice.h"
#include "kwind/budget/cost.h"
#include "link/datagram/frames.h"

namespace kwind::budget {
namespace budget_test {

// One value only, so that every form has one size.
constexpr const char* kFixed = R"(protocol fixed 1, entities up to 1000
channel quick unreliable
channel sure ordered
message Beat from client on quick { n : int 7..7, m : int 0..100 }
message Word from both on sure { n : int 7..7 }
entity Lamp { spot : int 7..7 at spawn, lit : int 5..5, far : f64 }
)";

ReadPlan read(const std::string& text) {
  return read_plan(text, "plan.toml", [](const std::string& name) {
    const std::map<std::string, std::string> files{
        {"fixed.kw", kFixed},
        {"broken.kw", "protocl"},
        {"sub/main.kw",
         "protocol p 1\ninclude \"marks.kw\"\n"
         "channel c ordered\n"
         "message M from client on c { s : Spot }\n"},
        {"sub/marks.kw", "record Spot { x : int 0..9 }\n"},
        {"ended.kw",
         "protocol p 2, entities up to 9\n"
         "entity Lamp until 2 { lit : bool }\n"}};
    const auto found = files.find(name);
    return found == files.end() ? std::nullopt : std::optional(found->second);
  });
}

Cost cost(const std::string& text) {
  const ReadPlan made = read(text);
  EXPECT_EQ(made.problems, std::vector<std::string>{});
  return cost_of(made.description.protocol, made.plan);
}

const Coding& coding(const Cost& cost, const std::string& name) {
  for (const Coding& each : cost.codings) {
    if (each.name == name) return each;
  }
  throw std::out_of_range(name);
}

TEST(Budget, CountsAMessageAsTheLinkFramesIt) {
  const Cost made = cost(R"(description = "fixed.kw"
ticks_per_second = 10
header_bytes = 30
[[messages]]
message = "Word"
from = "server"
per_second = 20
)");
  // Two a tick. `Word` takes no bits, so each is the head of its frame.
  const std::vector<link::ChannelSpec> channels{{Delivery::unreliable}, {Delivery::ordered}};
  const std::size_t bits = 2 * link::message_head_bits(channels, 1, 0);
  const Coding& ours = coding(made, "Kestrel Wind");
  EXPECT_EQ(ours.down.payload_bytes_per_tick, static_cast<double>(bits::bytes_for(bits)));
  EXPECT_EQ(ours.down.datagrams_per_tick, 1);
  EXPECT_EQ(ours.down.bytes_per_second, 10 * (static_cast<double>(bits::bytes_for(bits)) + 30));
  EXPECT_EQ(ours.up.bytes_per_second, 0);
  const std::string json = R"({"messages":[{"type":"Word","n":7},{"type":"Word","n":7}]})";
  EXPECT_EQ(coding(made, "JSON text").down.payload_bytes_per_tick,
            static_cast<double>(json.size()));
}

TEST(Budget, SplitsWhatADatagramCannotHold) {
  const Cost made = cost(R"(description = "fixed.kw"
ticks_per_second = 1
header_bytes = 50
datagram_bytes = 150
[[messages]]
message = "Beat"
per_second = 30
)");
  const Coding& text = coding(made, "JSON text");
  const Coding& ours = coding(made, "Kestrel Wind");
  EXPECT_GT(text.up.payload_bytes_per_tick, 30 * 27);
  EXPECT_GE(text.up.datagrams_per_tick, text.up.payload_bytes_per_tick / 100);
  EXPECT_LT(text.up.datagrams_per_tick, text.up.payload_bytes_per_tick / 100 + 1);
  EXPECT_EQ(ours.up.datagrams_per_tick, 1);
  EXPECT_DOUBLE_EQ(text.up.bytes_per_second,
                   text.up.payload_bytes_per_tick + 50 * text.up.datagrams_per_tick);
}

TEST(Budget, CountsChangesAndEntriesOfEntities) {
  const Cost made = cost(R"(description = "fixed.kw"
ticks_per_second = 10
header_bytes = 0
[[state]]
entity = "Lamp"
population = 40
in_view = 8
changing = 0.25
entering_per_second = 10
fields = ["lit"]
)");
  // A tick: its number; how many updates and how many left; two changes of an id of 10 bits and a
  // bit for each of the two fields that can change; one that entered, whole; one that left.
  const unsigned bits =
      16 + bits::count_bits(3, 3) + bits::count_bits(1, 3) + 2 * (10 + 2) + (10 + 64) + 10;
  EXPECT_EQ(coding(made, "Kestrel Wind").down.payload_bytes_per_tick,
            static_cast<double>(bits::bytes_for(bits)));
  const Coding& whole = coding(made, "JSON text of the whole world");
  const double min =
      40 * static_cast<double>(std::string(R"({"id":0,"spot":7,"lit":5,"far":0})").size());
  EXPECT_GT(whole.down.payload_bytes_per_tick, min);
  EXPECT_GT(whole.down.payload_bytes_per_tick,
            coding(made, "JSON text").down.payload_bytes_per_tick);
}

TEST(Budget, SharesAddUpToWhatIsSent) {
  const Cost made = cost(R"(description = "fixed.kw"
[[state]]
entity = "Lamp"
population = 40
in_view = 8.5
changing = 0.3
[[messages]]
message = "Beat"
per_second = 17
[[messages]]
message = "Word"
from = "server"
per_second = 0.7
)");
  double up = 0;
  double down = 0;
  for (const Share& share : made.shares) {
    (share.from_client ? up : down) += share.bytes_per_second;
    EXPECT_GE(share.bytes_per_second, 0) << share.name;
  }
  EXPECT_NEAR(up, coding(made, "Kestrel Wind").up.bytes_per_second, 1e-6);
  EXPECT_NEAR(down, coding(made, "Kestrel Wind").down.bytes_per_second, 1e-6);
}

TEST(Budget, CompressesEachTickAloneOrAsAStream) {
  const Cost made = cost(R"(description = "fixed.kw"
[[messages]]
message = "Word"
from = "client"
per_second = 200
)");
  // Ten equal messages a tick, the same each tick.
  for (const std::string name : {"deflate", "zstd"}) {
    const double text = coding(made, "JSON text").up.payload_bytes_per_tick;
    const double tick = coding(made, "JSON, " + name + " a tick").up.payload_bytes_per_tick;
    const double stream = coding(made, "JSON, " + name + " stream").up.payload_bytes_per_tick;
    EXPECT_LT(tick, text / 3) << name;
    EXPECT_LT(stream, tick / 2) << name;
    EXPECT_GT(stream, 2) << name;
  }
}

TEST(Budget, TheSeedDecidesEverything) {
  const std::string plan = R"(description = "fixed.kw"
[[state]]
entity = "Lamp"
population = 40
in_view = 8
changing = 0.5
)";
  const auto text = [](const Cost& cost) {
    return coding(cost, "JSON text").down.payload_bytes_per_tick;
  };
  EXPECT_EQ(text(cost(plan)), text(cost(plan)));
  EXPECT_NE(text(cost(plan)), text(cost("seed = 2\n" + plan)));
}

// Each plan, and what must be said of it.
TEST(Budget, SaysWhatIsWrongWithAPlanAndWhere) {
  const std::string head = "description = \"fixed.kw\"\n";
  const std::string lamp = head + "[[state]]\nentity = \"Lamp\"\n";
  const std::string beat = head + "[[messages]]\nmessage = \"Beat\"\n";
  const std::pair<std::string, std::string> wrong[] = {
      {"description = ", "plan.toml:1:"},
      {"clients = 5", "`description` names the .kw file"},
      {"description = 5", "plan.toml:1:15: error: `description` names the .kw file"},
      {"description = \"gone.kw\"", "the description gone.kw cannot be read"},
      {"description = \"broken.kw\"", "broken.kw:1:1: error: "},
      {head, "the plan sends nothing"},
      {head + "tick_per_second = 5",
       "plan.toml:2:1: error: nothing here is called "
       "`tick_per_second`; did you mean `ticks_per_second`?"},
      {head + "ticks_per_second = 0", "`ticks_per_second` is a number from 1 to 1000"},
      {head + "ticks_per_second = nan", "`ticks_per_second` is a number from 1 to 1000"},
      {head + "clients = 2.5", "`clients` is a whole number"},
      {head + "clients = \"many\"", "`clients` is a number from 1 to 10000000"},
      {head + "header_bytes = 60\ndatagram_bytes = 100", "`datagram_bytes` is a number from 160"},
      {head + "state = 5", "write [[state]] before each"},
      {lamp + "population = 40\nin_view = 50\nchanging = 1", "more in view than there are"},
      {lamp + "population = 40\nin_view = 5\nchanging = 50", "`changing` is a number from 0 to 1"},
      {lamp + "population = 4000\nin_view = 5\nchanging = 1",
       "the plan has 4000 entities, the description `entities up to 1000`"},
      {lamp + "in_view = 5\nchanging = 1", "`population` is missing"},
      {lamp + "population = 9\nin_view = 5\nchanging = 1\nfields = [\"spot\"]",
       "plan.toml:7:11: error: `spot` never changes on the wire; it travels at spawn alone"},
      {lamp + "population = 9\nin_view = 5\nchanging = 1\nfields = [\"fra\"]",
       "no field of Lamp `fra`; did you mean `far`?"},
      {head + "[[state]]\nentity = \"Lamb\"\npopulation = 9\nin_view = 5\nchanging = 1",
       "plan.toml:3:10: error: the description has no entity `Lamb`; did you mean `Lamp`?"},
      {head + "[[messages]]\nmessage = \"Bead\"\nper_second = 1",
       "no message `Bead`; did you mean `Beat`?"},
      {beat + "per_second = 1\nfrom = \"server\"", "`Beat` does not travel from the server"},
      {beat + "per_second = 1\nfrom = \"gull\"", "`from` is \"client\" or \"server\""},
      {beat + "per_second = 1\nfilled = \"half\"",
       "`filled` is \"least\", \"typical\" or \"most\""},
      {beat + "per_second = -1", "`per_second` is a number from 0 to 100000"},
      {head + "[[messages]]\nmessage = \"Word\"\nper_second = 1", "`Word` travels both ways"},
  };
  for (const auto& [plan, message] : wrong) {
    std::string all;
    for (const std::string& problem : read(plan).problems) all += problem;
    EXPECT_NE(all.find(message), std::string::npos) << plan << "\ngives\n" << all;
  }
  EXPECT_EQ(read(head + "clients = 0\nseed = -1\nbells = 3\n" + "[[state]]\n").problems.size(), 7U)
      << "all problems at once";
}

TEST(Budget, TheDescriptionMayLieInAnotherFolderAndIncludeFilesThere) {
  const ReadPlan made = read(R"(description = "sub/main.kw"
[[messages]]
message = "M"
from = "client"
per_second = 1
)");
  EXPECT_EQ(made.problems, std::vector<std::string>{});
}

TEST(Budget, EntitiesThatAreGoneOrCannotEnterAreTold) {
  const auto problem = [](const std::string& file, const std::string& entity,
                          const std::string& rest) {
    const ReadPlan made = read("description = \"" + file + "\"\n[[state]]\nentity = \"" + entity +
                               "\"\npopulation = 5\nin_view = 5\nchanging = 0.5\n" + rest);
    return made.problems.empty() ? std::string() : made.problems.front();
  };
  EXPECT_NE(problem("ended.kw", "Lamp", "").find("version 2 has no Lamp"), std::string::npos);
  EXPECT_NE(problem("fixed.kw", "Lamp", "entering_per_second = 3\n").find("nothing can enter"),
            std::string::npos);
  EXPECT_EQ(problem("fixed.kw", "Lamp", "fields = []\n"), "");
}

// A description whose fields are each too expensive in one way, or right.
constexpr const char* kWasteful = R"(protocol wasteful 1, entities up to 1000
quantity Fine = real -512..<512 step 1/1024 in metres
quantity Place = real -512..<512 step 1/2 in metres
enum Cargo { none, salt }
entity Tug {
  heading : angle step 1
  speed : real 0..<25.6 step 0.1
  at : vec2 of Fine follow speed along heading
  says : text 60
  load : list of Cargo up to 200
  notes : list of text 9 up to 5
  crew : int 0..9
}
entity Barge {
  heading : angle step 1 smooth
  speed : real 0..<25.6 step 0.02
  at : vec2 of Place follow speed along heading
  load : list of Cargo up to 20
}
)";

std::vector<std::string> fields_with_advice(const std::string& changes) {
  const ReadPlan made =
      read_plan("description = \"wasteful.kw\"\nticks_per_second = 20\n" + changes, "plan.toml",
                [](const std::string&) { return std::optional(std::string(kWasteful)); });
  EXPECT_EQ(made.problems, std::vector<std::string>{});
  std::vector<std::string> fields;
  for (const Advice& each : advice_for(made.description.protocol, made.plan)) {
    fields.push_back(each.entity + '.' + each.field);
  }
  return fields;
}

TEST(Advice, IsGivenWhereAnotherChoiceSendsLess) {
  const std::string tugs = "[[state]]\nentity = \"Tug\"\npopulation = 9\nin_view = 5\n";
  using Fields = std::vector<std::string>;
  // Steps of 1/1024 m, where a step of speed moves it by 5 mm in a tick.
  EXPECT_EQ(fields_with_advice(tugs + "changing = 1\n"),
            (Fields{"Tug.heading", "Tug.at", "Tug.says", "Tug.load", "Tug.notes"}));
  EXPECT_EQ(fields_with_advice(tugs + "changing = 0.02\nfields = [\"heading\", \"says\"]\n"),
            Fields{})
      << "what changes seldom may stay as it is";
  EXPECT_EQ(fields_with_advice(tugs + "changing = 0.03\nfields = [\"heading\", \"says\"]\n"),
            Fields{"Tug.says"});
  EXPECT_EQ(fields_with_advice(tugs + "changing = 0.02\nfields = [\"load\", \"notes\"]\n"),
            Fields{});
  EXPECT_EQ(fields_with_advice(tugs + "changing = 1\nfields = [\"crew\"]\n"), Fields{});
}

TEST(Advice, FindsASpeedThatNobodySees) {
  // A step of 0.02 m/s moves a barge by 4 mm in four ticks, of steps of half a metre.
  EXPECT_EQ(fields_with_advice(
                "[[state]]\nentity = \"Barge\"\npopulation = 9\nin_view = 5\nchanging = 1\n"),
            std::vector<std::string>{"Barge.speed"});
}

}  // namespace budget_test
}  // namespace kwind::budget
