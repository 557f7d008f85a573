// Enums as enum classes, flags as structs of bools, and a `one of` as a struct for each case and a
// variant of them. Beside each that not every version knows whole stands a table of lives.
#include "language/cpp_options.h"

#include "language/cpp_codec.h"
#include "language/cpp_names.h"

namespace kwind::language {

using schema::Options;
using schema::Type;

namespace {

// The table of names with their lives: which number stands for which name in which version.
void choices_text(CppHeader& header, const Options& made, std::string_view indent) {
  if (made.lives.empty()) return;
  header.system("<array>");
  header.line("{}{} constexpr std::array<kwind::schema::Choice, {}> {} = {{{{", indent,
              indent.empty() ? "inline" : "static", made.lives.size(), choices_name(made));
  for (const schema::Choice& choice : made.lives) {
    header.line("{}    {{{{{}, {}}}, {}}},", indent, choice.life.since, choice.life.until,
                choice.stand_in);
  }
  header.line("{}}}}};", indent);
}

}  // namespace

unsigned enum_bits(const Options& made) {
  return made.options.size() <= 256 ? 8 : 16;
}
// An enum with the smallest unsigned type, and to_string() beside it.
void write_enum(CppHeader& header, const Options& made, std::string_view indent) {
  header.system("<cstdint>");
  header.system("<string_view>");
  header.text(cpp_comment(made.doc, indent));
  header.line("{}enum class {} : std::uint{}_t {{", indent, made.name, enum_bits(made));
  for (const schema::Option& option : made.options) {
    header.text(cpp_comment(option.doc, std::string(indent) + "  "));
    header.line("{}  {},{}", indent, cpp_name(option.name),
                option.life.whole() ? "" : "  //" + schema::life_text(option.life, " "));
  }
  header.line("{}}};", indent);
  header.line("{}{}constexpr std::string_view name_of({} value) {{", indent,
              indent.empty() ? "" : "friend ", made.name);
  header.line("{}  switch (value) {{", indent);
  for (const schema::Option& option : made.options) {
    header.line("{}    case {}::{}: return \"{}\";", indent, made.name, cpp_name(option.name),
                option.name);
  }
  header.line("{}  }}\n{}  return \"\";\n{}}}", indent, indent, indent);
  choices_text(header, made, indent);
}

// A struct of bools: one member for each flag.
void write_flags(CppHeader& header, const Options& made, std::string_view indent) {
  header.text(cpp_comment(made.doc, indent));
  header.line("{}struct {} {{", indent, made.name);
  for (const schema::Option& option : made.options) {
    header.text(cpp_comment(option.doc, std::string(indent) + "  "));
    header.line("{}  bool {} = false;{}", indent, cpp_name(option.name),
                option.life.whole() ? "" : "  //" + schema::life_text(option.life, " "));
  }
  header.line("{0}  friend bool operator==(const {1}&, const {1}&) = default;", indent, made.name);
  // No field ends in _ but those that would clash with a name of C++.
  header.line("{}  template <class Visitor_>", indent);
  header.line("{}  friend void visit_fields(const {}& from_, Visitor_&& visit_) {{", indent,
              made.name);
  for (const schema::Option& option : made.options) {
    header.line("{}    visit_(\"{}\", from_.{});", indent, option.name, cpp_name(option.name));
  }
  header.line("{}  }}\n{}}};", indent, indent);
}

// A variant of one struct for each case, so that two cases may hold the same type.
void write_one_of(CppHeader& header, const schema::Protocol& protocol, const CppTypes& types,
                  const Options& made) {
  header.line("  struct {} {{", cpp_one_of(made.name));
  std::vector<std::string> cases;
  cases.reserve(made.options.size());
  for (const schema::Option& option : made.options) {
    const std::string name = cpp_case(made.name, option.name);
    cases.push_back(name);
    header.text(cpp_comment(option.doc, "    "));
    header.line("    struct {} {{", name);
    header.line("      static constexpr std::string_view kName = \"{}\";", option.name);
    if (!option.type.empty()) {
      const Type& type = option.type.front();
      const std::string range = CppTypes::range(type, "value");
      if (!range.empty()) header.line("      static constexpr {};", range);
      const std::string scope = "::" + cpp_space(protocol.name) + "::";
      const std::string type_name = types.name(type, scope);
      header.line("      {} value{};  // {}{}", type_name,
                  types.initial(type, schema::initial_value(protocol, type), scope),
                  schema::type_text(protocol, type), schema::life_text(option.life, ", "));
      // Its own constructors: an implicit one could not be used before the whole message is
      // complete, and the variant of all cases is a member of that.
      header.line("      {}() {{}}", name);
      header.line("      explicit {}({} of) : value(std::move(of)) {{}}", name, type_name);
      header.system("<utility>");
    }
    header.line("      friend bool operator==(const {0}&, const {0}&) = default;\n    }};", name);
  }
  header.line("    using OneOf = std::variant<{}>;\n  }};", fmt::join(cases, ", "));
  header.system("<string_view>");
  choices_text(header, made, "  ");
}

}  // namespace kwind::language
