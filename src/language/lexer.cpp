#include "lexer.h"

#include <fmt/format.h>

#include <algorithm>

namespace kwind::language {
namespace {

bool is_letter(char c) {
  return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || c == '_';
}
bool is_digit(char c) {
  return c >= '0' && c <= '9';
}
bool is_blank(char c) {
  return c == ' ' || c == '\t' || c == '\r';
}

std::size_t token_length(std::string_view rest) {
  const auto run = [&](std::size_t from, auto accept) {
    while (from < rest.size() && accept(rest[from])) ++from;
    return from;
  };
  if (is_letter(rest[0])) return run(1, [](char c) { return is_letter(c) || is_digit(c); });
  if (is_digit(rest[0])) {
    const std::size_t whole = run(1, is_digit);
    // "0.5" is one number, "0..5" is a number and two dots.
    if (whole + 1 < rest.size() && rest[whole] == '.' && is_digit(rest[whole + 1])) {
      return run(whole + 1, is_digit);
    }
    return whole;
  }
  if (rest.starts_with("..<")) return 3;
  if (rest.starts_with("..")) return 2;
  return std::string_view(":,{}=/-").find(rest[0]) != std::string_view::npos ? 1 : 0;
}

}  // namespace

std::vector<Token> tokenize(std::string_view text, std::vector<Diagnostic>& errors) {
  std::vector<Token> tokens;
  std::uint32_t line = 1;
  std::size_t line_start = 0;
  bool first_on_line = true;
  std::size_t at = text.starts_with("\xef\xbb\xbf") ? 3 : 0;  // a byte order mark is harmless
  while (at < text.size()) {
    const char c = text[at];
    if (c == '\n') {
      ++line;
      line_start = ++at;
      first_on_line = true;
      continue;
    }
    if (is_blank(c)) {
      ++at;
      continue;
    }
    if (c == '#') {
      at = std::min(text.find('\n', at), text.size());
      continue;
    }
    const auto column = static_cast<std::uint32_t>(at - line_start + 1);
    std::size_t length = token_length(text.substr(at));
    if (length == 0) {
      const std::size_t begin = at;
      while (at < text.size() && text[at] != '\n' && !is_blank(text[at]) && text[at] != '#' &&
             token_length(text.substr(at)) == 0) {
        ++at;
      }
      const auto byte = static_cast<unsigned char>(text[begin]);
      const std::string shown = byte > 0x20 && byte < 0x7f ? fmt::format("`{}`", text[begin])
                                                           : fmt::format("the byte 0x{:02x}", byte);
      errors.push_back({line, column, static_cast<std::uint32_t>(at - begin),
                        fmt::format("{} has no meaning here; names are made of letters, digits and "
                                    "_, comments start with #",
                                    shown)});
      tokens.push_back(
          {TokenKind::bad, text.substr(begin, at - begin), line, column, first_on_line});
      first_on_line = false;
      continue;
    }
    const TokenKind kind = is_letter(c)  ? TokenKind::word
                           : is_digit(c) ? TokenKind::number
                                         : TokenKind::symbol;
    tokens.push_back({kind, text.substr(at, length), line, column, first_on_line});
    first_on_line = false;
    at += length;
  }
  tokens.push_back(
      {TokenKind::end, {}, line, static_cast<std::uint32_t>(at - line_start + 1), true});
  return tokens;
}

}  // namespace kwind::language
