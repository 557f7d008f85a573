// Text of a .kw file to tokens. Pure.
#pragma once
#include <cstdint>
#include <string_view>
#include <vector>

#include "kwind/language/compile.h"

namespace kwind::language {

enum class TokenKind : std::uint8_t { word, number, symbol, bad, end };

struct Token {
  TokenKind kind = TokenKind::end;
  std::string_view text;  ///< points into the file; empty at the end
  std::uint32_t line = 1;
  std::uint32_t column = 1;
  bool first_on_line = false;
};

/// All tokens, the last of kind `end`. Bytes that start no token are reported and become a `bad`
/// one, about which the parser says nothing more.
std::vector<Token> tokenize(std::string_view text, std::vector<Diagnostic>& errors);

}  // namespace kwind::language
