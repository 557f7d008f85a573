// From the syntax tree to schema::Protocol: names are looked up, ranges checked, sizes bounded.
#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <optional>
#include <set>

#include "field_words.h"
#include "kwind/bits/nearest.h"
#include "kwind/schema/codec.h"
#include "lives.h"
#include "message_checks.h"
#include "ranges.h"
#include "resolver_limits.h"
#include "snake_case.h"

namespace kwind::language {
namespace {

using schema::Type;
using schema::TypeKind;

class Resolver {
 public:
  Resolver(const FileSyntax& file, std::vector<Diagnostic>& errors, std::vector<Diagnostic>& hints)
      : file_(file), reporter_(errors, hints) {}

  schema::Protocol protocol() {
    head();
    collect_names();
    for (const OptionsSyntax& syntax : file_.enums) {
      enum_index_[syntax.name.text] = add_options(out_.enums, syntax, {});
    }
    for (const OptionsSyntax& syntax : file_.flags) {
      flags_index_[syntax.name.text] = add_options(out_.flags, syntax, {});
    }
    for (const RecordSyntax& syntax : file_.records) record_of(syntax);
    for (const QuantitySyntax& syntax : file_.quantities) quantity_of(syntax);
    channels();
    messages();
    entities();
    return std::move(out_);
  }

 private:
  void report(const Token& place, std::string message) {
    reporter_.error(place, std::move(message));
  }

  void head() {
    out_.name = file_.protocol_name.text;
    out_.doc = file_.doc;
    if (file_.version.written() &&
        (file_.version.num < 1 || file_.version.num > limits::kMostVersion)) {
      report(file_.version.place, fmt::format("the version must be 1 to {}", limits::kMostVersion));
    }
    out_.version = static_cast<std::uint16_t>(
        std::clamp<std::int64_t>(file_.version.num, 1, limits::kMostVersion));
    if (out_.name == "kwind" || out_.name == "std" || out_.name == "fmt" || out_.name == "Eigen") {
      report(file_.protocol_name, "the name would clash with a C++ namespace; choose another");
    }
    out_.entities_up_to = limit(file_.entities, limits::kMostEntities, "`entities up to`");
    out_.peers_up_to = limit(file_.peers, limits::kMostPeers, "`peers up to`");
  }
  std::uint32_t limit(const Number& number, std::int64_t most, std::string_view what) {
    if (!number.written()) return 0;
    if (number.num < 1 || number.num > most) {
      report(number.place, fmt::format("the limit of {} must be 1 to {}", what, most));
      return 1;
    }
    return static_cast<std::uint32_t>(number.num);
  }

  // ---- names ----

  void collect_names() {
    std::vector<std::pair<std::string, Token>> all;
    const auto add = [&](const Token& name, std::string_view suffix = "") {
      all.emplace_back(fmt::format("{}{}", name.text, suffix), name);
    };
    for (const auto& syntax : file_.quantities) add(syntax.name);
    for (const auto& syntax : file_.enums) add(syntax.name);
    for (const auto& syntax : file_.flags) add(syntax.name);
    for (const auto& syntax : file_.records) add(syntax.name);
    for (const auto& syntax : file_.entities_declared) add(syntax.name);
    for (const auto& syntax : file_.messages) {
      add(syntax.name);
      if (!syntax.request) continue;
      for (const char* suffix : {"Reply", "Refused", "Refusal", "Answer"}) add(syntax.name, suffix);
    }
    std::stable_sort(all.begin(), all.end(), [](const auto& a, const auto& b) {
      return std::tuple(a.second.file, a.second.line, a.second.column) <
             std::tuple(b.second.file, b.second.line, b.second.column);
    });
    std::map<std::string, std::string> headers;
    for (const auto& [name, place] : all) {
      const auto [found, fresh] = names_.try_emplace(name, place);
      if (!fresh) {
        report(place, fmt::format("`{}` is already declared in line {}; choose another name", name,
                                  found->second.line));
      } else if (const auto [other, first] = headers.try_emplace(snake_case(name), name); !first) {
        report(place, fmt::format("`{}` and `{}` would share the header {}.h; choose another name",
                                  name, other->second, other->first));
      }
    }
    for (const auto& syntax : file_.quantities) quantities_.try_emplace(syntax.name.text, &syntax);
    for (const auto& syntax : file_.records) records_.try_emplace(syntax.name.text, &syntax);
    for (std::size_t i = 0; i < file_.entities_declared.size(); ++i) {
      const Token& name = file_.entities_declared[i].name;
      entity_index_.try_emplace(name.text, static_cast<std::uint32_t>(i));
      out_.entities.push_back({std::string(name.text), {}, {}, {}});
    }
  }

  // ---- enums, flags, one of ----

  struct Home {
    std::string inside;  // the declaration whose field declares it
    Token field;
  };

  std::uint32_t add_options(std::vector<schema::Options>& all, const OptionsSyntax& syntax,
                            const Home& home, std::string name = "") {
    const bool flags = &all == &out_.flags;
    const bool cases = &all == &out_.one_ofs;
    const std::string_view what = flags ? "set of flags" : cases ? "`one of`" : "enum";
    const std::size_t most = flags ? limits::kMostFlags : limits::kMostValues;
    schema::Options made;
    made.name = !name.empty()         ? std::move(name)
                : home.inside.empty() ? std::string(syntax.name.text)
                                      : pascal_case(syntax.name.text);
    made.inside = home.inside;
    made.doc = syntax.doc;
    if (!home.inside.empty() && (names_.contains(made.name) || made.name == home.inside ||
                                 !inline_names_.insert(home.inside + " " + made.name).second)) {
      report(syntax.name, fmt::format("what `{}` declares would be named `{}`, which is declared "
                                      "already; use that type or another name",
                                      syntax.name.text, made.name));
    }
    std::set<std::string_view> seen;
    std::set<std::string> structs;
    for (const OptionSyntax& option : syntax.options) {
      if (!seen.insert(option.name.text).second) {
        report(option.name, fmt::format("`{}` is listed twice", option.name.text));
      } else if (cases && !structs.insert(pascal_case(option.name.text)).second) {
        report(option.name, fmt::format("`{}` and another case would both be named `{}`",
                                        option.name.text, pascal_case(option.name.text)));
      }
      schema::Option value;
      value.name = option.name.text;
      value.life = life_of(option.life, out_.version, reporter_);
      value.doc = option.doc;
      if (!option.type.empty()) {
        Home inner{home.inside, option.name};
        if (auto type = this->type(option.type.front(), inner)) value.type.push_back(*type);
      }
      made.options.push_back(std::move(value));
    }
    if (syntax.options.empty()) report(syntax.name, fmt::format("a {} needs a name in it", what));
    if (syntax.options.size() > most) {
      report(syntax.name, fmt::format("a {} has at most {} names, this one has {}", what, most,
                                      syntax.options.size()));
    }
    if (flags) {
      check_flags(syntax.options, reporter_);
    } else {
      resolve_stand_ins(syntax.name, syntax.options, made.options, out_.version, reporter_);
    }
    if (std::any_of(made.options.begin(), made.options.end(),
                    [](const auto& option) { return !option.life.whole(); })) {
      for (const auto& option : made.options) made.lives.push_back({option.life, option.stand_in});
    }
    all.push_back(std::move(made));
    return static_cast<std::uint32_t>(all.size() - 1);
  }

  // ---- records and quantities ----

  // The place of a record in out_.records, after all that it contains; empty if it contains itself.
  std::optional<std::uint32_t> record_of(const RecordSyntax& syntax) {
    const std::string_view name = syntax.name.text;
    if (const auto done = record_index_.find(name); done != record_index_.end())
      return done->second;
    if (broken_records_.contains(name)) return std::nullopt;  // said once
    if (std::find(open_.begin(), open_.end(), name) != open_.end()) {
      report(syntax.name, fmt::format("the record `{}` contains itself: {} -> {}", name,
                                      fmt::join(open_, " -> "), name));
      return std::nullopt;
    }
    if (open_.size() >= limits::kDeepestRecords) {
      report(syntax.name,
             fmt::format("records are nested more than {} deep", limits::kDeepestRecords));
      return std::nullopt;
    }
    open_.push_back(name);
    std::uint64_t leaves = 0;
    std::vector<schema::Field> made = fields(syntax.fields, name, leaves, false);
    open_.pop_back();
    if (leaves > limits::kMostLeaves) {
      report(syntax.name, fmt::format("`{}` has more than {} fields with all records spelled out",
                                      name, limits::kMostLeaves));
      broken_records_.insert(name);
      return std::nullopt;
    }
    record_index_[name] = add_record(std::string(name), std::move(made), leaves, syntax.doc);
    return record_index_[name];
  }
  std::uint32_t add_record(std::string name, std::vector<schema::Field> fields,
                           std::uint64_t leaves, std::string doc) {
    out_.records.push_back({std::move(name), std::move(fields), std::move(doc)});
    record_leaves_.push_back(leaves);
    return static_cast<std::uint32_t>(out_.records.size() - 1);
  }

  std::optional<Type> quantity_of(const QuantitySyntax& syntax) {
    const std::string_view name = syntax.name.text;
    if (const auto done = quantity_type_.find(name); done != quantity_type_.end()) {
      return done->second;
    }
    quantity_type_[name] = std::nullopt;  // also what one that contains itself finds
    switch (syntax.type.word) {
      case TypeWord::integer:
      case TypeWord::count:
      case TypeWord::real:
      case TypeWord::f32:
      case TypeWord::f64:
      case TypeWord::turn:
      case TypeWord::heading2:
      case TypeWord::heading3:
      case TypeWord::rotation:
      case TypeWord::vec2:
      case TypeWord::vec3: break;
      default:
        report(syntax.type.place,
               "a quantity is a number, an angle, a direction, a rotation or a vector");
        return std::nullopt;
    }
    return quantity_type_[name] = type(syntax.type, {});
  }

  // ---- fields ----

  std::vector<schema::Field> fields(const std::vector<FieldSyntax>& syntax, std::string_view inside,
                                    std::uint64_t& leaves, bool of_entity) {
    std::vector<schema::Field> made;
    std::set<std::string> seen;
    for (const FieldSyntax& field : syntax) {
      schema::Field out;
      out.name = field.name.text;
      out.doc = field.doc;
      if (!seen.insert(out.name).second) {
        report(field.name, fmt::format("the field `{}` is declared twice", out.name));
      }
      out.life = life_of(field.life, out_.version, reporter_);
      if (!field.type) {
        out.untyped = true;
        out.words.local = field.side;
      } else {
        const auto resolved = type(*field.type, {std::string(inside), field.name});
        if (!resolved) continue;
        leaves = std::min(limits::kMostLeaves + 1, leaves + leaves_of(*resolved));
        out.type = *resolved;
        out.unit = unit_of(*field.type);
        if (field.initial) {
          out.written_default = default_of(out_, *field.initial, out.type, reporter_);
        }
      }
      if (of_entity) {
        entity_words(field, out, reporter_);
      } else {
        refuse_entity_words(field, reporter_);
      }
      made.push_back(std::move(out));
    }
    if (of_entity) check_follow(out_, syntax, made, reporter_);
    for (const FieldSyntax& field : syntax) {  // generated beside the field `x`: x_range
      if (seen.contains(std::string(field.name.text) + "_range")) {
        report(field.name, fmt::format("`{0}` and `{0}_range` cannot stand side by side: generated "
                                       "code keeps the range of `{0}` under that name",
                                       field.name.text));
      }
    }
    return made;
  }

  // Of the quantity at the bottom of lists and the like.
  std::string unit_of(const TypeSyntax& syntax) const {
    if (syntax.word == TypeWord::named) {
      const auto found = quantities_.find(syntax.place.text);
      return found == quantities_.end() ? std::string() : unit_of(found->second->type);
    }
    if (!syntax.unit.empty()) return syntax.unit;
    return syntax.element.empty() ? std::string() : unit_of(syntax.element.front());
  }

  std::uint64_t leaves_of(const Type& type) const {
    std::uint64_t leaves = 1;
    if (type.kind == TypeKind::record) leaves += record_leaves_[type.index];
    if (type.kind == TypeKind::one_of) {
      for (const schema::Option& option : out_.one_ofs[type.index].options) {
        if (!option.type.empty()) leaves += leaves_of(option.type.front());
      }
    }
    if (!type.element.empty()) leaves += leaves_of(type.element.front());
    return std::min(limits::kMostLeaves + 1, leaves);
  }

  // ---- types ----

  std::optional<Type> type(const TypeSyntax& syntax, const Home& home) {
    Type made;
    const auto simple = [&](TypeKind kind) {
      made.kind = kind;
      return made;
    };
    switch (syntax.word) {
      case TypeWord::named: return named(syntax.place);
      case TypeWord::boolean: return simple(TypeKind::boolean);
      case TypeWord::f32: return simple(TypeKind::f32);
      case TypeWord::f64: return simple(TypeKind::f64);
      case TypeWord::tick: return simple(TypeKind::tick);
      case TypeWord::integer: return integer_type(syntax, reporter_);
      case TypeWord::real: return real_type(syntax, reporter_);
      case TypeWord::turn:
      case TypeWord::heading2: return turn_type(syntax, reporter_);
      case TypeWord::heading3:
      case TypeWord::rotation: return unit_vector_type(syntax, reporter_);
      case TypeWord::count:
        made.kind = TypeKind::count;
        return limited(syntax.limit, "a count", limits::kMostCount, made);
      case TypeWord::text:
        made.kind = TypeKind::text;
        return limited(syntax.limit, "a text", limits::kMostItems, made);
      case TypeWord::bytes:
        made.kind = TypeKind::bytes;
        return limited(syntax.limit, "bytes", limits::kMostItems, made);
      case TypeWord::enumeration:
        made.kind = TypeKind::enumeration;
        made.index = add_options(out_.enums, {home.field, syntax.options, {}}, home);
        return made;
      case TypeWord::flags:
        made.kind = TypeKind::flags;
        made.index = add_options(out_.flags, {home.field, syntax.options, {}}, home);
        return made;
      case TypeWord::one_of:
        made.kind = TypeKind::one_of;
        made.index = add_options(out_.one_ofs, {home.field, syntax.options, {}}, home);
        if (out_.one_ofs[made.index].options.empty()) return std::nullopt;
        return made;
      case TypeWord::vec2:
      case TypeWord::vec3: return vector(syntax, home);
      case TypeWord::grid: return grid(syntax, home);
      case TypeWord::maybe:
      case TypeWord::list: {
        made.kind = syntax.word == TypeWord::list ? TypeKind::list : TypeKind::maybe;
        const auto element = type(syntax.element.front(), home);
        if (!element) return std::nullopt;
        made.element.push_back(*element);
        if (made.kind == TypeKind::maybe) return made;
        if (schema::size_of(out_, *element).most_bits == 0) {
          report(syntax.element.front().place,
                 "the items of this list take no bits; a `count` says how many there are");
          return std::nullopt;
        }
        made.item_bits = ~0U;
        for (std::uint16_t v = schema::oldest_version(out_); v <= out_.version; ++v) {
          made.item_bits = std::min(made.item_bits, schema::size_of(out_, *element, v).fewest_bits);
        }
        return limited(syntax.limit, "a list", limits::kMostItems, made);
      }
      case TypeWord::ref: return reference(syntax.place);
      case TypeWord::peer:
        if (out_.peers_up_to == 0) {
          report(syntax.place,
                 "`peer` needs to know how many there can be; say so behind the "
                 "version, as in `protocol harbour 1, peers up to 256`");
          return std::nullopt;
        }
        made.kind = TypeKind::peer;
        made.limit = out_.peers_up_to;
        return made;
    }
    return std::nullopt;
  }

  std::optional<Type> limited(const Number& limit, std::string_view what, std::int64_t most,
                              Type made) {
    if (limit.num < 1 || limit.num > most) {
      report(limit.place, fmt::format("the limit of {} must be 1 to {}", what, most));
      return std::nullopt;
    }
    made.limit = static_cast<std::uint32_t>(limit.num);
    if (made.kind != TypeKind::count && one_too_many(made.limit + std::uint64_t{1})) {
      const unsigned bits = bits::bits_for(made.limit + std::uint64_t{1});
      reporter_.hint(limit.place, fmt::format("a length of 0 to {} takes {} bits, 0 to {} would "
                                              "take {}",
                                              made.limit, bits, made.limit - 1, bits - 1));
    }
    return made;
  }

  std::optional<Type> vector(const TypeSyntax& syntax, const Home& home) {
    const auto element = type(syntax.element.front(), home);
    if (!element) return std::nullopt;
    if (element->kind != TypeKind::real && element->kind != TypeKind::integer &&
        element->kind != TypeKind::f32 && element->kind != TypeKind::f64) {
      report(syntax.element.front().place, "the components of a vector are real, int, f32 or f64");
      return std::nullopt;
    }
    Type made;
    made.kind = TypeKind::vec;
    made.limit = syntax.word == TypeWord::vec2 ? 2 : 3;
    made.element.push_back(*element);
    return made;
  }

  std::optional<Type> grid(const TypeSyntax& syntax, const Home& home) {
    const auto element = type(syntax.element.front(), home);
    if (!element) return std::nullopt;
    const bool numbers =
        (element->kind == TypeKind::integer &&
         element->integer.last_index() < limits::kMostCells) ||
        (element->kind == TypeKind::real && element->real.count <= limits::kMostCells) ||
        (element->kind == TypeKind::turn && element->turn.count <= limits::kMostCells);
    if (!numbers && element->kind != TypeKind::boolean && element->kind != TypeKind::enumeration) {
      report(syntax.element.front().place,
             "the cells of a grid are bool, an enum, or an int, real or turn of at most 2^31 "
             "values");
      return std::nullopt;
    }
    Type made;
    made.kind = TypeKind::grid;
    for (const Number* side : {&syntax.limit, &syntax.height}) {
      if (side->num < 1 || side->num > limits::kMostSide) {
        report(side->place, fmt::format("a grid has 1 to {} columns and rows", limits::kMostSide));
        return std::nullopt;
      }
    }
    if (syntax.limit.num * syntax.height.num > limits::kMostGrid) {
      report(syntax.limit.place,
             fmt::format("a grid has at most {} cells, this one {}", limits::kMostGrid,
                         syntax.limit.num * syntax.height.num));
      return std::nullopt;
    }
    made.limit = static_cast<std::uint32_t>(syntax.limit.num);
    made.height = static_cast<std::uint32_t>(syntax.height.num);
    made.element.push_back(*element);
    return made;
  }

  std::optional<Type> reference(const Token& name) {
    const auto found = entity_index_.find(name.text);
    if (found == entity_index_.end()) {
      std::vector<std::string> known;
      known.reserve(out_.entities.size());
      for (const schema::Entity& entity : out_.entities) known.push_back(entity.name);
      const std::string near = bits::nearest(name.text, known);
      report(name,
             near.empty()
                 ? fmt::format("there is no entity `{}`; a `ref` names one", name.text)
                 : fmt::format("there is no entity `{}`; did you mean `{}`?", name.text, near));
      return std::nullopt;
    }
    if (out_.entities_up_to == 0) {
      report(name,
             "`ref` needs to know how many entities there can be; say so behind the version, "
             "as in `protocol harbour 1, entities up to 4000`");
      return std::nullopt;
    }
    Type made;
    made.kind = TypeKind::ref;
    made.index = found->second;
    made.limit = out_.entities_up_to;
    return made;
  }

  std::optional<Type> named(const Token& name) {
    if (const auto quantity = quantities_.find(name.text); quantity != quantities_.end()) {
      return quantity_of(*quantity->second);
    }
    Type made;
    if (const auto found = enum_index_.find(name.text); found != enum_index_.end()) {
      made.kind = TypeKind::enumeration;
      made.index = found->second;
      return made;
    }
    if (const auto found = flags_index_.find(name.text); found != flags_index_.end()) {
      made.kind = TypeKind::flags;
      made.index = found->second;
      return made;
    }
    if (const auto found = records_.find(name.text); found != records_.end()) {
      const auto index = record_of(*found->second);
      if (!index) return std::nullopt;
      made.kind = TypeKind::record;
      made.index = *index;
      return made;
    }
    if (entity_index_.contains(name.text)) {
      report(name, fmt::format("`{0}` is an entity; a field names one with `ref {0}`", name.text));
      return std::nullopt;
    }
    if (names_.contains(std::string(name.text))) {
      report(name, fmt::format("`{}` is a message; a field holds a record, an enum or a quantity",
                               name.text));
      return std::nullopt;
    }
    std::vector<std::string> known = type_words();
    for (const auto& [known_name, token] : names_) known.emplace_back(known_name);
    const std::string near = bits::nearest(name.text, known);
    report(name,
           near.empty()
               ? fmt::format("there is no type `{}`; declare it as a quantity, enum or record",
                             name.text)
               : fmt::format("there is no type `{}`; did you mean `{}`?", name.text, near));
    return std::nullopt;
  }

  // ---- channels, messages, entities ----

  void channels() {
    std::map<std::string_view, Token> seen;
    std::uint16_t newest = 1;
    for (const ChannelSyntax& syntax : file_.channels) {
      const auto [found, fresh] = seen.try_emplace(syntax.name.text, syntax.name);
      if (!fresh) {
        report(syntax.name, fmt::format("the channel `{}` is already declared in line {}",
                                        syntax.name.text, found->second.line));
      }
      schema::Channel made;
      made.name = syntax.name.text;
      made.delivery = syntax.delivery;
      made.high = syntax.high;
      made.bulk = syntax.bulk;
      made.repeat = static_cast<std::uint8_t>(
          syntax.repeat.written() ? limit(syntax.repeat, limits::kMostRepeat, "`repeat`") : 0);
      made.life = life_of(syntax.life, out_.version, reporter_);
      made.doc = syntax.doc;
      if (made.life.since < newest) {
        report(syntax.name,
               "channels are numbered in order, so a new one stands behind all older "
               "ones");
      }
      newest = std::max(newest, made.life.since);
      out_.channels.push_back(std::move(made));
    }
    if (file_.channels.size() > limits::kMostChannels) {
      report(file_.channels[limits::kMostChannels].name,
             fmt::format("a protocol has at most {} channels", limits::kMostChannels));
    }
  }

  void messages() {
    if (file_.messages.size() > limits::kMostMessages) {
      report(file_.messages[limits::kMostMessages].name,
             fmt::format("a protocol has at most {} messages", limits::kMostMessages));
    }
    for (const MessageSyntax& syntax : file_.messages) {
      std::uint64_t leaves = 0;
      schema::MessageType made;
      made.name = syntax.name.text;
      made.role = syntax.request ? schema::MessageRole::request : schema::MessageRole::message;
      made.direction = syntax.direction;
      made.split = syntax.split;
      made.doc = syntax.doc;
      made.fields = fields(syntax.fields, syntax.name.text, leaves, false);
      if (!syntax.whole) {
        if (syntax.request) fields(syntax.reply, syntax.name.text, leaves, false);
        continue;
      }
      made.channel = channel_of(syntax.channel);
      if (syntax.at_most.written() &&
          (syntax.at_most.num < 1 || syntax.at_most.num > limits::kMostRate)) {
        report(syntax.at_most.place,
               fmt::format("the rate must be 1 to {} messages a second", limits::kMostRate));
      }
      made.at_most_per_second = static_cast<std::uint16_t>(syntax.at_most.num);
      made.life = life_of(syntax.life, out_.version, reporter_);
      check_authority(syntax, made, reporter_);
      check_channel_life(out_, syntax, made, reporter_);
      check_message_size(out_, syntax.name, made, leaves, reporter_);
      const schema::MessageType request = made;
      out_.messages.push_back(std::move(made));
      if (syntax.request) add_answer(syntax, request);
    }
  }

  // The answer of a request: a message of its own, that travels the other way.
  void add_answer(const MessageSyntax& syntax, const schema::MessageType& request) {
    schema::MessageType answer = request;
    answer.name = request.name + "Answer";
    answer.role = schema::MessageRole::answer;
    answer.direction =
        request.direction == schema::Direction::from_client   ? schema::Direction::from_server
        : request.direction == schema::Direction::from_server ? schema::Direction::from_client
                                                              : schema::Direction::both;
    answer.at_most_per_second = 0;
    answer.owner_field.clear();
    answer.doc = fmt::format("The answer to {}.", request.name);
    std::uint64_t leaves = 0;
    const std::string reply = request.name + "Reply";
    const std::uint32_t record =
        add_record(reply, fields(syntax.reply, reply, leaves, false), leaves, {});
    schema::Options outcome;
    outcome.name = "Outcome";
    outcome.inside = answer.name;
    outcome.options.push_back({"reply", {}, 0, {}, "What was asked for."});
    outcome.options.back().type.push_back(record_type(record));
    if (!syntax.refusals.empty()) {
      const std::uint32_t reasons =
          add_options(out_.enums, {syntax.name, syntax.refusals, {}}, {}, request.name + "Refusal");
      schema::Field reason;
      reason.name = "reason";
      reason.type.kind = TypeKind::enumeration;
      reason.type.index = reasons;
      schema::Field words;
      words.name = "words";
      words.type.kind = TypeKind::text;
      words.type.limit = limits::kRefusalBytes;
      words.doc = "For people to read.";
      const std::uint32_t refused = add_record(request.name + "Refused", {reason, words}, 2, {});
      outcome.options.push_back({"refused", {}, 1, {}, "Why not."});
      outcome.options.back().type.push_back(record_type(refused));
    }
    out_.one_ofs.push_back(std::move(outcome));
    schema::Field field;
    field.name = "outcome";
    field.type.kind = TypeKind::one_of;
    field.type.index = static_cast<std::uint32_t>(out_.one_ofs.size() - 1);
    answer.fields = {std::move(field)};
    check_message_size(out_, syntax.name, answer, leaves, reporter_);
    out_.messages.push_back(std::move(answer));
  }
  static Type record_type(std::uint32_t index) {
    Type made;
    made.kind = TypeKind::record;
    made.index = index;
    return made;
  }

  std::uint8_t channel_of(const Token& name) {
    std::vector<std::string> known;
    for (std::size_t i = 0; i < file_.channels.size(); ++i) {
      if (file_.channels[i].name.text == name.text) return static_cast<std::uint8_t>(i);
      known.emplace_back(file_.channels[i].name.text);
    }
    const std::string near = bits::nearest(name.text, known);
    report(name,
           near.empty()
               ? fmt::format("there is no channel `{0}`; declare it, as in `channel {0} "
                             "ordered`",
                             name.text)
               : fmt::format("there is no channel `{}`; did you mean `{}`?", name.text, near));
    return 0;
  }

  void entities() {
    if (!file_.entities_declared.empty() && out_.entities_up_to == 0) {
      report(file_.entities_declared.front().name,
             "entities need to know how many there can be; say so behind the version, as in "
             "`protocol harbour 1, entities up to 4000`");
    }
    for (std::size_t i = 0; i < file_.entities_declared.size(); ++i) {
      const EntitySyntax& syntax = file_.entities_declared[i];
      std::uint64_t leaves = 0;
      std::vector<schema::Field> made = fields(syntax.fields, syntax.name.text, leaves, true);
      schema::Entity& entity = out_.entities[i];
      entity.fields = std::move(made);
      entity.life = life_of(syntax.life, out_.version, reporter_);
      entity.doc = syntax.doc;
      const std::size_t bytes = bits::bytes_for(schema::size_of(out_, entity.fields).most_bits);
      if (leaves > limits::kMostLeaves || bytes > limits::kMostEntityBytes) {
        report(
            syntax.name,
            fmt::format("`{}` can take {} bytes in {} fields; an entity has at most "
                        "{} bytes and {} fields",
                        entity.name, bytes, leaves, limits::kMostEntityBytes, limits::kMostLeaves));
      }
    }
  }

  const FileSyntax& file_;
  Reporter reporter_;
  schema::Protocol out_;
  std::map<std::string, Token, std::less<>> names_;
  std::set<std::string> inline_names_;  // "Helm Tone"
  std::map<std::string_view, const QuantitySyntax*> quantities_;
  std::map<std::string_view, const RecordSyntax*> records_;
  std::map<std::string_view, std::uint32_t> enum_index_;
  std::map<std::string_view, std::uint32_t> flags_index_;
  std::map<std::string_view, std::uint32_t> record_index_;
  std::map<std::string_view, std::uint32_t> entity_index_;
  std::set<std::string_view> broken_records_;
  std::vector<std::uint64_t> record_leaves_;
  std::map<std::string_view, std::optional<Type>> quantity_type_;
  std::vector<std::string_view> open_;  // records being resolved, outermost first
};

}  // namespace

schema::Protocol resolve(const FileSyntax& file, std::vector<Diagnostic>& errors,
                         std::vector<Diagnostic>& hints) {
  return Resolver(file, errors, hints).protocol();
}

}  // namespace kwind::language
