// A description that follows from a seed: every type of the language, nested, with life spans.
// Numbers are drawn one a statement: compilers differ in the order of arguments.
#pragma once
#include <fmt/format.h>

#include <algorithm>
#include <set>
#include <string>
#include <vector>

#include "kwind/schema/sample.h"

namespace kwind::kit {

class RandomDescription {
 public:
  /// Version 4, `messages` messages. The same seed, number and names give the same text. With
  /// awkward names most are keywords, macros, functions of the C library, or names that generated
  /// code and the library use themselves; and entities have all words that fields can have.
  RandomDescription(std::uint64_t seed, std::size_t messages, bool awkward = false)
      : numbers_(seed), messages_(messages), awkward_(awkward) {}

  std::string text(const std::string& name) {
    out_ = with("protocol {} 4, entities up to {}, peers up to {}\n\n",
                {name, from_one(5000), from_one(300)});
    out_ +=
        "channel first ordered\nchannel second sequenced repeat 2\nchannel third reliable "
        "since 2\n\n";
    for (int i = 0; i < 4; ++i) {
      out_ += fmt::format("enum Kind{} {}\n", i, names(1 + pick(9), true));
      named_.push_back(fmt::format("Kind{}", i));
      cells_.push_back(named_.back());
    }
    for (int i = 0; i < 2; ++i) {
      out_ += fmt::format("flags Marks{} {}\n", i, names(1 + pick(12), false));
      named_.push_back(fmt::format("Marks{}", i));
    }
    for (int i = 0; i < 5; ++i) {
      const std::string record = type_name("Part", i);
      out_ += with("\nrecord {} {}", {record, body(1 + pick(4), 1)});
      named_.push_back(record);
    }
    out_ += fmt::format("\nentity Thing {}", body(2, 1));
    if (awkward_) out_ += entities();
    for (std::size_t i = 0; i < messages_; ++i) {
      const char* from[] = {"client", "server", "both"};
      if (i % 5 == 4) {
        out_ += with("\nrequest Ask{} from {} on first {}reply {}refuse {}\n",
                     {std::to_string(i), from[pick(3)], body(pick(3), 2), body(pick(3), 2),
                      names(1 + pick(awkward_ && i == 4 ? 400 : 3), true)});
        continue;
      }
      const bool late = late_ = pick(4) == 0;
      out_ += with("\nmessage {} from {} on {}, split{} {}",
                   {type_name("Word", static_cast<int>(i)), from[pick(3)],
                    late           ? "third"
                    : pick(2) == 0 ? "first"
                                   : "second",
                    late ? " since 2" : "", body(pick(6), 3)});
      late_ = false;
    }
    return out_;
  }

 private:
  std::uint64_t pick(std::uint64_t count) { return numbers_.up_to(count - 1); }
  std::string from_one(std::uint64_t max) { return std::to_string(1 + pick(max)); }

  // Each {} is the next part. What stands in braces is evaluated from left to right.
  static std::string with(std::string_view text, std::initializer_list<std::string> parts) {
    std::string made;
    const std::string* part = parts.begin();
    for (std::size_t at = 0; at < text.size(); ++at) {
      if (text.substr(at, 2) == "{}") {
        made += *part++;
        ++at;
      } else {
        made += text[at];
      }
    }
    return made;
  }

  std::string life() {
    switch (pick(8)) {
      case 0: return fmt::format(" since {}", 2 + pick(3));
      case 1: return fmt::format(" until {}", std::max<std::uint64_t>(2 + pick(3), late_ ? 3 : 2));
      case 2: return " since 2 until 4";
      default: return "";
    }
  }

  // Another one each time: by turns, from where the seed says.
  std::string type_name(const char* plain, int number) {
    static const std::vector<std::string> kAwkward = {
        "Visitor",      "Mark",         "Eigen",       "Channels", "Messages",    "Versions",
        "Info",         "Fields",       "Encoder",     "Decoder",  "Ref",         "Grid",
        "OneOf",        "Declarations", "Tables",      "Server",   "Client",      "EntityInfo",
        "MessageInfo",  "String",       "Optional",    "Variant",  "ThingFields", "ThingColumns",
        "ThingFollows", "ThingGrids",   "EntityKinds", "Std",      "Kwind",       "Value",
        "Int32",        "Vector2d",     "T",           "KThing",   "Protocol"};
    if (!awkward_) return fmt::format("{}{}", plain, number);
    if (types_used_ == 0) first_type_ = pick(kAwkward.size());
    if (types_used_ == kAwkward.size()) return fmt::format("{}{}", plain, number);
    return kAwkward[(first_type_ + types_used_++) % kAwkward.size()];
  }
  std::string value_name(const std::string& plain) {
    static const std::vector<std::string> kAwkward = {
        "class",  "int",    "errno",  "stdin",        "value",  "info", "fields",   "entity_info",
        "assert", "linux",  "unix",   "and",          "xor",    "not",  "log",      "index",
        "decode", "encode", "blend",  "visit_fields", "from",   "to",   "in",       "out",
        "made",   "part",   "mark",   "visit",        "kwind",  "std",  "operator", "template",
        "tables", "server", "client", "held",         "one_of", "size", "bits",     "version"};
    if (!awkward_) return plain;
    const std::uint64_t at = pick(kAwkward.size() * 3 / 2);
    if (at >= kAwkward.size() || !taken_.insert(kAwkward[at]).second) return plain;
    return kAwkward[at];
  }

  // Fields of all sorts of words.
  std::string entities() {
    std::string made = "\nentity Mover {\n  speed : real 0..9 step 1/8\n  bearing : angle step 1\n";
    made += "  at : vec2 of real -50..<50 step 1/16 follow speed along bearing within 1/4\n";
    made += "  spot : vec3 of f64 smooth\n  fuel : int 0..1000 owner only\n";
    made += "  widest : int -9223372036854775808..9223372036854775807\n";
    made += "  mate : ref Mover server local\n  mates : list of ref Thing up to 3 client local\n";
    taken_.clear();
    for (int i = 0; i < 6; ++i) {
      const char* words[] = {"", " at spawn", " owner only", " server local", " client local"};
      const std::string name = value_name(fmt::format("g{}", ++field_));
      made += with("  {} : {}{}\n", {name, type(1), words[pick(5)]});
    }
    return made + "}\n";
  }

  std::string names(std::uint64_t count, bool stand_ins) {
    taken_.clear();
    const std::string first = value_name("n0");
    std::string made = "{ " + first;
    for (std::uint64_t i = 1; i < count; ++i) {
      const std::string name = value_name(fmt::format("n{}", i));
      const std::string span = life();
      made += with(", {}{}{}", {name, span, !span.empty() && stand_ins ? " else " + first : ""});
    }
    return made + " }";
  }

  std::string body(std::uint64_t fields, int depth) {
    std::string made = "{\n";
    std::set<std::string> names;
    for (std::uint64_t i = 0; i < fields; ++i) {
      taken_ = names;
      const std::string name = value_name(fmt::format("f{}", ++field_));
      names.insert(name);
      made += with("  {} : {}{}\n", {name, type(depth), life()});
    }
    return made + "}\n";
  }

  std::string number() {
    switch (pick(5)) {
      case 0: {
        const auto low = static_cast<std::int64_t>(pick(1000)) - 500;
        return fmt::format("int {}..{}", low, low + static_cast<std::int64_t>(pick(100000)));
      }
      case 1: return pick(9) == 0 ? "int -9223372036854775808..9223372036854775807" : "int 7..7";
      case 2: {
        const std::string end = from_one(500);
        return with("real -{}..<{} step 1/{}", {end, end, std::to_string(1 << pick(7))});
      }
      case 3:
        return with("real {}..{} step 0.1",
                    {std::to_string(pick(5)), std::to_string(5 + pick(90))});
      default: return pick(2) == 0 ? "angle step 0.5" : "angle step 360/1000";
    }
  }

  std::string type(int depth) {
    const std::uint64_t kind = pick(depth > 0 ? 24 : 16);
    switch (kind) {
      case 0: return "bool";
      case 1:
      case 2:
      case 3: return number();
      case 4: return fmt::format("count up to {}", 1 + pick(1 << pick(31)));
      case 5: return pick(2) == 0 ? "f32" : "f64";
      case 6: return fmt::format("direction2 step {}", pick(2) == 0 ? "1" : "0.25");
      case 7: return fmt::format("direction3 within {}", 1 + pick(20));
      case 8: return fmt::format("rotation within {}", 1 + pick(20));
      case 9: return fmt::format("vec{} of real 0..9 step 1/8", 2 + pick(2));
      case 10:
        return with("vec{} of {}",
                    {std::to_string(2 + pick(2)), pick(2) == 0 ? "f32" : "int -3..3"});
      case 11: return fmt::format("text {}", 1 + pick(60));
      case 12: return fmt::format("bytes {}", 1 + pick(40));
      case 13: return "ref Thing";
      case 14: return pick(2) == 0 ? "peer" : "tick";
      case 15:
        return with("grid of {} {} x {}", {pick(3) == 0   ? "bool"
                                           : pick(2) == 0 ? cells_[pick(cells_.size())]
                                                          : "int -4..300",
                                           from_one(9), from_one(9)});
      case 16:
      case 17: return named_[pick(named_.size())];
      case 18: return "maybe " + type(depth - 1);
      // Items must have bits: a bool in front of what may have none.
      case 19: return with("list of maybe {} up to {}", {type(depth - 1), from_one(9)});
      case 20: return fmt::format("list of bool up to {}", 1 + pick(20));
      case 21: return fmt::format("enum {}", names(1 + pick(5), true));
      case 22: return fmt::format("flags {}", names(1 + pick(5), false));
      default: return one_of(depth);
    }
  }

  // Named after its field; what its cases declare is named after the cases, so those stay plain.
  std::string one_of(int depth) {
    // The first case may have a value as well.
    std::string made = "one of { nothing";
    if (awkward_ && pick(2) == 0) made += " : " + type(0);
    for (std::uint64_t i = 0, count = pick(4); i < count; ++i) {
      const std::string span = life();
      const std::string name = fmt::format("c{}x{}", ++field_, i);
      made += with(", {} : {}{}{}",
                   {name, type(std::min(depth - 1, 0)), span, span.empty() ? "" : " else nothing"});
    }
    return made + " }";
  }

  schema::SampleNumbers numbers_;
  std::size_t messages_;
  std::string out_;
  std::vector<std::string> named_;
  std::vector<std::string> cells_;
  bool awkward_;
  bool late_ = false;  // the message that is being written is since 2
  std::size_t first_type_ = 0;
  std::size_t types_used_ = 0;
  std::set<std::string> taken_;  // of the struct or list that is being written
  int field_ = 0;
};

}  // namespace kwind::kit
