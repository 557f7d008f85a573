// Names to types: what a field says becomes a schema::Type, and the records, enums and flags that
// it names come to stand in the protocol before it. Private to the resolver.
#pragma once
#include <map>
#include <optional>
#include <set>
#include <string>
#include <string_view>
#include <vector>

#include "kwind/schema/protocol.h"
#include "language/ranges.h"
#include "language/syntax.h"

namespace kwind::language {

class Types {
 public:
  /// Borrows all three; `out` has its version and limits already.
  Types(const FileSyntax& file, schema::Protocol& out, Reporter& reporter)
      : file_(file), out_(out), reporter_(reporter) {}

  /// Fills in all enums, flags and records, and the names of all entities.
  void declare();

  /// The fields of a declaration; adds to `leaves` how many there are with all records spelled out.
  std::vector<schema::Field> fields(const std::vector<FieldSyntax>& syntax, std::string_view inside,
                                    std::uint64_t& leaves, bool of_entity);

  /// Add what no text declares: the parts of answers. Each returns its place in the protocol.
  std::uint32_t add_record(std::string name, std::vector<schema::Field> fields,
                           std::uint64_t leaves, std::string doc);
  std::uint32_t add_enum(const OptionsSyntax& syntax, std::string name);

 private:
  // The declaration and the field in which a type stands.
  struct Home {
    std::string inside;
    Token field;
  };

  void report(const Token& place, std::string message) {
    reporter_.error(place, std::move(message));
  }
  void collect_names();
  std::uint32_t add_options(std::vector<schema::Options>& all, const OptionsSyntax& syntax,
                            const Home& home, std::string name = "");
  std::optional<std::uint32_t> record_of(const RecordSyntax& syntax);
  std::optional<schema::Type> quantity_of(const QuantitySyntax& syntax);
  std::string unit_of(const TypeSyntax& syntax) const;
  std::uint64_t leaves_of(const schema::Type& type) const;
  std::optional<schema::Type> type(const TypeSyntax& syntax, const Home& home);
  std::optional<schema::Type> limited(const Number& limit, std::string_view what, std::int64_t max,
                                      schema::Type made);
  std::optional<schema::Type> list_or_maybe(const TypeSyntax& syntax, const Home& home);
  std::optional<schema::Type> vector(const TypeSyntax& syntax, const Home& home);
  std::optional<schema::Type> grid(const TypeSyntax& syntax, const Home& home);
  std::optional<schema::Type> reference(const Token& name);
  std::optional<schema::Type> named(const Token& name);

  const FileSyntax& file_;
  schema::Protocol& out_;
  Reporter& reporter_;
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
  std::map<std::string_view, std::optional<schema::Type>> quantity_type_;
  std::set<std::string_view> quantities_under_way_;
  std::vector<std::string_view> open_;  // records being resolved, outermost first
};

}  // namespace kwind::language
