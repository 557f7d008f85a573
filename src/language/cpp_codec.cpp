// Bodies of encode() and decode(), written by walking over the types of fields. Values of fixed
// size become pieces, and pieces that stand side by side are gathered until they would exceed 64
// bits: the reader or writer is then called once for all of them. Whatever has a length, a choice
// or a version of its own ends the gathering (flush()).
//
// Example. A record of `x : int 0..100`, `y : int 0..100` and `label : text up to 8` becomes
//   out.write(out.integer(Crate::x_range, from.x),
//             out.integer(Crate::y_range, from.y));
//   out.text(8, from.label);
// which is one call for two numbers of 7 bits, and one for the text.
#include "language/cpp_codec.h"

#include <fmt/format.h>

#include <algorithm>

#include "kwind/schema/codec.h"
#include "language/cpp_names.h"
#include "language/snake_case.h"

namespace kwind::language {

using schema::Field;
using schema::Options;
using schema::Type;
using schema::TypeKind;

std::string choices_name(const Options& options) {
  return fmt::format("k{}Choices", options.name);
}

// The condition under which a field exists in the version that is coded; empty for all versions.
std::string alive_text(const schema::Life& life, std::string_view codec) {
  std::vector<std::string> parts;
  // `since` is the first version that has the field, `until` the first one that has it no more.
  if (life.since > 1) parts.push_back(fmt::format("{}.version() >= {}", codec, life.since));
  if (life.until > 0) parts.push_back(fmt::format("{}.version() < {}", codec, life.until));
  return fmt::format("{}", fmt::join(parts, " && "));
}

// Statements that write all fields of a struct, for the body of encode().
std::string CppCodec::encode(const std::string& owner, const std::vector<Field>& all) {
  // One walk serves both directions: `encoding_` decides which statement a leaf becomes, so that
  // the order of fields cannot differ.
  encoding_ = true;
  codec_ = "out";
  uniques_ = 0;
  out_.clear();
  indent_ = "  ";
  fields(owner, all, "from");
  flush();
  return std::move(out_);
}

// Statements that read all fields, in the same order.
std::string CppCodec::decode(const std::string& owner, const std::vector<Field>& all) {
  encoding_ = false;
  codec_ = "in";
  out_.clear();
  indent_ = "  ";
  fields(owner, all, "to");
  flush();
  return std::move(out_);
}

// A field that not every version has stands in a condition; one that is gone keeps its initial
// value.
void CppCodec::fields(const std::string& owner, const std::vector<Field>& all,
                      const std::string& object) {
  // In the order of the description, the order of the bits.
  for (const Field& field : all) {
    if (field.words.local != schema::Local::no) continue;
    const std::string name = fmt::format("{}.{}", object, cpp_name(field.name));
    // Ranges are static members of the struct that declares the field, also where the field's
    // record is written in place.
    const Range range{fmt::format("{}::{}", owner, field.name)};
    std::string condition = alive_text(field.life, encoding_ ? "out" : "in");
    if (field.words.owner_only) {
      if (!condition.empty()) condition += " && ";
      condition += fmt::format("{}.view() == kwind::schema::View::owner", encoding_ ? "out" : "in");
    }
    if (condition.empty()) {
      value(field.type, name, range);
      continue;
    }
    open(fmt::format("if ({}) {{", condition));
    value(field.type, name, range);
    if (!encoding_) {  // what is not there gets the default of a new struct
      close("} else {");
      open("");
      line(fmt::format("{} = {}{{}}.{};", name, owner, cpp_name(field.name)));
    }
    close();
  }
}

// Whether a record is small and simple enough to be written as part of what contains it.
// Rule: at most 64 bits, every version alike, and nothing that has a length or a choice. Such a
// record costs no call, and its pieces join those of its neighbours.
bool CppCodec::expands(const Type& type) const {
  const auto& all = protocol_.records[type.index].fields;
  // Leaves the small records that are left: numbers, references, enums, vectors and directions.
  for (const Field& field : all) {
    if (!field.life.whole()) return false;
    switch (field.type.kind) {
      case TypeKind::text:
      case TypeKind::bytes:
      case TypeKind::list:
      case TypeKind::grid:
      case TypeKind::maybe:
      case TypeKind::one_of:
      case TypeKind::count:
      case TypeKind::flags: return false;
      case TypeKind::record:
        if (!expands(field.type)) return false;
        break;
      default: break;
    }
  }
  return schema::size_of(protocol_, all).max_bits <= 64;
}

// A table of names for enums that changed over versions, else the number of values alone.
std::string CppCodec::choice(const Options& options, const std::string& value) const {
  const std::string table =
      options.lives.empty()
          ? fmt::format("{}", options.options.size())
          : (options.inside.empty() ? "" : options.inside + "::") + choices_name(options);
  return value.empty() ? table : fmt::format("{}, {}", table, value);
}

// Structs without a name of their own are written in place, others by their own encode().
void CppCodec::value(const Type& type, const std::string& value, const Range& range) {
  switch (type.kind) {
    case TypeKind::record: {
      const auto& record = protocol_.records[type.index];
      if (expands(type)) return fields(record.name, record.fields, value);
      return line(fmt::format("{}({}, {});", encoding_ ? "encode" : "decode",
                              encoding_ ? "out" : "in", value));
    }
    case TypeKind::vec:
      // Components are leaves: the compiler of the language permits numbers alone.
      for (std::uint32_t i = 0; i < type.limit; ++i) {
        leaf(type.element.front(), fmt::format("{}[{}]", value, i), range);
      }
      return;
    case TypeKind::list: return list(type, value, range);
    case TypeKind::maybe: return maybe(type, value, range);
    case TypeKind::grid: return grid(type, value, range);
    case TypeKind::flags: return flags(protocol_.flags[type.index], value);
    case TypeKind::one_of:
      return encoding_ ? encode_one_of(protocol_.one_ofs[type.index], value)
                       : decode_one_of(protocol_.one_ofs[type.index], value);
    default: return leaf(type, value, range);
  }
}

// Leaves are collected into pieces of up to 64 bits, which one call of the codec writes or reads.
void CppCodec::leaf(const Type& type, const std::string& value, const Range& range) {
  const std::string& codec = codec_;
  // The largest size: pieces are gathered by what they may take.
  const unsigned bits = schema::size_of(protocol_, type, 1).max_bits;
  const auto ranged = [&](std::string_view method) {
    piece(fmt::format("{}.{}({}_range, {})", codec, method, range.prefix, value), bits);
  };
  const auto plain = [&](std::string_view method) {
    piece(fmt::format("{}.{}({})", codec, method, value), bits);
  };
  const auto limited = [&](std::string_view method) {
    piece(fmt::format("{}.{}({}, {})", codec, method, type.limit, value), bits);
  };
  switch (type.kind) {
    case TypeKind::boolean: return plain("boolean");
    case TypeKind::f32: return plain("f32");
    case TypeKind::f64: return plain("f64");
    case TypeKind::tick: return plain("tick");
    case TypeKind::integer: return ranged("integer");
    case TypeKind::real: return ranged("real");
    case TypeKind::angle: return ranged("angle");
    case TypeKind::peer: return limited("peer");
    case TypeKind::ref: return limited("ref");
    case TypeKind::direction2:
      return piece(
          fmt::format("{0}.direction2({1}_range, {2}[0], {2}[1])", codec, range.prefix, value),
          bits);
    case TypeKind::direction3:
      return piece(fmt::format("{0}.direction3({1}_range, {2}[0], {2}[1], {2}[2])", codec,
                               range.prefix, value),
                   bits);
    case TypeKind::rotation:
      return piece(fmt::format("{0}.rotation({1}_range, {2}.w(), {2}.x(), {2}.y(), {2}.z())", codec,
                               range.prefix, value),
                   bits);
    case TypeKind::enumeration: {
      const Options& options = protocol_.enums[type.index];
      if (encoding_) {
        return piece(
            fmt::format("out.choice({})",
                        choice(options, fmt::format("static_cast<std::uint64_t>({})", value))),
            bits::bits_for(options.options.size()));
      }
      if (options.lives.empty()) {
        return piece(fmt::format("{}.choice({})", codec, choice(options, value)), bits);
      }
      return line(fmt::format("{} = static_cast<{}>(in.choice({}));", value, types_.name(type),
                              choice(options, "")));
    }
    case TypeKind::count:
      return line(encoding_ ? fmt::format("out.count({}, {});", type.limit, value)
                            : fmt::format("{} = in.count({});", value, type.limit));
    case TypeKind::text:
    case TypeKind::bytes:
      return line(fmt::format("{}.{}({}, {});", codec,
                              type.kind == TypeKind::text ? "text" : "bytes", type.limit, value));
    default: return;
  }
}

// Whether a value is written by pieces alone, so that a loop over such values can work on a copy of
// the codec.
bool CppCodec::is_pieces(const Type& type) const {
  switch (type.kind) {
    case TypeKind::integer:
    case TypeKind::real:
    case TypeKind::angle:
    case TypeKind::f32:
    case TypeKind::f64: return true;
    case TypeKind::enumeration: return protocol_.enums[type.index].lives.empty();
    // A vector of such leaves is gathered as its components.
    case TypeKind::vec: return is_pieces(type.element.front());
    case TypeKind::record: {
      // Booleans within a record are bits of its piece; a list of booleans alone is
      // std::vector<bool>, which has no data().
      const auto& all = protocol_.records[type.index].fields;
      return expands(type) && std::all_of(all.begin(), all.end(), [&](const Field& field) {
               return field.type.kind == TypeKind::boolean || is_pieces(field.type);
             });
    }
    default: return false;
  }
}

// The codec itself is not touched in the loop: what has no address stays in registers.
void CppCodec::list_of_pieces(const Type& type, const std::string& value_name, const Range& range) {
  const Type& element = type.element.front();
  const std::string codec = encoding_ ? "out" : "in";
  const std::string run = variable("run");
  const std::string items = variable("items");
  const std::string index = variable("i");
  const std::string size = variable("size");
  // Loop of the generated code, with a copy of the codec named `run`:
  //   auto run = out;
  //   for (std::size_t i = 0; i < size; ++i) { run.write(...); }
  //   out = run;
  if (encoding_) {
    line(fmt::format("const std::size_t {} = out.length({}, {}.size());", size, type.limit,
                     value_name));
  } else {
    line(fmt::format("{}.resize(in.length({}, {}));", value_name, type.limit, type.item_bits));
    line(fmt::format("const std::size_t {} = {}.size();", size, value_name));
  }
  line(fmt::format("{}auto* const {} = {}.data();", encoding_ ? "const " : "", items, value_name));
  line(fmt::format("auto {} = {};", run, codec));
  open(fmt::format("for (std::size_t {0} = 0; {0} < {1}; ++{0}) {{", index, size));
  codec_ = run;
  ++depth_;
  value(element, fmt::format("{}[{}]", items, index), range);
  --depth_;
  close();
  codec_ = codec;
  line(fmt::format("{} = {};", codec, run));
}

// The length first, then the items. Items of fixed size are coded several at a time.
void CppCodec::list(const Type& type, const std::string& value_name, const Range& range) {
  const Type& element = type.element.front();
  if (is_pieces(element)) {
    open("{");
    list_of_pieces(type, value_name, range);
    return close();
  }
  const std::string index = variable("i");
  // The encoder's length() also bounds the count by the limit: a list that is too long is cut, and
  // counted.
  if (encoding_) {
    const std::string size = variable("size");
    open(
        fmt::format("for (std::size_t {0} = 0, {1} = out.length({2}, {3}.size()); {0} < {1}; "
                    "++{0}) {{",
                    index, size, type.limit, value_name));
  } else {
    line(fmt::format("{}.resize(in.length({}, {}));", value_name, type.limit, type.item_bits));
    open(fmt::format("for (std::size_t {0} = 0; {0} < {1}.size(); ++{0}) {{", index, value_name));
  }
  ++depth_;
  const std::string item = fmt::format("{}[{}]", value_name, index);
  if (!encoding_ && element.kind == TypeKind::boolean) {  // std::vector<bool> has no bool&
    line(fmt::format("{} = in.boolean();", item));
  } else {
    value(element, item, range);
  }
  --depth_;
  close();
}

// A bit says whether a value follows.
void CppCodec::maybe(const Type& type, const std::string& value_name, const Range& range) {
  // Decoding keeps the storage of a value that is there already.
  if (encoding_) {
    piece(fmt::format("out.boolean({}.has_value())", value_name), 1);
    open(fmt::format("if ({}) {{", value_name));
  } else {
    open("if (in.boolean()) {");
    line(fmt::format("if (!{0}) {0}.emplace();", value_name));
  }
  value(type.element.front(), fmt::format("(*{})", value_name), range);
  if (!encoding_) {
    close("} else {");
    open("");
    line(fmt::format("{}.reset();", value_name));
  }
  close();
}

// Cells row by row; several small cells make one piece.
void CppCodec::grid(const Type& type, const std::string& value_name, const Range& range) {
  const Type& cell = type.element.front();
  std::string count;
  std::string piece;
  std::string back;
  // The generated lambda receives the index of a cell; encode_grid() runs it in the order of rows.
  const bool named = cell.kind == TypeKind::enumeration || cell.kind == TypeKind::boolean;
  switch (cell.kind) {
    case TypeKind::enumeration: {
      const Options& options = protocol_.enums[cell.index];
      const bool versioned = !options.lives.empty();
      const std::string table = choice(options, "");
      count = versioned ? fmt::format("kwind::schema::choices_alive({}, {}.version())", table,
                                      encoding_ ? "out" : "in")
                        : table;
      piece = fmt::format("out.choice({}, static_cast<std::uint64_t>({{}}))", table);
      back = versioned ? fmt::format(
                             "static_cast<{}>(kwind::schema::choice_with_code({}, in.version(), "
                             "index))",
                             types_.name(cell), table)
                       : fmt::format("static_cast<{}>(index)", types_.name(cell));
      break;
    }
    case TypeKind::boolean:
      count = "2";
      piece = "out.boolean({})";
      back = "index != 0";
      break;
    default: {
      count = fmt::format("{}_range.last_index() + 1", range.prefix);
      const char* method = cell.kind == TypeKind::integer ? "integer"
                           : cell.kind == TypeKind::real  ? "real"
                                                          : "angle";
      piece = fmt::format("out.{}({}_range, {{}})", method, range.prefix);
      back =
          fmt::format("static_cast<{}>({}_range.value_of(index))", types_.name(cell), range.prefix);
    }
  }
  const std::string shape = fmt::format("kwind::schema::GridShape{{{}, {}, {}, {}}}", type.limit,
                                        type.height, count, named);
  const std::string item = fmt::format("{}.cells()[cell]", value_name);
  if (encoding_) {
    line(fmt::format("kwind::schema::encode_grid(out, {}, [&](std::size_t cell) {{", shape));
    line(fmt::format("  return out.cell({});\n{}}});", fmt::format(fmt::runtime(piece), item),
                     indent_));
  } else {
    line(
        fmt::format("kwind::schema::decode_grid(in, {}, [&](std::size_t cell, std::uint64_t index) "
                    "{{",
                    shape));
    line(fmt::format("  {} = {};\n{}}});", item, back, indent_));
  }
}

// One bit for each flag that the version has.
void CppCodec::flags(const Options& options, const std::string& value_name) {
  // In the order of the description. A removed flag is read as not set.
  for (const schema::Option& option : options.options) {
    const std::string flag = fmt::format("{}.{}", value_name, cpp_name(option.name));
    const std::string codec = encoding_ ? "out" : "in";
    const std::string condition = alive_text(option.life, codec);
    if (!condition.empty()) open(fmt::format("if ({}) {{", condition));
    piece(fmt::format("{}.boolean({})", codec, flag), 1);
    if (condition.empty()) continue;
    if (!encoding_) {
      close("} else {");
      open("");
      line(fmt::format("{} = false;", flag));
    }
    close();
  }
}

// Whether nothing of a case travels but its code.
bool CppCodec::carries_nothing(const schema::Option& option) const {
  const auto empty = [&](const auto& self, const Type& type) -> bool {
    if (type.kind != TypeKind::record) return false;
    const auto& all = protocol_.records[type.index].fields;
    return std::all_of(all.begin(), all.end(),
                       [&](const Field& field) { return self(self, field.type); });
  };
  return option.type.empty() || empty(empty, option.type.front());
}

// The payload of one case, held in the variable `held`.
void CppCodec::one_of_case(const Options& options, std::size_t place, const std::string& held) {
  const schema::Option& option = options.options[place];
  const std::string owner = fmt::format("{}::{}", CppTypes::qualified_one_of(options),
                                        cpp_case(options.name, option.name));
  value(option.type.front(), held + ".value", {owner + "::value"});
}

// The number of the case, then its value, in a switch over the index of the variant.
void CppCodec::encode_one_of(const Options& options, const std::string& value_name) {
  const std::string type = CppTypes::qualified_one_of(options);
  const std::string held = variable("held");
  std::string object = value_name;
  if (!options.lives.empty()) {
    // The variant is not copied: a pointer leads to the original or to the stand-in.
    // An older version is sent the stand-in of a case that it does not know.
    const std::string stand_in = unique("stand_in");
    const std::string place = unique("place");
    object = unique("sent");
    line(fmt::format("{}::OneOf {};", type, stand_in));
    line(fmt::format("const {}::OneOf* {} = &{};", type, object, value_name));
    open(
        fmt::format("if (const std::size_t {0} = kwind::schema::choice_standing_for({1}, "
                    "out.version(), {2}.index()); {0} != {2}.index()) {{",
                    place, choice(options, ""), value_name));
    // An empty alternative for each case that stands in for another one.
    for (std::size_t i = 0; i < options.options.size(); ++i) {
      const bool stands_in =
          std::any_of(options.options.begin(), options.options.end(), [&](const auto& option) {
            return option.stand_in == i && &option != &options.options[i];
          });
      if (!stands_in) continue;
      line(fmt::format("if ({} == {}) {}.emplace<{}>();", place, i, stand_in, i));
    }
    line(fmt::format("{} = &{};", object, stand_in));
    close();
    object = "(*" + object + ")";
  }
  piece(fmt::format("out.choice({})", choice(options, object + ".index()")),
        bits::bits_for(options.options.size()));
  flush();
  ++depth_;
  // Std::get_if for each case that carries something; the others have written all they have.
  for (std::size_t i = 0; i < options.options.size(); ++i) {
    if (carries_nothing(options.options[i])) continue;
    open(fmt::format("if (const auto* {} = std::get_if<{}>(&{})) {{", held, i, object));
    one_of_case(options, i, fmt::format("(*{})", held));
    close();
  }
  --depth_;
}

// The case's number, then its value. A case that this version lacks cannot come.
void CppCodec::decode_one_of(const Options& options, const std::string& value_name) {
  const std::string type = CppTypes::qualified_one_of(options);
  const std::string held = variable("held");
  open(fmt::format("switch (in.choice({})) {{", choice(options, "")));
  ++depth_;
  // One `case` for each number. Names are those of the description; numbers are their places.
  for (std::size_t i = 0; i < options.options.size(); ++i) {
    const schema::Option& option = options.options[i];
    // The last case is `default`: the decoder has refused codes beyond it already, and compilers
    // see that every path assigns.
    const bool last = i + 1 == options.options.size();
    open(last ? std::string("default: {") : fmt::format("case {}: {{", i));
    const std::string call = fmt::format("kwind::schema::alternative<{}::{}>({})", type,
                                         cpp_case(options.name, option.name), value_name);
    if (carries_nothing(option)) {
      line(call + ";");
    } else {
      line(fmt::format("auto& {} = {};", held, call));
      one_of_case(options, i, held);
    }
    line("break;");
    close();
  }
  --depth_;
  close();
}

// ---- text ----

// Names in nested blocks get the depth as a suffix, so that none hides another: -Wshadow holds for
// generated code, too.
std::string CppCodec::variable(std::string_view name) {
  if (name == "i" && depth_ < 12) return std::string(1, static_cast<char>('i' + depth_));
  return depth_ == 0 ? std::string(name) : fmt::format("{}_{}", name, depth_);
}

// A counter for names that stand beside each other in one block.
std::string CppCodec::unique(std::string_view name) {
  return fmt::format("{}_{}", name, ++uniques_);
}

// Adds a call to the pieces of the present statement.
void CppCodec::piece(std::string text, unsigned bits) {
  if (piece_bits_ + bits > 64) flush();
  pieces_.push_back(std::move(text));
  piece_bits_ += bits;
}

// Ends the statement: pieces on lines of their own, aligned behind the parenthesis.
void CppCodec::flush() {
  if (pieces_.empty()) return;
  const std::string head = indent_ + codec_ + (encoding_ ? ".write(" : ".read(");
  const std::string separator = ",\n" + std::string(head.size(), ' ');
  out_ += fmt::format("{}{});\n", head, fmt::join(pieces_, separator));
  pieces_.clear();
  piece_bits_ = 0;
}

void CppCodec::line(std::string text) {
  flush();
  out_ += fmt::format("{}{}\n", indent_, text);
}

// Begins a block: what was collected before stands before it.
void CppCodec::open(std::string text) {
  flush();
  if (!text.empty()) line(std::move(text));
  indent_ += "  ";
}

// Ends a block.
void CppCodec::close(std::string text) {
  flush();
  indent_.resize(indent_.size() - 2);
  line(std::move(text));
}

}  // namespace kwind::language
