// Steps over tokens for the recursive-descent parser: takes the expected word, symbol or number, or
// reports what was expected.
#include "language/cursor.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <limits>

#include "kwind/bits/nearest.h"

namespace kwind::language {

// A token that the lexer refused has been reported already.
void Cursor::report(const Token& place, std::string message) {
  if (place.kind == TokenKind::bad) return;  // the lexer has spoken
  errors_.push_back({place.line, place.column,
                     std::max<std::uint32_t>(1, static_cast<std::uint32_t>(place.text.size())),
                     std::move(message), place.file});
}

void Cursor::stop(const Token& place, std::string message) {
  report(place, std::move(message));
  throw Recover{};
}

std::string Cursor::shown(const Token& token) {
  return token.kind == TokenKind::end ? "the end of the file" : fmt::format("`{}`", token.text);
}

bool Cursor::ends_line() const {
  return at_ > 0 && peek().first_on_line && peek().kind != TokenKind::bad &&
         peek().line > tokens_[at_ - 1].line;
}

void Cursor::stop_expected(std::string_view what) {
  stop_here(fmt::format("expected {}, found {}", what,
                        ends_line() ? "the end of the line" : shown(peek())));
}

// At the end of a line the place is right behind the last token, not at the next line's start.
void Cursor::stop_here(std::string message) {
  if (!ends_line()) stop(peek(), std::move(message));
  Token behind = tokens_[at_ - 1];
  behind.column += static_cast<std::uint32_t>(behind.text.size());
  behind.text = {};
  stop(behind, std::move(message));
}

// Names what was found and what would do; a near miss is suggested.
void Cursor::stop_unknown(const Token& word, std::string_view what,
                          const std::vector<std::string>& known) {
  const std::string near = bits::nearest(word.text, known);
  stop(word, fmt::format("{} is not {}; {}", shown(word), what,
                         near.empty() ? fmt::format("expected one of: {}", fmt::join(known, ", "))
                                      : fmt::format("did you mean `{}`?", near)));
}

void Cursor::expect(std::string_view symbol) {
  if (!accept(symbol)) stop_expected(fmt::format("`{}`", symbol));
}

Token Cursor::word(std::string_view what) {
  if (peek().kind != TokenKind::word) stop_expected(what);
  return next();
}

// Types begin with a capital letter, so that a reader can tell them from values.
Token Cursor::type_name(std::string_view what) {
  const Token name = word(what);
  if (name.text[0] < 'A' || name.text[0] > 'Z') {
    report(name, fmt::format("`{}` must start with a capital letter, as all types and messages do",
                             name.text));
  } else {
    check_name(name);
  }
  return name;
}

// Fields, channels and values begin with a small letter.
Token Cursor::value_name(std::string_view what) {
  const Token name = word(what);
  if (name.text[0] < 'a' || name.text[0] > 'z') {
    report(name, fmt::format("`{}` must start with a small letter, as all fields, channels and "
                             "values do",
                             name.text));
  } else {
    check_name(name);
  }
  return name;
}

// Generated code appends `_` to names and joins with `_`: names with these could clash.
void Cursor::check_name(const Token& name) {
  if (name.text.size() > 64) {
    report(name, "the name is longer than 64 letters; choose a shorter one");
  } else if (name.text.ends_with('_') || name.text.find("__") != std::string_view::npos) {
    report(name, fmt::format("`{}` ends in _ or has two in a row; such names are kept for "
                             "generated code",
                             name.text));
  }
}

// An integer; a fraction is an error at its place.
Number Cursor::whole_number(std::string_view what) {
  const Token place = peek();
  if (place.kind != TokenKind::number) stop_expected(what);
  Number made = number(what, false);
  if (made.den != 1) stop(place, fmt::format("expected {}, a whole number", what));
  return made;
}

// A number with an optional sign, decimals and `/ DENOMINATOR`, kept as an exact fraction.
Number Cursor::number(std::string_view what, bool fraction) {
  Number made;
  made.place = peek();
  const bool negative = accept("-");
  if (peek().kind != TokenKind::number) stop_expected(what);
  const Token digits = next();
  const std::size_t dot = digits.text.find('.');
  made.num = whole(digits, digits.text.substr(0, dot), negative);
  if (dot != std::string_view::npos) {
    const std::string_view after = digits.text.substr(dot + 1);
    if (after.size() > 9) stop(digits, "more than 9 digits after the point");
    for (std::size_t i = 0; i < after.size(); ++i) made.den *= 10;
    const std::int64_t max = std::numeric_limits<std::int64_t>::max() / made.den - 1;
    if (made.num > max || made.num < -max) {
      stop(digits, "the number has too many digits");
    }
    const std::int64_t rest = whole(digits, after, false);
    made.num = made.num * made.den + (negative ? -rest : rest);
  }
  if (fraction && accept("/")) {
    const Token below = peek();
    if (below.kind != TokenKind::number || below.text.find('.') != std::string_view::npos) {
      stop_expected("a whole number below the fraction bar");
    }
    next();
    const std::int64_t divisor = whole(below, below.text, false);
    if (divisor < 1 || divisor > 1'000'000'000) {
      stop(below, "the number below the fraction bar must be 1 to 1000000000");
    }
    made.den *= divisor;  // at most 10^9 * 10^9
  }
  if (made.place.line == digits.line) {  // underline all of it
    const auto end = digits.text.data() + digits.text.size();
    made.place.text = std::string_view(made.place.text.data(),
                                       static_cast<std::size_t>(end - made.place.text.data()));
  }
  return made;
}

// 64 bits; anything beyond is an error at its place.
std::int64_t Cursor::whole(const Token& place, std::string_view digits, bool negative) {
  // Parsed with its sign, so that the lowest 64-bit number is in.
  const std::string signed_digits = fmt::format("{}{}", negative ? "-" : "", digits);
  std::int64_t value = 0;
  const auto [end, error] =
      std::from_chars(signed_digits.data(), signed_digits.data() + signed_digits.size(), value);
  if (error != std::errc{} || end != signed_digits.data() + signed_digits.size()) {
    stop(place, "the number is beyond 64 bits; numbers go from -2^63 to 2^63 - 1");
  }
  return value;
}

}  // namespace kwind::language
