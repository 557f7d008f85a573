// Splits text into words, numbers, strings, symbols and comments, in one pass from left to right.
//
// A hand-written scanner (longest match). Tokens are views of the text, which must outlive them;
// line and column count bytes from 1. A byte that begins no token becomes a token of the kind
// `bad`, so that the parser sees where it stood.
#include "language/lexer.h"

#include <fmt/format.h>

#include <algorithm>

namespace kwind::language {
namespace {

bool is_letter(char c) {
  // ASCII alone: names become identifiers of C++, C and TypeScript.
  return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || c == '_';
}
bool is_digit(char c) {
  return c >= '0' && c <= '9';
}
bool is_blank(char c) {
  return c == ' ' || c == '\t' || c == '\r';
}

// Length of the token at the front: the longest that fits.
std::size_t token_length(std::string_view rest) {
  const auto run = [&](std::size_t from, auto accept) {
    // Invariant: [0, from) is part of the token.
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
  if (rest[0] == '"') {
    // A text ends on its line: a forgotten quote costs one line, not the file.
    const std::size_t end = rest.find_first_of("\"\n", 1);
    return end == std::string_view::npos || rest[end] == '\n' ? 0 : end + 1;
  }
  if (rest.starts_with("..<")) return 3;
  if (rest.starts_with("..")) return 2;
  return std::string_view(":,{}=/-").find(rest[0]) != std::string_view::npos ? 1 : 0;
}

// Bytes from the start of `rest` that no token starts with, up to the next blank.
std::size_t bad_length(std::string_view rest) {
  if (rest[0] == '"') return std::min(rest.find('\n'), rest.size());
  std::size_t length = 1;
  // Up to where something begins that can be read again.
  while (length < rest.size() && rest[length] != '\n' && !is_blank(rest[length]) &&
         rest[length] != '#' && rest[length] != '"' && token_length(rest.substr(length)) == 0) {
    ++length;
  }
  return length;
}

// Why no token begins here.
std::string why_bad(std::string_view rest) {
  if (rest[0] == '"') return "the text has no closing \" in its line";
  const auto byte = static_cast<unsigned char>(rest[0]);
  const std::string shown = byte > 0x20 && byte < 0x7f ? fmt::format("`{}`", rest[0])
                                                       : fmt::format("the byte 0x{:02x}", byte);
  return fmt::format(
      "{} has no meaning here; names are made of letters, digits and _, comments start with #",
      shown);
}

// Without blanks at both ends.
std::string_view trimmed(std::string_view text) {
  while (!text.empty() && is_blank(text.front())) text.remove_prefix(1);
  while (!text.empty() && is_blank(text.back())) text.remove_suffix(1);
  return text;
}

}  // namespace

// One pass over the text. Comments are kept beside the tokens: they document declarations.
Tokens tokenize(std::string_view text, std::uint16_t file, std::vector<Diagnostic>& errors) {
  Tokens made;
  std::uint32_t line = 1;
  std::size_t line_start = 0;
  bool first_on_line = true;
  std::size_t at = text.starts_with("\xef\xbb\xbf") ? 3 : 0;  // a byte order mark is harmless
  // Each pass consumes at least one byte.
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
      const std::size_t end = std::min(text.find('\n', at), text.size());
      made.comments.push_back({trimmed(text.substr(at + 1, end - at - 1)), line, first_on_line});
      at = end;
      continue;
    }
    const auto column = static_cast<std::uint32_t>(at - line_start + 1);
    std::size_t length = token_length(text.substr(at));
    TokenKind kind = is_letter(c)  ? TokenKind::word
                     : is_digit(c) ? TokenKind::number
                     : c == '"'    ? TokenKind::string
                                   : TokenKind::symbol;
    if (length == 0) {
      kind = TokenKind::bad;
      length = bad_length(text.substr(at));
      errors.push_back(
          {line, column, static_cast<std::uint32_t>(length), why_bad(text.substr(at)), file});
    }
    made.tokens.push_back({kind, text.substr(at, length), line, column, first_on_line, file});
    first_on_line = false;
    at += length;
  }
  made.tokens.push_back(
      {TokenKind::end, {}, line, static_cast<std::uint32_t>(at - line_start + 1), true, file});
  return made;
}

// The comment directly above a declaration, or behind its first line.
std::string doc_comment(const std::vector<Comment>& comments, const Token& first,
                        std::uint32_t end_line) {
  const auto at = [&](std::uint32_t line) {
    const auto found =
        std::lower_bound(comments.begin(), comments.end(), line,
                         [](const Comment& c, std::uint32_t l) { return c.line < l; });
    return found != comments.end() && found->line == line ? &*found : nullptr;
  };
  std::uint32_t top = first.line;
  // Lines directly above that have nothing but a comment.
  while (first.first_on_line && top > 1) {
    const Comment* above = at(top - 1);
    if (above == nullptr || !above->alone) break;
    --top;
  }
  std::string out;
  const auto add = [&](std::string_view line) {
    if (!out.empty()) out += '\n';
    out += line;
  };
  for (std::uint32_t line = top; line < first.line; ++line) add(at(line)->text);
  const Comment* behind = end_line == 0 ? nullptr : at(end_line);
  if (behind != nullptr && !behind->alone) add(behind->text);
  return out;
}

}  // namespace kwind::language
