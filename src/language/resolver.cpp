// From the syntax tree to schema::Protocol: names are looked up, ranges checked, sizes bounded.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <optional>
#include <set>

#include "kwind/language/nearest.h"
#include "rational.h"
#include "syntax.h"

namespace kwind::language {
namespace {

using schema::Type;
using schema::TypeKind;

constexpr std::int64_t kMostExact = std::int64_t{1} << 53;  // whole numbers that a double holds
constexpr std::size_t kMostChannels = 16;
constexpr std::size_t kMostMessages = 1024;
constexpr std::size_t kMostValues = 1024;
constexpr std::int64_t kMostLimit = 65535;
constexpr std::uint64_t kMostLeaves = 10000;  // fields of a message with all records spelled out
constexpr int kDeepestRecords = 16;

class Resolver {
 public:
  Resolver(const FileSyntax& file, std::vector<Diagnostic>& errors)
      : file_(file), errors_(errors) {}

  schema::Protocol protocol() {
    out_.name = file_.protocol_name.text;
    if (!file_.version.place.text.empty() && (file_.version.num < 1 || file_.version.num > 65535)) {
      report(file_.version.place, "the version must be 1 to 65535");
    }
    out_.version = static_cast<std::uint32_t>(file_.version.num);
    if (out_.name == "kwind" || out_.name == "std") {
      report(file_.protocol_name, "the name would clash with a C++ namespace; choose another");
    }
    collect_names();
    for (const EnumSyntax& syntax : file_.enums) {
      enum_index_[syntax.name.text] = add_enum(syntax.name, "", syntax.values);
    }
    for (const RecordSyntax& syntax : file_.records) record_of(syntax);
    for (const QuantitySyntax& syntax : file_.quantities) quantity_of(syntax);
    channels();
    messages();
    for (const MessageSyntax& syntax : file_.broken_messages) {
      std::uint64_t leaves = 0;
      fields(syntax.fields, syntax.name.text, leaves);
    }
    return std::move(out_);
  }

 private:
  void report(const Token& place, std::string message) {
    errors_.push_back({place.line, place.column,
                       std::max<std::uint32_t>(1, static_cast<std::uint32_t>(place.text.size())),
                       std::move(message)});
  }

  void collect_names() {
    std::vector<Token> all;
    for (const auto& syntax : file_.quantities) all.push_back(syntax.name);
    for (const auto& syntax : file_.enums) all.push_back(syntax.name);
    for (const auto& syntax : file_.records) all.push_back(syntax.name);
    for (const auto& syntax : file_.messages) all.push_back(syntax.name);
    for (const auto& syntax : file_.broken_messages) all.push_back(syntax.name);
    std::sort(all.begin(), all.end(), [](const Token& a, const Token& b) {
      return std::pair(a.line, a.column) < std::pair(b.line, b.column);
    });
    for (const Token& name : all) {
      const auto [found, fresh] = names_.try_emplace(name.text, name);
      if (!fresh) {
        report(name, fmt::format("`{}` is already declared in line {}; choose another name",
                                 name.text, found->second.line));
      }
    }
    for (const auto& syntax : file_.quantities) quantities_.try_emplace(syntax.name.text, &syntax);
    for (const auto& syntax : file_.records) records_.try_emplace(syntax.name.text, &syntax);
  }

  std::uint32_t add_enum(const Token& place, std::string inside, const std::vector<Token>& values) {
    schema::Enumeration made;
    made.name = place.text;
    if (!inside.empty()) {  // named after its field: cargo_kind makes CargoKind
      made.name.clear();
      bool upper = true;
      for (const char c : place.text) {
        if (c == '_') {
          upper = true;
          continue;
        }
        made.name += upper ? static_cast<char>(c >= 'a' && c <= 'z' ? c - 32 : c) : c;
        upper = false;
      }
      if (names_.contains(made.name) || made.name == inside) {
        report(place, fmt::format("the values of `{}` would be named `{}`, which is declared "
                                  "already; use that type or another field name",
                                  place.text, made.name));
      }
    }
    made.inside = std::move(inside);
    std::set<std::string_view> seen;
    for (const Token& value : values) {
      if (!seen.insert(value.text).second) {
        report(value, fmt::format("the value `{}` is listed twice", value.text));
      }
      made.values.emplace_back(value.text);
    }
    if (values.empty()) report(place, "an enum needs at least one value");
    if (values.size() > kMostValues) {
      report(place, fmt::format("an enum has at most {} values, this one has {}", kMostValues,
                                values.size()));
    }
    out_.enums.push_back(std::move(made));
    return static_cast<std::uint32_t>(out_.enums.size() - 1);
  }

  // The place of a record in out_.records, after all that it contains; empty if it contains itself.
  std::optional<std::uint32_t> record_of(const RecordSyntax& syntax) {
    const std::string_view name = syntax.name.text;
    if (const auto done = record_index_.find(name); done != record_index_.end())
      return done->second;
    if (std::find(open_.begin(), open_.end(), name) != open_.end()) {
      report(syntax.name, fmt::format("the record `{}` contains itself: {} -> {}", name,
                                      fmt::join(open_, " -> "), name));
      return std::nullopt;
    }
    if (open_.size() >= kDeepestRecords) {
      report(syntax.name, fmt::format("records are nested more than {} deep", kDeepestRecords));
      return std::nullopt;
    }
    open_.push_back(name);
    schema::Record made;
    made.name = name;
    std::uint64_t leaves = 0;
    made.fields = fields(syntax.fields, name, leaves);
    open_.pop_back();
    const auto index = static_cast<std::uint32_t>(out_.records.size());
    out_.records.push_back(std::move(made));
    record_index_[name] = index;
    record_leaves_.push_back(leaves);
    return index;
  }

  std::optional<Type> quantity_of(const QuantitySyntax& syntax) {
    const std::string_view name = syntax.name.text;
    if (const auto done = quantity_type_.find(name); done != quantity_type_.end()) {
      return done->second;
    }
    if (syntax.type.word != TypeWord::integer && syntax.type.word != TypeWord::real &&
        syntax.type.word != TypeWord::turn) {
      report(syntax.type.place, "a quantity is an int, a real or a turn");
      quantity_type_[name] = std::nullopt;
      return std::nullopt;
    }
    return quantity_type_[name] = type(syntax.type, syntax.name, "");
  }

  std::vector<schema::Field> fields(const std::vector<FieldSyntax>& syntax, std::string_view inside,
                                    std::uint64_t& leaves) {
    std::vector<schema::Field> made;
    std::set<std::string> seen;
    for (const FieldSyntax& field : syntax) {
      const std::string name(field.name.text);
      if (!seen.insert(name).second) {
        report(field.name, fmt::format("the field `{}` is declared twice", name));
      }
      const auto resolved = type(field.type, field.name, inside);
      if (!resolved) continue;
      leaves = std::min(kMostLeaves + 1, leaves + leaves_of(*resolved));
      made.push_back({name, *resolved});
    }
    for (const FieldSyntax& field :
         syntax) {  // generated beside the field `x`: the constant x_range
      if (seen.contains(std::string(field.name.text) + "_range")) {
        report(field.name, fmt::format("`{0}` and `{0}_range` cannot stand side by side: generated "
                                       "code keeps the range of `{0}` under that name",
                                       field.name.text));
      }
    }
    return made;
  }

  std::uint64_t leaves_of(const Type& type) const {
    switch (type.kind) {
      case TypeKind::record: return 1 + record_leaves_[type.index];
      case TypeKind::list: return 1 + leaves_of(type.element.front());
      case TypeKind::boolean:
      case TypeKind::integer:
      case TypeKind::real:
      case TypeKind::turn:
      case TypeKind::text:
      case TypeKind::enumeration: return 1;
    }
    return 1;
  }

  // ---- types ----

  std::optional<Type> type(const TypeSyntax& syntax, const Token& field, std::string_view inside) {
    Type made;
    switch (syntax.word) {
      case TypeWord::named: return named(syntax.place);
      case TypeWord::boolean: made.kind = TypeKind::boolean; return made;
      case TypeWord::integer: return integer(syntax);
      case TypeWord::real: return real(syntax);
      case TypeWord::turn: return turn(syntax);
      case TypeWord::text: made.kind = TypeKind::text; return limited(syntax.limit, "a text", made);
      case TypeWord::enumeration:
        made.kind = TypeKind::enumeration;
        made.index = add_enum(field, std::string(inside), syntax.values);
        return made;
      case TypeWord::list: {
        made.kind = TypeKind::list;
        const auto element = type(syntax.element.front(), field, inside);
        if (!element) return std::nullopt;
        made.element.push_back(*element);
        return limited(syntax.limit, "a list", made);
      }
    }
    return std::nullopt;
  }

  std::optional<Type> limited(const Number& limit, std::string_view what, Type made) {
    if (limit.num < 1 || limit.num > kMostLimit) {
      report(limit.place, fmt::format("the limit of {} must be 1 to {}", what, kMostLimit));
      return std::nullopt;
    }
    made.limit = static_cast<std::uint32_t>(limit.num);
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
    if (const auto found = records_.find(name.text); found != records_.end()) {
      const auto index = record_of(*found->second);
      if (!index) return std::nullopt;
      made.kind = TypeKind::record;
      made.index = *index;
      return made;
    }
    if (names_.contains(name.text)) {
      report(name, fmt::format("`{}` is a message; a field holds a record, an enum or a quantity",
                               name.text));
      return std::nullopt;
    }
    std::vector<std::string> known = {"bool", "int", "real", "turn", "text", "enum", "list"};
    for (const auto& [known_name, token] : names_) known.emplace_back(known_name);
    const std::string near = nearest(name.text, known);
    report(name,
           near.empty()
               ? fmt::format("there is no type `{}`; declare it as a quantity, enum or record",
                             name.text)
               : fmt::format("there is no type `{}`; did you mean `{}`?", name.text, near));
    return std::nullopt;
  }

  std::optional<Type> integer(const TypeSyntax& syntax) {
    for (const Number* end : {&syntax.lo, &syntax.hi}) {
      if (end->num % end->den != 0) {
        report(end->place,
               "the range of an int has whole ends; use `real LO..HI step S` for parts");
        return std::nullopt;
      }
    }
    const std::int64_t lo = syntax.lo.num / syntax.lo.den;
    std::int64_t hi = syntax.hi.num / syntax.hi.den;
    if (hi < lo || (syntax.end_left_out && hi == lo)) {
      report_empty(syntax);
      return std::nullopt;
    }
    if (syntax.end_left_out) --hi;
    Type made;
    made.kind = TypeKind::integer;
    made.integer = {lo, hi};
    return made;
  }

  void report_empty(const TypeSyntax& syntax) {
    report(syntax.lo.place,
           "the range is empty: its low end is not below its high end; write the "
           "lower number first");
  }

  // A step near `step` / `common` that divides `span` / `common`: a round one if one is near, else
  // the nearest of all.
  static std::string dividing_step(std::int64_t span, std::int64_t step, std::int64_t common) {
    const double wanted = static_cast<double>(step) / static_cast<double>(common);
    double best = 0.35;  // as a logarithm: a factor of 1.4
    std::string found;
    const auto offer = [&](std::int64_t num, std::int64_t den, const std::string& text) {
      if (Wide{span} * den % (Wide{num} * common) != 0) return;
      const double off =
          std::abs(std::log(static_cast<double>(num) / static_cast<double>(den) / wanted));
      if (off < best) {
        best = off;
        found = text;
      }
    };
    std::int64_t power = 1;
    for (int k = 0; k <= 20; ++k, power *= 2) {
      offer(1, power, k == 0 ? "1" : fmt::format("1/{}", power));
      offer(power, 1, fmt::format("{}", power));
    }
    power = 1;
    for (int k = 0; k <= 6; ++k, power *= 10) {
      for (const std::int64_t digit : {1, 2, 5}) {
        offer(digit, power,
              fmt::format("{}", static_cast<double>(digit) / static_cast<double>(power)));
        offer(digit * power, 1, fmt::format("{}", digit * power));
      }
    }
    if (!found.empty()) return found;
    const std::int64_t steps = std::max<std::int64_t>(1, (span + step / 2) / step);
    const std::int64_t shared = std::gcd(span, steps * common);
    return steps * common == shared ? fmt::format("{}", span / shared)
                                    : fmt::format("{}/{}", span / shared, steps * common / shared);
  }

  std::optional<Type> real(const TypeSyntax& syntax) {
    const auto too_fine = [&] {
      report(syntax.step.place, "range and step need more than 53 bits; use a coarser step");
      return std::nullopt;
    };
    if (syntax.step.num <= 0) {
      report(syntax.step.place, "the step must be above 0");
      return std::nullopt;
    }
    const auto scale = common_multiple(syntax.lo.den, syntax.hi.den);
    const auto common = scale ? common_multiple(*scale, syntax.step.den) : std::nullopt;
    if (!common) return too_fine();
    const auto lo = product(syntax.lo.num, *common / syntax.lo.den);
    const auto hi = product(syntax.hi.num, *common / syntax.hi.den);
    const auto step = product(syntax.step.num, *common / syntax.step.den);
    const auto exact = [](const std::optional<std::int64_t>& n) {
      return n && *n <= kMostExact && *n >= -kMostExact;
    };
    if (!exact(lo) || !exact(hi) || !exact(step) || *common > kMostExact) return too_fine();
    if (*hi <= *lo) {
      report_empty(syntax);
      return std::nullopt;
    }
    const std::int64_t span = *hi - *lo;
    if (span % *step != 0) {
      report(syntax.step.place, fmt::format("the step does not divide the range; {} would",
                                            dividing_step(span, *step, *common)));
      return std::nullopt;
    }
    Type made;
    made.kind = TypeKind::real;
    const std::int64_t shared = std::gcd(std::gcd(*lo, *step), *common);  // lowest terms: canonical
    made.real = {*lo / shared, *step / shared, *common / shared,
                 static_cast<std::uint64_t>(span / *step) + (syntax.end_left_out ? 0 : 1)};
    return made;
  }

  std::optional<Type> turn(const TypeSyntax& syntax) {
    const Number& step = syntax.step;
    if (step.num <= 0) {
      report(step.place, "the step must be above 0");
      return std::nullopt;
    }
    const Wide whole = Wide{360} * step.den;
    if (whole > kMostExact || step.num > kMostExact) {
      report(step.place, "the step needs more than 53 bits; use a coarser one");
      return std::nullopt;
    }
    if (whole % step.num != 0) {
      report(step.place,
             fmt::format("the step does not divide 360 degrees; the nearest that does is "
                         "360/{}",
                         std::max<std::int64_t>(
                             1, static_cast<std::int64_t>((whole + step.num / 2) / step.num))));
      return std::nullopt;
    }
    Type made;
    made.kind = TypeKind::turn;
    const std::int64_t shared = std::gcd(step.num, step.den);
    made.turn = {step.num / shared, step.den / shared,
                 static_cast<std::uint64_t>(whole / step.num)};
    return made;
  }

  // ---- channels and messages ----

  void channels() {
    std::map<std::string_view, Token> seen;
    for (const ChannelSyntax& syntax : file_.channels) {
      const auto [found, fresh] = seen.try_emplace(syntax.name.text, syntax.name);
      if (!fresh) {
        report(syntax.name, fmt::format("the channel `{}` is already declared in line {}",
                                        syntax.name.text, found->second.line));
      }
      out_.channels.push_back({std::string(syntax.name.text), syntax.delivery});
    }
    if (file_.channels.size() > kMostChannels) {
      report(file_.channels[kMostChannels].name,
             fmt::format("a protocol has at most {} channels", kMostChannels));
    }
  }

  void messages() {
    if (file_.messages.size() > kMostMessages) {
      report(file_.messages[kMostMessages].name,
             fmt::format("a protocol has at most {} messages", kMostMessages));
    }
    for (const MessageSyntax& syntax : file_.messages) {
      schema::MessageType made;
      made.name = syntax.name.text;
      made.direction = syntax.direction;
      made.channel = channel_of(syntax.channel);
      if (syntax.at_most.place.kind != TokenKind::end &&
          (syntax.at_most.num < 1 || syntax.at_most.num > 10000)) {
        report(syntax.at_most.place, "the rate must be 1 to 10000 messages a second");
      }
      made.at_most_per_second = static_cast<std::uint16_t>(syntax.at_most.num);
      std::uint64_t leaves = 0;
      made.fields = fields(syntax.fields, syntax.name.text, leaves);
      check_size(syntax, made, leaves);
      out_.messages.push_back(std::move(made));
    }
  }

  void check_size(const MessageSyntax& syntax, const schema::MessageType& made,
                  std::uint64_t leaves) {
    if (leaves > kMostLeaves) {
      report(syntax.name, fmt::format("`{}` has more than {} fields with all records spelled out",
                                      made.name, kMostLeaves));
      return;
    }
    const schema::Size size = schema::size_of(out_, made.fields);
    if (size.most_bits <= kMostMessageBytes * 8) return;
    const auto largest =
        std::max_element(made.fields.begin(), made.fields.end(), [&](const auto& a, const auto& b) {
          return schema::size_of(out_, a.type).most_bits < schema::size_of(out_, b.type).most_bits;
        });
    report(syntax.name,
           fmt::format(
               "`{}` can take {} bytes, a datagram carries {}; lower the limits of `{}` ({} bytes)",
               made.name, bits::bytes_for(size.most_bits), kMostMessageBytes, largest->name,
               bits::bytes_for(schema::size_of(out_, largest->type).most_bits)));
  }

  std::uint8_t channel_of(const Token& name) {
    std::vector<std::string> known;
    for (std::size_t i = 0; i < file_.channels.size(); ++i) {
      if (file_.channels[i].name.text == name.text) return static_cast<std::uint8_t>(i);
      known.emplace_back(file_.channels[i].name.text);
    }
    const std::string near = nearest(name.text, known);
    report(name,
           near.empty()
               ? fmt::format("there is no channel `{0}`; declare it, as in `channel {0} "
                             "ordered`",
                             name.text)
               : fmt::format("there is no channel `{}`; did you mean `{}`?", name.text, near));
    return 0;
  }

  const FileSyntax& file_;
  std::vector<Diagnostic>& errors_;
  schema::Protocol out_;
  std::map<std::string_view, Token, std::less<>> names_;
  std::map<std::string_view, const QuantitySyntax*> quantities_;
  std::map<std::string_view, const RecordSyntax*> records_;
  std::map<std::string_view, std::uint32_t> enum_index_;
  std::map<std::string_view, std::uint32_t> record_index_;
  std::vector<std::uint64_t> record_leaves_;
  std::map<std::string_view, std::optional<Type>> quantity_type_;
  std::vector<std::string_view> open_;  // records being resolved, outermost first
};

}  // namespace

schema::Protocol resolve(const FileSyntax& file, std::vector<Diagnostic>& errors) {
  return Resolver(file, errors).protocol();
}

}  // namespace kwind::language
