// The part of the grammar that declarations share: types, the options of enums and of `one of`,
// `since` and `until`, and which comment belongs to what.
#pragma once
#include <string>
#include <string_view>
#include <vector>

#include "language/cursor.h"

namespace kwind::language {

class TypeParser : protected Cursor {
 protected:
  TypeParser(const Tokens& lexed, std::vector<Diagnostic>& errors)
      : Cursor(lexed.tokens, errors), comments_(lexed.comments) {}

  void begin_declaration(const Token& start) {
    declaration_line_ = start.line;
    part_owns_first_line_ = false;
  }
  /// What comes next is inside of no type: parsing went on after an error.
  void begin_type() { depth_ = 0; }

  /// The comment of a declaration, unless a field that ends its first line has it.
  [[nodiscard]] std::string doc_of_declaration(const Token& first) const;
  /// Of a field, value or case: a comment after it is its own if it ends the line.
  std::string doc_of_part(const Token& first);

  void said_twice(const Token& word);
  /// `since N` and `until N`, each once. False: `first` is another word.
  bool life_word(const Token& first, LifeSyntax& life);
  void life(LifeSyntax& life);
  /// Values, flags or cases, which are separated by commas or new lines. Typed: those of `one of`.
  std::vector<OptionSyntax> option_list(bool typed);
  /// A type with its unit.
  TypeSyntax type();

 private:
  TypeSyntax type_inside();
  void list_of(TypeSyntax& made);
  void grid_of(TypeSyntax& made);
  void range(TypeSyntax& made, std::string_view name, std::string_view form);
  void step(TypeSyntax& made);

  const std::vector<Comment>& comments_;
  int depth_ = 0;
  std::uint32_t declaration_line_ = 0;
  bool part_owns_first_line_ = false;
};

}  // namespace kwind::language
