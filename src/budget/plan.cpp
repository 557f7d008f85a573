// Reads a plan from TOML. Every key and value is checked against the description that the plan
// names; a problem is shown with its line, as errors of descriptions are, and reading goes on.
//
// A plan is a small TOML file: how many entities and clients, how much of it changes, which
// messages are sent how often. docs/budget.md has all keys with an example.
#include "kwind/budget/plan.h"
#include "kwind/budget/toml_text.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <optional>
#include <span>

#include "kwind/bits/nearest.h"

namespace kwind::budget {
namespace {

// What bounds the time that measuring takes.
constexpr double kMaxClients = 10e6;
constexpr double kMaxTicks = 1000;
constexpr double kMaxPerSecond = 100000;
constexpr double kMaxInView = 5000;
constexpr double kMaxTickBytes = 1 << 20;
constexpr double kMinRoomBytes = 100;

class PlanReader {
 public:
  PlanReader(std::string_view text, std::string_view name) {
    made_.plan = {};
    shown_.files.push_back({std::string(name), std::string(text)});
  }

  // Reads the plan as far as it can, so that one run reports all problems.
  ReadPlan read(const Loader& load) {
    const auto parsed = parse_toml(shown_.files.front().text);
    // TOML that does not parse has one error, with its place.
    if (!parsed) {
      problem(parsed.error().place, parsed.error().text);
      return std::move(made_);
    }
    // Order: numbers of the plan, description, then what needs the description.
    const toml::table& root = *parsed;
    known_keys(root, {"description", "clients", "ticks_per_second", "header_bytes",
                      "datagram_bytes", "seed", "state", "messages"});
    // Numbers first: a plan without a description can still be checked.
    Plan& plan = made_.plan;
    plan.clients = whole(root, "clients", 1, kMaxClients, plan.clients);
    plan.ticks_per_second = number(root, "ticks_per_second", 1, kMaxTicks, plan.ticks_per_second);
    plan.header_bytes = whole(root, "header_bytes", 0, 1000, plan.header_bytes);
    plan.datagram_bytes = whole(root, "datagram_bytes", plan.header_bytes + kMinRoomBytes, 65535,
                                plan.datagram_bytes);
    plan.seed = static_cast<std::uint64_t>(whole(root, "seed", 0, 1e15, 1));
    if (!load_description(root, load)) return std::move(made_);
    each_table(root, "state", [&](const toml::table& table) { state(table); });
    each_table(root, "messages", [&](const toml::table& table) { message(table); });
    check_totals(root);
    if (plan.state.empty() && plan.messages.empty() && made_.problems.empty()) {
      problem(root.source(), "the plan sends nothing; add [[state]] for entities or [[messages]]");
    }
    return std::move(made_);
  }

 private:
  const schema::Protocol& protocol() const { return made_.description.protocol; }

  // ---- problems ----

  // Problems point at the place in the TOML file, as those of descriptions do.
  void problem(const toml::source_region& where, std::string message, std::uint32_t length = 1) {
    // Lines and columns begin at 1. Errors that concern the whole file have no place of their own.
    made_.problems.push_back(language::render(
        {std::max<std::uint32_t>(1, where.begin.line),
         std::max<std::uint32_t>(1, where.begin.column),
         where.end.line == where.begin.line && where.end.column > where.begin.column
             ? where.end.column - where.begin.column
             : length,
         std::move(message)},
        shown_));
  }

  // An unknown name is compared with those that are known.
  void unknown_name(const toml::node& node, std::string_view what, const std::string& name,
                    std::span<const std::string> known) {
    const std::string near = bits::nearest(name, known);
    problem(node.source(), near.empty()
                               ? fmt::format("the description has no {} `{}`", what, name)
                               : fmt::format("the description has no {} `{}`; did you mean `{}`?",
                                             what, name, near));
  }

  // A misspelt key would otherwise have no effect, in silence.
  void known_keys(const toml::table& table, const std::vector<std::string>& known) {
    // Every key that was written is looked for among those that exist.
    for (const auto& [key, node] : table) {
      const std::string name(key.str());
      if (std::find(known.begin(), known.end(), name) != known.end()) continue;
      const std::string near = bits::nearest(name, known);
      problem(key.source(),
              fmt::format("nothing here is called `{}`; {}", name,
                          near.empty() ? fmt::format("there is {}", fmt::join(known, ", "))
                                       : fmt::format("did you mean `{}`?", near)));
    }
  }

  // ---- values ----

  // A missing key takes `otherwise`, if there is one. After a problem the smallest value stands in,
  // so that reading goes on.
  double number(const toml::table& table, std::string_view key, double min, double max,
                std::optional<double> otherwise = {}) {
    const toml::node* node = table.get(key);
    if (node == nullptr) {
      if (!otherwise) {
        problem(table.source(),
                fmt::format("`{}` is missing; it is a number from {} to {}", key, min, max));
      }
      return otherwise.value_or(min);
    }
    const std::optional<double> value =
        node->is_number() ? node->value<double>() : std::optional<double>();
    // Written so that NaN is refused.
    if (!value || !(*value >= min && *value <= max)) {
      problem(node->source(), fmt::format("`{}` is a number from {} to {}", key, min, max));
      return otherwise.value_or(min);
    }
    return *value;
  }
  // TOML has integers and floats; `60.0` is taken for 60.
  double whole(const toml::table& table, std::string_view key, double min, double max,
               std::optional<double> otherwise = {}) {
    const double value = number(table, key, min, max, otherwise);
    if (value != std::floor(value)) {
      problem(table.get(key)->source(), fmt::format("`{}` is a whole number", key));
    }
    return value;
  }
  // The place among `all` of what `key` names.
  template <class Declared>
  std::optional<std::uint32_t> place_of(const toml::table& table, std::string_view key,
                                        const std::vector<Declared>& all) {
    const toml::node* node = table.get(key);
    if (node == nullptr) {
      problem(table.source(), fmt::format("`{}` is missing; it names one of the description", key));
      return std::nullopt;
    }
    const auto name = node->value_exact<std::string>();
    if (!name) {
      problem(node->source(), fmt::format("`{}` is a string", key));
      return std::nullopt;
    }
    std::vector<std::string> known;
    known.reserve(all.size());
    for (const Declared& each : all) {
      if (each.name == *name) return static_cast<std::uint32_t>(known.size());
      known.push_back(each.name);
    }
    unknown_name(*node, key, *name, known);
    return std::nullopt;
  }

  // Tables of one name, in their order; anything else under the name is a problem.
  template <class Read>
  void each_table(const toml::table& root, std::string_view key, Read read) {
    const toml::node* node = root.get(key);
    if (node == nullptr) return;
    const toml::array* all = node->as_array();
    if (all == nullptr || !all->is_homogeneous<toml::table>()) {
      return problem(node->source(),
                     fmt::format("`{0}` is a list of tables; write [[{0}]] before each", key));
    }
    for (const toml::node& each : *all) read(*each.as_table());
  }

  // ---- what the plan says of the description ----

  // The description is named relative to the plan. Without it nothing else can be checked.
  bool load_description(const toml::table& root, const Loader& load) {
    const toml::node* node = root.get("description");
    const std::string* file =
        node != nullptr && node->is_string() ? &node->as_string()->get() : nullptr;
    if (file == nullptr) {
      problem(node == nullptr ? root.source() : node->source(),
              "`description` names the .kw file, as seen from the plan");
      return false;
    }
    const std::optional<std::string> text = load(*file);
    if (!text) {
      problem(node->source(),
              fmt::format("the description {} cannot be read; it is looked for beside the plan",
                          *file));
      return false;
    }
    made_.description = language::compile(*text, *file, load);  // names come as seen from the plan
    for (const auto& error : made_.description.errors) {
      made_.problems.push_back(language::render(error, made_.description));
    }
    return made_.description.ok();
  }

  // [[state]]: how many entities of a type there are, how many are in view, and how they change.
  void state(const toml::table& table) {
    known_keys(table,
               {"entity", "population", "in_view", "changing", "entering_per_second", "fields"});
    StatePlan made;
    made.population = whole(table, "population", 1, 1e6);
    made.in_view = number(table, "in_view", 0, kMaxInView);
    made.changing = number(table, "changing", 0, 1);
    made.entering = number(table, "entering_per_second", 0, kMaxPerSecond, 0);
    const auto entity = place_of(table, "entity", protocol().entities);
    if (!entity) return;
    // What belongs to the type is checked only if there is such a type.
    made.entity = *entity;
    if (!protocol().entities[*entity].life.alive(protocol().version)) {
      problem(table.get("entity")->source(), fmt::format("version {} has no {}", protocol().version,
                                                         protocol().entities[*entity].name));
    }
    // Contradictions of a plan are problems, because the figures for it would be wrong without a
    // sign.
    if (made.entering > 0 && made.in_view == static_cast<double>(made.population)) {
      problem(table.get("entering_per_second")->source(),
              "nothing can enter: all that there are, are in view");
    }
    if (made.in_view > made.population) {
      problem(table.get("in_view")->source(),
              fmt::format("more in view than there are: `population` is {}", made.population));
    }
    fields(table, protocol().entities[made.entity], made);
    made_.plan.state.push_back(std::move(made));
  }

  // Rates of change by field; fields that the entity lacks are problems.
  void fields(const toml::table& table, const schema::Entity& entity, StatePlan& made) {
    std::vector<std::string> known;
    const toml::node* node = table.get("fields");
    // Collects the fields that may change; without `fields` all of them do.
    for (std::size_t i = 0; i < entity.fields.size(); ++i) {
      const schema::Field& field = entity.fields[i];
      // Only fields that can change on the wire may be named.
      if (!field.travels(protocol().version) || field.words.at_spawn) continue;
      known.push_back(field.name);
      if (node == nullptr) made.fields.push_back(static_cast<std::uint32_t>(i));
    }
    if (node == nullptr) return;
    const toml::array* names = node->as_array();
    if (names != nullptr && names->empty()) return;  // nothing changes
    if (names == nullptr || !names->is_homogeneous<std::string>()) {
      return problem(node->source(), "`fields` is a list of names, those that change");
    }
    // Each name is one of those, or one of three errors.
    for (const toml::node& each : *names) {
      const std::string& wanted = each.as_string()->get();
      std::size_t place = entity.fields.size();
      for (std::size_t i = 0; i < entity.fields.size(); ++i) {
        if (entity.fields[i].name == wanted) place = i;
      }
      if (std::find(known.begin(), known.end(), wanted) != known.end()) {
        made.fields.push_back(static_cast<std::uint32_t>(place));
      } else if (place < entity.fields.size()) {
        problem(each.source(),
                fmt::format("`{}` never changes on the wire; it travels {}", wanted,
                            entity.fields[place].words.at_spawn ? "at spawn alone" : "not at all"));
      } else {
        unknown_name(each, fmt::format("field of {}", entity.name), wanted, known);
      }
    }
    // A name that stands twice counts once.
    std::sort(made.fields.begin(), made.fields.end());
    made.fields.erase(std::unique(made.fields.begin(), made.fields.end()), made.fields.end());
  }

  // [[message]]: how often a message is sent and how full its texts and lists are.
  void message(const toml::table& table) {
    known_keys(table, {"message", "per_second", "from", "filled"});
    MessagePlan made;
    made.per_second = number(table, "per_second", 0, kMaxPerSecond);
    const auto wanted = place_of(table, "message", protocol().messages);
    if (!wanted) return;
    made.message = *wanted;
    const schema::MessageType& type = protocol().messages[made.message];
    if (!type.life.alive(protocol().version)) {
      problem(table.get("message")->source(),
              fmt::format("version {} has no `{}` any more", protocol().version, type.name));
    }
    if (type.at_most_per_second > 0 && made.per_second > type.at_most_per_second) {
      problem(table.get("per_second")->source(),
              fmt::format("the description allows at most {} a second", type.at_most_per_second));
    }
    direction(table, type, made);
    payload(table, made);
    made_.plan.messages.push_back(made);
  }

  // A message that travels both ways needs `from`; for others it can only repeat the description.
  void direction(const toml::table& table, const schema::MessageType& type, MessagePlan& made) {
    const toml::node* node = table.get("from");
    if (node == nullptr) {
      if (type.direction == schema::Direction::both) {
        problem(table.source(), fmt::format("`{}` travels both ways; say `from = \"client\"` or "
                                            "`from = \"server\"`",
                                            type.name));
      }
      made.from_client = type.direction == schema::Direction::from_client;
      return;
    }
    const std::string from = node->value_or(std::string());
    made.from_client = from == "client";
    if (from != "client" && from != "server") {
      return problem(node->source(), "`from` is \"client\" or \"server\"");
    }
    const auto way =
        made.from_client ? schema::Direction::from_client : schema::Direction::from_server;
    if (type.direction != schema::Direction::both && type.direction != way) {
      problem(node->source(), fmt::format("`{}` does not travel from the {}", type.name, from));
    }
  }

  // How full values of varying size are: empty, typical, full.
  void payload(const toml::table& table, MessagePlan& made) {
    const toml::node* node = table.get("filled");
    if (node == nullptr) return;
    const std::string filled = node->value_or(std::string());
    if (filled == "least") {
      made.filled = schema::SampleSize::min;
    } else if (filled == "most") {
      made.filled = schema::SampleSize::max;
    } else if (filled != "typical") {
      problem(node->source(), "`filled` is \"least\", \"typical\" or \"most\"");
    }
  }

  // Limits of the whole plan, so that a measurement ends in seconds.
  void check_totals(const toml::table& root) {
    // Sums over all types; each single number was checked where it stands.
    double population = 0;
    double in_view = 0;
    for (const StatePlan& each : made_.plan.state) {
      population += each.population;
      in_view += each.in_view;
    }
    if (population > protocol().entities_up_to && !made_.plan.state.empty()) {
      problem(root.get("state")->source(),
              fmt::format("the plan has {} entities, the description `entities up to {}`",
                          population, protocol().entities_up_to));
    }
    double bits = 0;
    for (const MessagePlan& each : made_.plan.messages) {
      const auto size = schema::size_of(protocol(), protocol().messages[each.message].fields);
      bits += size.max_bits * each.per_second / made_.plan.ticks_per_second;
    }
    if (bits / 8 > kMaxTickBytes) {
      problem(root.get("messages")->source(),
              fmt::format("the messages of one client can take {:.0f} bytes a tick; the most that "
                          "is measured is {:.0f}",
                          bits / 8, kMaxTickBytes));
    }
    if (in_view > kMaxInView) {
      problem(root.get("state")->source(),
              fmt::format("at most {} entities can be in view", kMaxInView));
    }
  }

  language::Compiled shown_;  // the plan, for showing its lines
  ReadPlan made_;
};

}  // namespace

ReadPlan read_plan(std::string_view text, std::string_view name, const Loader& load) {
  return PlanReader(text, name).read(load);
}

}  // namespace kwind::budget
