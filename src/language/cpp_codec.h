// Writes the bodies of encode() and decode(). Values of fixed size that stand side by side are
// written and read 64 bits at a time. Composed by the generator. Pure.
#pragma once
#include <string>
#include <vector>

#include "language/cpp_types.h"

namespace kwind::language {

class CppCodec {
 public:
  /// All must outlive this.
  CppCodec(const schema::Protocol& protocol, const CppTypes& types)
      : protocol_(protocol), types_(types) {}

  /// Statements that encode the fields of the struct `owner`, held in `from`.
  std::string encode(const std::string& owner, const std::vector<schema::Field>& fields);
  /// Statements that decode them into `to`.
  std::string decode(const std::string& owner, const std::vector<schema::Field>& fields);

 private:
  struct Range {  // where the range constants of a value are
    std::string prefix;
  };

  void fields(const std::string& owner, const std::vector<schema::Field>& all,
              const std::string& object);
  void value(const schema::Type& type, const std::string& value, const Range& range);
  void leaf(const schema::Type& type, const std::string& value, const Range& range);
  [[nodiscard]] bool is_pieces(const schema::Type& type) const;
  void list_of_pieces(const schema::Type& type, const std::string& value, const Range& range);
  void list(const schema::Type& type, const std::string& value, const Range& range);
  void maybe(const schema::Type& type, const std::string& value, const Range& range);
  void grid(const schema::Type& type, const std::string& value, const Range& range);
  void flags(const schema::Options& options, const std::string& value);
  void encode_one_of(const schema::Options& options, const std::string& value);
  void decode_one_of(const schema::Options& options, const std::string& value);
  void one_of_case(const schema::Options& options, std::size_t place, const std::string& held);
  [[nodiscard]] bool carries_nothing(const schema::Option& option) const;
  [[nodiscard]] bool expands(const schema::Type& type) const;
  [[nodiscard]] std::string choice(const schema::Options& options, const std::string& value) const;

  void piece(std::string text, unsigned bits);
  void flush();
  void line(std::string text);
  void open(std::string text);
  void close(std::string text = "}");
  std::string variable(std::string_view name);
  std::string unique(std::string_view name);

  const schema::Protocol& protocol_;
  const CppTypes& types_;
  bool encoding_ = true;
  std::string codec_;  // the variable that writes or reads
  std::string out_;
  std::string indent_;
  std::vector<std::string> pieces_;
  unsigned piece_bits_ = 0;
  unsigned depth_ = 0;
  unsigned uniques_ = 0;
};

/// The name of the table of lives of an enum or one of.
std::string choices_name(const schema::Options& options);
/// "out.version() >= 2 && out.version() < 5" for a life span, or "".
std::string alive_text(const schema::Life& life, std::string_view codec);

}  // namespace kwind::language
