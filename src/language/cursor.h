// A place in the tokens of one file: steps over words, symbols and numbers, and reports what it
// expected where it meets something else. What the grammar is, the parser knows.
#pragma once
#include <string>
#include <string_view>
#include <vector>

#include "language/syntax.h"

namespace kwind::language {

struct Recover {};  // thrown after an error was reported, caught where parsing can go on

class Cursor {
 public:
  Cursor(const std::vector<Token>& tokens, std::vector<Diagnostic>& errors)
      : tokens_(tokens), errors_(errors) {}

 protected:
  [[nodiscard]] const Token& peek(std::size_t ahead = 0) const {
    return tokens_[std::min(at_ + ahead, tokens_.size() - 1)];
  }
  /// The token passed last. Requires: one was passed.
  [[nodiscard]] const Token& last() const { return tokens_[at_ - 1]; }
  const Token& next() {
    const Token& token = peek();
    if (at_ + 1 < tokens_.size()) ++at_;
    return token;
  }
  [[nodiscard]] bool at_end() const { return peek().kind == TokenKind::end; }
  [[nodiscard]] bool is(std::string_view text) const { return peek().text == text; }
  bool accept(std::string_view text) {
    if (!is(text)) return false;
    next();
    return true;
  }
  /// Two words in a row, or neither is passed.
  bool accept(std::string_view first, std::string_view second) {
    if (!is(first) || peek(1).text != second) return false;
    next();
    next();
    return true;
  }

  void report(const Token& place, std::string message);
  [[noreturn]] void stop(const Token& place, std::string message);
  /// Reports at the next token; or, if that stands in a later line, behind the last one.
  [[noreturn]] void stop_here(std::string message);
  [[noreturn]] void stop_expected(std::string_view what);
  /// Reports a word that is none of `known`, with the nearest of them.
  [[noreturn]] void stop_unknown(const Token& word, std::string_view what,
                                 const std::vector<std::string>& known);
  void expect(std::string_view symbol);

  Token word(std::string_view what);
  Token type_name(std::string_view what);
  Token value_name(std::string_view what);
  Number whole_number(std::string_view what);
  /// [-] digits [. digits] [/ digits]
  Number number(std::string_view what, bool fraction = true);

  static std::string shown(const Token& token);

  std::vector<Diagnostic>& errors() { return errors_; }
  [[nodiscard]] std::size_t place() const { return at_; }

 private:
  [[nodiscard]] bool ends_line() const;
  void check_name(const Token& name);
  std::int64_t whole(const Token& place, std::string_view digits, bool negative);

  const std::vector<Token>& tokens_;
  std::vector<Diagnostic>& errors_;
  std::size_t at_ = 0;
};

}  // namespace kwind::language
