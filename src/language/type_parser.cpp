// Types, options and lives. Nesting is bounded, so that no file can exhaust the stack.
//
// Recursive descent: one function for each production of the grammar that describes a type. A
// prefix such as `list of` calls type() again for its element.
#include "language/type_parser.h"

#include <fmt/format.h>

namespace kwind::language {
namespace {

// `list of list of ...`, 16 times: more is a mistake.
constexpr int kDeepestType = 16;

// Types of which `in UNIT` makes sense.
bool has_unit(TypeWord word) {
  switch (word) {
    case TypeWord::integer:
    case TypeWord::count:
    case TypeWord::real:
    case TypeWord::f32:
    case TypeWord::f64:
    case TypeWord::vec2:
    case TypeWord::vec3: return true;
    default: return false;
  }
}

}  // namespace

// Unless a field that ends this line has the comment.
std::string TypeParser::doc_of_declaration(const Token& first) const {
  // Comments are kept apart from the tokens; a declaration takes those directly before it, and the
  // one that ends its first line.
  return doc_comment(comments_, first, part_owns_first_line_ ? 0 : first.line);
}
// Of a field, value or case: a comment after it is its own if it ends the line.
std::string TypeParser::doc_of_part(const Token& first) {
  const bool own = at_end() || peek().first_on_line;
  // A field on the line of its declaration, as in `record Spot { x : f32 }  // where`, would claim
  // the comment that belongs to the record.
  part_owns_first_line_ = part_owns_first_line_ || (own && last().line == declaration_line_);
  return doc_comment(comments_, first, own ? last().line : 0);
}

void TypeParser::said_twice(const Token& word) {
  report(word, fmt::format("`{}` is said twice; which one holds?", word.text));
}

// `since N` and `until N`, each once.
bool TypeParser::life_word(const Token& first, LifeSyntax& life) {
  const bool twice = (first.text == "since" && life.since.written()) ||
                     (first.text == "until" && life.until.written());
  if (twice) said_twice(first);
  if (first.text == "since") {
    life.since = whole_number("the first version that has it");
  } else if (first.text == "until") {
    life.until = whole_number("the first version without it");
  } else {
    return false;
  }
  return true;
}
void TypeParser::life(LifeSyntax& life) {
  while (is("since") || is("until")) life_word(next(), life);
}

// Values, flags or cases, which are separated by commas or new lines.
std::vector<OptionSyntax> TypeParser::option_list(bool typed) {
  std::vector<OptionSyntax> all;
  expect("{");
  // One option in each pass. Ends at the brace, or with an error.
  while (!is("}")) {
    OptionSyntax option;
    option.name = value_name(typed ? "the name of a case" : "the name of a value");
    const Token first = last();
    if (typed && accept(":")) option.type.push_back(type());
    life(option.life);
    if (accept("else")) option.stand_in = word("the name that stands in");
    // A comma, a brace or a new line separates options, as in enums of C and in lists of one word
    // a line.
    if (!accept(",") && !is("}") && !(peek().first_on_line && peek().kind == TokenKind::word)) {
      stop_expected("`,` or `}`");
    }
    option.doc = doc_of_part(first);
    all.push_back(std::move(option));
  }
  next();
  return all;
}

// Recursive descent, with a limit of depth: a file of many `list of` would overflow the stack.
TypeSyntax TypeParser::type() {
  if (++depth_ > kDeepestType) {
    // After an error the depth begins anew: the parser recovers outside of all types.
    depth_ = 0;
    stop(peek(), fmt::format("types are nested more than {} deep", kDeepestType));
  }
  TypeSyntax made = type_inside();
  if (has_unit(made.word) && accept("in")) {
    made.unit = word("the unit, as in `in metres` or `in m/s`").text;
    // `m/s/s` is three words.
    while (accept("/")) made.unit += fmt::format("/{}", word("the rest of the unit").text);
  }
  --depth_;
  return made;
}

TypeSyntax TypeParser::type_inside() {
  TypeSyntax made;
  if (peek().kind != TokenKind::word) {
    depth_ = 0;
    stop_expected("a type");
  }
  made.place = next();
  const std::string_view first = made.place.text;
  const auto is_type = [&](std::string_view word, TypeWord kind) {
    if (first != word) return false;
    made.word = kind;
    return true;
  };
  if (is_type("bool", TypeWord::boolean) || is_type("f32", TypeWord::f32) ||
      is_type("f64", TypeWord::f64) || is_type("peer", TypeWord::peer) ||
      is_type("tick", TypeWord::tick)) {
    return made;
  }
  if (is_type("int", TypeWord::integer)) {
    range(made, "int", "`int LO..HI`, as in `int 0..100`");
  } else if (is_type("count", TypeWord::count)) {
    if (!accept("up", "to")) stop_expected("`up to N`, as in `count up to 100000`");
    made.limit = whole_number("the largest count");
  } else if (is_type("real", TypeWord::real)) {
    range(made, "real", "`real LO..HI step S`, as in `real -1..1 step 1/64`");
    step(made);
  } else if (is_type("angle", TypeWord::angle) || is_type("direction2", TypeWord::direction2)) {
    step(made);
  } else if (is_type("direction3", TypeWord::direction3) ||
             is_type("rotation", TypeWord::rotation)) {
    if (!accept("within")) stop_expected("`within` and the largest error in degrees");
    made.step = number("the largest error in degrees");
  } else if (is_type("vec2", TypeWord::vec2) || is_type("vec3", TypeWord::vec3)) {
    if (!accept("of")) stop_expected("`of` and the type of a component");
    made.element.push_back(type());
  } else if (is_type("text", TypeWord::text)) {
    made.limit = whole_number("the maximum number of bytes of the text, as in `text 120`");
  } else if (is_type("bytes", TypeWord::bytes)) {
    made.limit = whole_number("the maximum number of bytes, as in `bytes 64`");
  } else if (is_type("enum", TypeWord::enumeration) || is_type("flags", TypeWord::flags)) {
    made.options = option_list(false);
  } else if (is_type("one", TypeWord::one_of)) {
    if (!accept("of")) stop_expected("`of`, as in `one of { fish : Catch, nothing }`");
    made.options = option_list(true);
  } else if (is_type("list", TypeWord::list)) {
    list_of(made);
  } else if (is_type("grid", TypeWord::grid)) {
    grid_of(made);
  } else if (is_type("maybe", TypeWord::maybe)) {
    made.element.push_back(type());
  } else if (is_type("ref", TypeWord::ref)) {
    made.place = type_name("the name of an entity");
  } else if (first[0] >= 'a' && first[0] <= 'z') {
    // Words of the language begin with a small letter, names of declarations with a capital.
    depth_ = 0;
    stop_unknown(made.place, "a type", type_words());
  }
  return made;
}

void TypeParser::list_of(TypeSyntax& made) {
  // Order: element type, then limit, since the limit belongs to the list and not to the element.
  if (!accept("of")) stop_expected("`of`, as in `list of Spot up to 8`");
  made.element.push_back(type());
  if (!accept("up", "to")) stop_expected("`up to N` after the list's type");
  made.limit = whole_number("the most items of the list");
}
void TypeParser::grid_of(TypeSyntax& made) {
  if (!accept("of")) stop_expected("`of`, as in `grid of Depth 64 x 64`");
  made.element.push_back(type());
  made.limit = whole_number("the columns, as in `64 x 64`");
  if (!accept("x")) stop_expected("`x` and the rows, as in `64 x 64`");
  made.height = whole_number("the rows");
}

// `LO..HI` or `LO..<HI`. `form` is the example that an error shows.
void TypeParser::range(TypeSyntax& made, std::string_view name, std::string_view form) {
  // A range begins with a number or its sign.
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

void TypeParser::step(TypeSyntax& made) {
  if (!accept("step")) stop_expected("`step` and the distance of two values");
  made.step = number("the step");
}

const std::vector<std::string>& type_words() {
  static const std::vector<std::string> kWords = {
      "bool",       "int",      "count", "real", "f32",  "f64",   "angle", "direction2",
      "direction3", "rotation", "vec2",  "vec3", "text", "bytes", "enum",  "flags",
      "list",       "grid",     "maybe", "one",  "ref",  "peer",  "tick"};
  return kWords;
}

}  // namespace kwind::language
