// Text of a .kw file to tokens and comments. Pure.
#pragma once
#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

#include "kwind/language/compile.h"

namespace kwind::language {

enum class TokenKind : std::uint8_t { word, number, symbol, string, bad, end };

struct Token {
  TokenKind kind = TokenKind::end;
  std::string_view text;  ///< points into the file; empty at the end; a string has its quotes
  std::uint32_t line = 1;
  std::uint32_t column = 1;
  bool first_on_line = false;
  std::uint16_t file = 0;
};

struct Comment {
  std::string_view text;  ///< without # and the blanks around it
  std::uint32_t line = 1;
  bool alone = false;  ///< nothing stands before it in its line
};

struct Tokens {
  std::vector<Token> tokens;      ///< the last of kind `end`
  std::vector<Comment> comments;  ///< in the order of their lines
};

/// Bytes that start no token are reported and become a `bad` one, about which the parser says
/// nothing more.
Tokens tokenize(std::string_view text, std::uint16_t file, std::vector<Diagnostic>& errors);

/// The doc comment of what begins with `first`: the lines of comments right above, and the comment
/// that ends line `end_line`; 0: none does.
std::string doc_comment(const std::vector<Comment>& comments, const Token& first,
                        std::uint32_t end_line);

}  // namespace kwind::language
