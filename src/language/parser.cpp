// Recursive descent over the tokens. After an error it goes on at the next field or declaration, so
// that one slip does not hide the others.
#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <limits>

#include "kwind/language/nearest.h"
#include "syntax.h"

namespace kwind::language {
namespace {

struct Recover {};  // thrown after an error was reported, caught where parsing can go on

const std::vector<std::string> kDeclarations = {"protocol", "quantity", "enum",
                                                "record",   "channel",  "message"};
const std::vector<std::string> kTypeWords = {"bool", "int", "real", "turn", "text", "enum", "list"};
// Words of the house plan that this version does not know yet: better named than guessed at.
const std::vector<std::string> kLater = {
    "entity",   "request",  "include",  "reliable", "count", "f32",   "f64",
    "heading2", "heading3", "rotation", "vec2",     "vec3",  "bytes", "flags",
    "maybe",    "one",      "grid",     "ref",      "peer",  "tick",  "since",
    "until",    "split",    "priority", "bulk",     "repeat"};
constexpr int kDeepestType = 16;

bool contains(const std::vector<std::string>& words, std::string_view word) {
  return std::find(words.begin(), words.end(), word) != words.end();
}

class Parser {
 public:
  Parser(const std::vector<Token>& tokens, std::vector<Diagnostic>& errors)
      : tokens_(tokens), errors_(errors) {}

  FileSyntax file() {
    while (peek().kind != TokenKind::end && errors_.size() < kMostErrors) {
      const std::size_t start = at_;
      try {
        declaration();
      } catch (const Recover&) {
        if (at_ == start) next();
        skip_to_declaration();
      }
    }
    return std::move(file_);
  }

 private:
  const Token& peek(std::size_t ahead = 0) const {
    return tokens_[std::min(at_ + ahead, tokens_.size() - 1)];
  }
  const Token& next() {
    const Token& token = peek();
    if (at_ + 1 < tokens_.size()) ++at_;
    return token;
  }
  bool is(std::string_view text) const { return peek().text == text; }
  bool accept(std::string_view text) {
    if (!is(text)) return false;
    next();
    return true;
  }

  void report(const Token& place, std::string message) {
    if (place.kind == TokenKind::bad) return;  // the lexer has spoken
    errors_.push_back({place.line, place.column,
                       std::max<std::uint32_t>(1, static_cast<std::uint32_t>(place.text.size())),
                       std::move(message)});
  }
  [[noreturn]] void stop(const Token& place, std::string message) {
    report(place, std::move(message));
    throw Recover{};
  }
  static std::string shown(const Token& token) {
    return token.kind == TokenKind::end ? "the end of the file" : fmt::format("`{}`", token.text);
  }
  [[noreturn]] void stop_expected(std::string_view what) {
    stop_here(fmt::format("expected {}, found {}", what,
                          ends_line() ? "the end of the line" : shown(peek())));
  }
  // Reports at the next token; or, if that stands in a later line, behind the last one.
  [[noreturn]] void stop_here(std::string message) {
    if (!ends_line()) stop(peek(), std::move(message));
    Token behind = tokens_[at_ - 1];
    behind.column += static_cast<std::uint32_t>(behind.text.size());
    behind.text = {};
    stop(behind, std::move(message));
  }
  bool ends_line() const {
    return at_ > 0 && peek().first_on_line && peek().kind != TokenKind::bad &&
           peek().line > tokens_[at_ - 1].line;
  }
  // Reports a word that is none of `known`, with the nearest of them.
  [[noreturn]] void stop_unknown(const Token& word, std::string_view what,
                                 const std::vector<std::string>& known) {
    if (contains(kLater, word.text)) {
      stop(word, fmt::format("`{}` is not in this version of the language yet", word.text));
    }
    const std::string near = nearest(word.text, known);
    stop(word, fmt::format("{} is not {}; {}", shown(word), what,
                           near.empty() ? fmt::format("expected one of: {}", fmt::join(known, ", "))
                                        : fmt::format("did you mean `{}`?", near)));
  }

  void expect(std::string_view symbol) {
    if (!accept(symbol)) stop_expected(fmt::format("`{}`", symbol));
  }
  Token word(std::string_view what) {
    if (peek().kind != TokenKind::word) stop_expected(what);
    return next();
  }
  Token type_name(std::string_view what) {
    const Token name = word(what);
    if (name.text[0] < 'A' || name.text[0] > 'Z') {
      report(name,
             fmt::format("`{}` must start with a capital letter, as all types and messages do",
                         name.text));
    } else {
      check_name(name);
    }
    return name;
  }
  Token value_name(std::string_view what) {
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
  void check_name(const Token& name) {
    if (name.text.size() > 64) {
      report(name, "the name is longer than 64 letters; choose a shorter one");
    } else if (name.text.ends_with('_') || name.text.find("__") != std::string_view::npos) {
      report(name, fmt::format("`{}` ends in _ or has two in a row; such names are kept for "
                               "generated code",
                               name.text));
    }
  }

  // ---- declarations ----

  void declaration() {
    const Token start = peek();
    if (start.kind != TokenKind::word) stop_expected("a declaration");
    if (!contains(kDeclarations, start.text)) {
      stop_unknown(start, "the start of a declaration", kDeclarations);
    }
    next();
    if (start.text == "protocol") return protocol(start);
    if (!seen_protocol_ && !reported_protocol_) {
      reported_protocol_ = true;
      report(start, "the file must start with `protocol NAME VERSION`");
    }
    if (start.text == "quantity") return quantity();
    if (start.text == "enum") return enumeration();
    if (start.text == "record") return record();
    if (start.text == "channel") return channel();
    return message();
  }

  void protocol(const Token& start) {
    if (seen_protocol_) report(start, "the protocol has been named already; one file has one");
    seen_protocol_ = true;
    file_.protocol_name = value_name("the name of the protocol");
    file_.version = whole_number("the version, a number from 1");
  }

  void quantity() {
    QuantitySyntax made;
    made.name = type_name("the name of the quantity");
    expect("=");
    made.type = type();
    file_.quantities.push_back(std::move(made));
  }

  void enumeration() {
    EnumSyntax made;
    made.name = type_name("the name of the enum");
    made.values = enum_values();
    file_.enums.push_back(std::move(made));
  }

  void record() {
    RecordSyntax made;
    made.name = type_name("the name of the record");
    made.fields = fields();
    file_.records.push_back(std::move(made));
  }

  void channel() {
    static const std::vector<std::string> kDeliveries = {"unreliable", "sequenced", "ordered"};
    // Kept even if its delivery is wrong, so that messages on it are not reported too.
    ChannelSyntax& made = file_.channels.emplace_back();
    made.name = value_name("the name of the channel");
    const Token delivery = word("a delivery: unreliable, sequenced or ordered");
    if (!contains(kDeliveries, delivery.text)) stop_unknown(delivery, "a delivery", kDeliveries);
    made.delivery = delivery.text == "unreliable"  ? Delivery::unreliable
                    : delivery.text == "sequenced" ? Delivery::sequenced
                                                   : Delivery::ordered;
  }

  void message() {
    MessageSyntax made;
    made.name = type_name("the name of the message");
    bool whole = true;
    try {
      message_head(made);
    } catch (const Recover&) {  // its fields may hold further errors
      whole = false;
      while (!is("{") && peek().kind != TokenKind::end && !starts_declaration()) next();
      if (!is("{")) throw;
    }
    made.fields = fields();
    if (whole)
      file_.messages.push_back(std::move(made));
    else
      file_.broken_messages.push_back(std::move(made));
  }

  void message_head(MessageSyntax& made) {
    static const std::vector<std::string> kSenders = {"client", "server", "both"};
    if (!accept("from")) stop_expected("`from client`, `from server` or `from both`");
    const Token sender = word("client, server or both");
    if (!contains(kSenders, sender.text)) stop_unknown(sender, "a sender", kSenders);
    made.direction = sender.text == "client"   ? schema::Direction::from_client
                     : sender.text == "server" ? schema::Direction::from_server
                                               : schema::Direction::both;
    if (!accept("on")) stop_expected("`on` and a channel");
    made.channel = word("the name of a channel");
    if (accept(",")) {
      if (!accept("at") || !accept("most")) stop_expected("`at most N/s`");
      made.at_most = whole_number("a number of messages");
      if (!accept("/") || !accept("s")) stop_expected("`/s`, as in `at most 60/s`");
    }
  }

  // ---- bodies ----

  std::vector<FieldSyntax> fields() {
    std::vector<FieldSyntax> made;
    const Token open = peek();
    expect("{");
    while (!is("}")) {
      if (peek().kind == TokenKind::end || starts_declaration()) {
        report(open, "this `{` is never closed");
        return made;
      }
      try {
        FieldSyntax field;
        field.name = value_name("the name of a field or `}`");
        expect(":");
        field.type = type();
        if (!is(",") && !is("}") && !peek().first_on_line && peek().kind != TokenKind::end) {
          after_type(field.type);
        }
        made.push_back(std::move(field));
        accept(",");
      } catch (const Recover&) {
        skip_to_field();
      }
    }
    next();
    return made;
  }

  [[noreturn]] void after_type(const TypeSyntax& type) {
    if (contains(kLater, peek().text)) stop_unknown(peek(), "", {});
    stop(peek(),
         fmt::format("{} does not belong after the type `{}`; fields are separated by commas "
                     "or new lines",
                     shown(peek()), type.place.text));
  }

  std::vector<Token> enum_values() {
    std::vector<Token> values;
    expect("{");
    while (!is("}")) {
      values.push_back(value_name("the name of a value"));
      if (!accept(",") && !is("}")) stop_expected("`,` or `}`");
    }
    next();
    return values;
  }

  TypeSyntax type() {
    if (++depth_ > kDeepestType) {
      depth_ = 0;
      stop(peek(), fmt::format("types are nested more than {} deep", kDeepestType));
    }
    TypeSyntax made = type_inside();
    --depth_;
    return made;
  }

  TypeSyntax type_inside() {
    TypeSyntax made;
    if (peek().kind != TokenKind::word) {
      depth_ = 0;
      stop_expected("a type");
    }
    made.place = next();
    const std::string_view first = made.place.text;
    if (first == "bool") {
      made.word = TypeWord::boolean;
    } else if (first == "int") {
      made.word = TypeWord::integer;
      range(made, "int", "`int LO..HI`, as in `int 0..100`");
    } else if (first == "real") {
      made.word = TypeWord::real;
      range(made, "real", "`real LO..HI step S`, as in `real -1..1 step 1/64`");
      step(made);
    } else if (first == "turn") {
      made.word = TypeWord::turn;
      step(made);
    } else if (first == "text") {
      made.word = TypeWord::text;
      made.limit = whole_number("the most bytes of the text, as in `text 120`");
    } else if (first == "enum") {
      made.word = TypeWord::enumeration;
      made.values = enum_values();
    } else if (first == "list") {
      made.word = TypeWord::list;
      if (!accept("of")) stop_expected("`of`, as in `list of Spot up to 8`");
      made.element.push_back(type());
      if (!accept("up") || !accept("to")) stop_expected("`up to N` after the list's type");
      made.limit = whole_number("the most items of the list");
    } else if (first[0] >= 'a' && first[0] <= 'z') {
      depth_ = 0;
      stop_unknown(made.place, "a type", kTypeWords);
    }
    return made;
  }

  void range(TypeSyntax& made, std::string_view name, std::string_view form) {
    if (peek().kind != TokenKind::number && !is("-")) {
      stop_here(fmt::format("`{}` needs its range: {}", name, form));
    }
    made.lo = number("the low end of the range");
    if (accept("..<")) {
      made.end_left_out = true;
    } else if (!accept("..")) {
      stop_expected("`..` or `..<` and the high end of the range");
    }
    made.hi = number("the high end of the range");
  }

  void step(TypeSyntax& made) {
    if (!accept("step")) stop_expected("`step` and the distance of two values");
    made.step = number("the step");
  }

  Number whole_number(std::string_view what) {
    const Token place = peek();
    if (place.kind != TokenKind::number) stop_expected(what);
    Number made = number(what, false);
    if (made.den != 1) stop(place, fmt::format("expected {}, a whole number", what));
    return made;
  }

  // [-] digits [. digits] [/ digits]
  Number number(std::string_view what, bool fraction = true) {
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
      const std::int64_t most = std::numeric_limits<std::int64_t>::max() / made.den - 1;
      if (made.num > most || made.num < -most) {
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

  std::int64_t whole(const Token& place, std::string_view digits, bool negative) {
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

  // ---- recovery ----

  bool starts_declaration() const {
    return peek().first_on_line && contains(kDeclarations, peek().text) && peek(1).text != ":";
  }
  void skip_to_declaration() {
    // Any word at the start of a line may be a declaration, misspelt or not.
    while (peek().kind != TokenKind::end && !starts_declaration() &&
           !(peek().column == 1 && peek().kind == TokenKind::word)) {
      next();
    }
  }
  void skip_to_field() {
    depth_ = 0;
    while (peek().kind != TokenKind::end && !is("}") && !starts_declaration()) {
      if (peek(1).text == ":" && peek().kind == TokenKind::word) return;
      next();
    }
  }

  const std::vector<Token>& tokens_;
  std::vector<Diagnostic>& errors_;
  FileSyntax file_;
  std::size_t at_ = 0;
  int depth_ = 0;
  bool seen_protocol_ = false;
  bool reported_protocol_ = false;
};

}  // namespace

FileSyntax parse(const std::vector<Token>& tokens, std::vector<Diagnostic>& errors) {
  return Parser(tokens, errors).file();
}

}  // namespace kwind::language
