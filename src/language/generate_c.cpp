// C structs with room for the most that each field can hold, and tables that say where each field
// lies. What is not a plain number becomes a struct of its own, written before the one that has it.
//
// C has no lists, options or variants. Each becomes a struct of fixed size:
//   list     { uint32_t count; T items[N]; }      maybe   { uint8_t present; T value; }
//   text     { uint32_t size; char bytes[N+1]; }  one of  { int32_t which; union { ... } as; }
// A table of kwind_member rows beside each struct says name, kind, offset, limit and stride of
// each member; src/c/layout.cpp reads it to convert between structs and values. Both are plain
// data: a C compiler needs no generated functions.
#include "kwind/language/generate_c.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>
#include <vector>

#include "language/comment_text.h"
#include "language/cpp_names.h"
#include "language/reserved_names.h"
#include "language/snake_case.h"

namespace kwind::language {
namespace {

using schema::Field;
using schema::Options;
using schema::Type;
using schema::TypeKind;

// ASCII only: names of a description have no other letters.
std::string upper(std::string text) {
  for (char& c : text) c = c >= 'a' && c <= 'z' ? static_cast<char>(c - 'a' + 'A') : c;
  return text;
}

// First words of names in kwind.h and in C's own headers: size_t, INT_FAST8_MAX, kwind_value.
const std::set<std::string_view> kTakenPrefixes = {
    "kwind",  "size",   "ptrdiff", "wchar",  "wint",   "max_align", "sig_atomic", "char8",
    "char16", "char32", "int",     "uint",   "int8",   "int16",     "int32",      "int64",
    "uint8",  "uint16", "uint32",  "uint64", "intptr", "uintptr",   "intmax",     "uintmax"};
// The prefix of all names. Some prefixes belong to other libraries or to this one.
std::string prefix_of(std::string_view protocol) {
  const std::string name = snake_case(protocol);
  const std::string_view first = std::string_view(name).substr(0, name.find('_'));
  const bool taken = kTakenPrefixes.contains(name) || kTakenPrefixes.contains(first);
  return taken ? name + "_" : name;
}

// C has keywords that C++ lacks.
std::string c_name(std::string_view name) {
  return name == "restrict" ? "restrict_" : cpp_name(name);
}

// Neither an end of the comment nor a line splice may come out of a doc comment.
std::string c_comment(std::string_view text, std::string_view indent) {
  // Line by line, so that each line is a comment of its own.
  std::string out;
  while (!text.empty()) {
    const std::size_t end = text.find('\n');
    // Neither an end of the comment within it, nor a line that goes on into the next one.
    std::string line = kept_apart(kept_apart(text.substr(0, end), '*', '/'), '/', '*');
    // A backslash at the end would join the next line to the comment's line (C11, 5.1.1.2).
    while (line.ends_with('\\')) line.pop_back();
    out += fmt::format("{}/* {} */\n", indent, line);
    text = end == std::string_view::npos ? std::string_view{} : text.substr(end + 1);
  }
  return out;
}

// How a type is written in C: the type of a struct's member, and what its table says.
struct Written {
  std::string type;       // "uint16_t", "harbour_spot"
  std::string array;      // behind the member's name: "[3]"
  const char* kind = "";  // KWIND_MEMBER_...
  unsigned width = 0;     // of integers
  std::uint64_t limit = 0;
  std::string inner_offset = "0";
  std::string stride = "0";
  std::string inner = "NULL";
  std::size_t inner_count = 0;
  std::uint64_t bytes = 0;  // at most, padding included
};

class CHeader {
 public:
  explicit CHeader(const Compiled& source)
      : source_(source), protocol_(source.protocol), prefix_(prefix_of(protocol_.name)) {}

  // The whole header, or the sentence why there can be none.
  // Order: what a struct needs stands before it, as C demands.
  tl::expected<GeneratedFile, std::string> whole() {
    take_names();
    head();
    sources();
    for (const Options& options : protocol_.enums) enum_text(options);
    for (const Options& options : protocol_.flags) flags_text(options);
    for (const Options& options : protocol_.one_ofs) {
      if (options.options.size() > 0) case_names(options);
    }
    for (std::size_t i = 0; i < protocol_.records.size(); ++i) record(i);
    // Replies and refusals are records under names of their own.
    for (const auto& message : protocol_.messages) {
      if (message.role == schema::MessageRole::answer) continue;  // their replies are records
      structure(message.name, message.fields, message.doc);
    }
    for (const auto& entity : protocol_.entities) structure(entity.name, entity.fields, entity.doc);
    line("#endif");
    if (!error_.empty()) return tl::unexpected(error_);
    return GeneratedFile{snake_case(protocol_.name) + "_c.h", text_};
  }

 private:
  template <class... Args>
  void line(fmt::format_string<Args...> format, Args&&... args) {
    fmt::format_to(std::back_inserter(text_), format, std::forward<Args>(args)...);
    text_ += '\n';
  }
  // Declarations first: what their fields need gives way to them. Each takes three names.
  void take_names() {
    names_.insert(prefix_ + "_sources");
    for (std::size_t i = 0; i < source_.files.size(); ++i) {
      names_.insert(fmt::format("{}_text_{}", prefix_, i));
    }
    constants_ = {upper(prefix_) + "_C_H", upper(prefix_) + "_SOURCE_COUNT"};
    const auto declare = [&](const std::string& declared) {
      std::string name = fmt::format("{}_{}", prefix_, snake_case(declared));
      // A name must be free with each of its suffixes, since the tables are named by suffix.
      while (names_.contains(name) || names_.contains(name + "_members") ||
             names_.contains(name + "_layout")) {
        name += '_';
      }
      names_.insert({name, name + "_members", name + "_layout"});
      structs_[declared] = name;
    };
    for (const auto& record : protocol_.records) declare(record.name);
    for (const auto& message : protocol_.messages) declare(message.name);
    for (const auto& entity : protocol_.entities) declare(entity.name);
  }
  // A name at file scope. Two declarations may come to one name: HTTPCall and HttpCall.
  std::string name_for(std::string_view declared) {
    std::string name = fmt::format("{}_{}", prefix_, snake_case(declared));
    while (!names_.insert(name).second) name += '_';
    return name;
  }

  // Guard, includes, and the macros that every generated header has.
  void head() {
    const std::string guard = upper(prefix_) + "_C_H";
    line("/* Generated by kwind from {}; changes are lost. */", base_name(source_.files[0].name));
    line("#ifndef {}\n#define {}\n", guard, guard);
    line("#include <stddef.h>\n#include <stdint.h>\n\n#include \"kwind/c/kwind.h\"\n");
  }
  static std::string base_name(std::string_view path) {
    const std::size_t slash = path.rfind('/');
    return std::string(slash == std::string_view::npos ? path : path.substr(slash + 1));
  }

  // The description itself: the library compiles it when the program starts.
  void sources() {
    const std::string& first = source_.files[0].name;
    const std::size_t folder = first.rfind('/') == std::string::npos ? 0 : first.rfind('/') + 1;
    // Each file of the description as an array of characters.
    for (std::size_t i = 0; i < source_.files.size(); ++i) {
      line("static const char {}_text_{}[] =\n{};\n", prefix_, i, literal(source_.files[i].text));
    }
    line("/* kwind_protocol_compile({0}_sources, {1}_SOURCE_COUNT, &protocol) */", prefix_,
         upper(prefix_));
    line("static const kwind_source {}_sources[] = {{", prefix_);
    for (std::size_t i = 0; i < source_.files.size(); ++i) {
      std::string_view name = source_.files[i].name;
      if (name.starts_with(std::string_view(first).substr(0, folder))) name.remove_prefix(folder);
      line("    {{{}, {}_text_{}}},", cpp_string(name), prefix_, i);
    }
    line("}};\n#define {}_SOURCE_COUNT {}\n", upper(prefix_), source_.files.size());
  }
  // C99 promises literals of 4095 bytes; longer texts are written as bytes.
  static std::string literal(std::string_view text) {
    constexpr std::size_t kLongestLiteral = 4000;
    std::string out;
    // One literal for each line of the text, so that the header reads like the description.
    if (text.size() <= kLongestLiteral) {
      while (!text.empty()) {
        const std::size_t end = std::min(text.find('\n'), text.size() - 1) + 1;
        const std::string_view one = text.substr(0, end);
        const bool ends = one.ends_with('\n');
        std::string quoted = cpp_string(ends ? one.substr(0, one.size() - 1) : one);
        if (ends) quoted.insert(quoted.size() - 1, "\\n");
        out += fmt::format("{}    {}", out.empty() ? "" : "\n", quoted);
        text.remove_prefix(end);
      }
      return out.empty() ? "    \"\"" : out;
    }
    out = "    {";
    // 24 bytes a line. char may be signed: values are written as the compiler will store them.
    for (std::size_t i = 0; i < text.size(); ++i) {
      if (i % 24 == 0) out += "\n     ";
      out += fmt::format("{},", int{static_cast<signed char>(text[i])});
    }
    return out + "\n     0}";
  }

  // The prefix of constants: those inside a message carry the message's name.
  std::string options_name(const Options& options) const {
    return fmt::format(
        "{}_{}", upper(prefix_),
        upper(snake_case(options.inside.empty() || options.name.starts_with(options.inside)
                             ? options.name
                             : options.inside + "_" + options.name)));
  }
  // So may two values: kind_salt of Cargo, and salt of CargoKind.
  std::string constant(const std::string& options, std::string_view value) {
    std::string name = fmt::format("{}_{}", options, upper(std::string(value)));
    while (!constants_.insert(name).second) name += '_';
    return name;
  }
  // Anonymous enums of constants: a C enum's size is up to the compiler.
  void enum_text(const Options& options) {
    text_ += c_comment(options.doc, "");
    const std::string prefix = options_name(options);
    line("enum {{");
    // Numbers are the places in the description, as the library numbers values.
    for (std::size_t i = 0; i < options.options.size(); ++i) {
      line("  {} = {},", constant(prefix, options.options[i].name), i);
    }
    text_.erase(text_.size() - 2, 1);  // C90 compilers want no comma behind the last
    line("}};\n");
  }
  // Flags are bits of an integer, in the order of the description.
  void flags_text(const Options& options) {
    text_ += c_comment(options.doc, "");
    const std::string prefix = options_name(options);
    for (std::size_t i = 0; i < options.options.size(); ++i) {
      line("#define {} (UINT64_C(1) << {})", constant(prefix, options.options[i].name), i);
    }
    line("");
  }
  // Cases of a `one of`, which their structs hold by number.
  void case_names(const Options& options) {
    if (std::any_of(protocol_.messages.begin(), protocol_.messages.end(), [&](const auto& each) {
          return each.role == schema::MessageRole::answer && each.name == options.inside;
        })) {
      return;
    }
    enum_text(options);
  }

  struct Made {
    std::string type;
    std::string members;
    std::size_t count = 0;
    std::uint64_t bytes = 0;
  };

  // Structs are written once, inner ones first.
  const Made& record(std::size_t index) {
    // Resized first: references into the vector stay valid while inner records are made.
    records_.resize(protocol_.records.size());
    Made& made = records_[index];
    if (made.type.empty()) {
      const schema::Record& record = protocol_.records[index];
      made = structure(record.name, record.fields, record.doc);
    }
    return records_[index];
  }

  // A struct with its tables.
  Made structure(std::string_view declared, const std::vector<Field>& fields,
                 const std::string& doc) {
    const std::string& name = structs_.at(std::string(declared));
    std::vector<Written> written;
    std::vector<const Field*> kept;
    // First the structs of the fields, which write themselves to text_, then the struct itself.
    for (const Field& field : fields) {
      if (field.words.local != schema::Local::no) continue;
      kept.push_back(&field);
      written.push_back(write(field.type, fmt::format("{}_{}", declared, field.name)));
    }
    std::uint64_t bytes = 0;
    text_ += c_comment(doc, "");
    line("typedef struct {} {{", name);
    for (std::size_t i = 0; i < kept.size(); ++i) {
      if (!kept[i]->doc.empty()) text_ += c_comment(kept[i]->doc, "  ");
      line("  {} {}{};", written[i].type, c_name(kept[i]->name), written[i].array);
      // 8 bytes for padding: an upper bound is enough to hold the limit.
      bytes += written[i].bytes + 8;
    }
    if (kept.empty()) line("  uint8_t nothing; /* C has no empty structs */");
    line("}} {};\n", name);
    if (bytes > kMaxStructBytes && error_.empty()) {
      error_ = fmt::format(
          "{} would take {} bytes as a C struct, and {} are the most; shorten its lists and texts, "
          "or use kwind_value, which takes what a value needs",
          declared, bytes, kMaxStructBytes);
    }
    std::string members = "NULL";
    if (!kept.empty()) {
      members = name + "_members";
      line("static const kwind_member {}[] = {{", members);
      // The table, in the order of the members.
      for (std::size_t i = 0; i < kept.size(); ++i) {
        const std::string offset = fmt::format("offsetof({}, {})", name, c_name(kept[i]->name));
        line("    {},", member(kept[i]->name, written[i], offset));
      }
      line("}};");
    }
    line("static const kwind_layout {}_layout = {{", name);
    line("    KWIND_LAYOUT_VERSION, sizeof({}), \"{}\", {}, {}}};\n", name, declared, members,
         kept.size());
    return {name, members, kept.size(), bytes};
  }

  // One row of the table by which the library reads and writes the struct.
  static std::string member(std::string_view name, const Written& written,
                            std::string_view offset) {
    return fmt::format("{{\"{}\", {}, {}, {}, {}, {}, {}, {}, {}}}", name, written.kind,
                       written.width, offset, written.limit, written.inner_offset, written.stride,
                       written.inner_count, written.inner);
  }

  // The table entry of an item, which lies at 0 of itself.
  std::string item(std::string_view name, const Written& written) {
    std::string table = name_for(fmt::format("{}_item", name));
    line("static const kwind_member {} =\n    {};\n", table, member("", written, "0"));
    return table;
  }

  // The smallest integer type that holds the range.
  static Written integer(std::int64_t lo, std::uint64_t hi) {
    Written made;
    const bool is_signed = lo < 0;
    // 8, 16, 32, then 64 bits; the last one always fits.
    for (const unsigned width : {1U, 2U, 4U, 8U}) {
      made.width = width;
      const unsigned bits = width * 8 - (is_signed ? 1 : 0);
      const std::uint64_t most = bits >= 64 ? ~std::uint64_t{0} : (std::uint64_t{1} << bits) - 1;
      const bool low_fits =
          !is_signed || width == 8 || static_cast<std::uint64_t>(-(lo + 1)) <= most;
      if (hi <= most && low_fits) break;
    }
    made.type = fmt::format("{}int{}_t", is_signed ? "" : "u", made.width * 8);
    made.kind = is_signed ? "KWIND_MEMBER_INT" : "KWIND_MEMBER_UINT";
    made.bytes = made.width;
    return made;
  }
  // A member of a plain type.
  static Written plain(const char* type, const char* kind, std::uint64_t bytes) {
    Written made;
    made.type = type;
    made.kind = kind;
    made.bytes = bytes;
    return made;
  }
  // Vectors are arrays of double.
  static Written numbers(unsigned count) {
    Written made = plain("double", "KWIND_MEMBER_VECTOR", std::uint64_t{8} * count);
    made.array = fmt::format("[{}]", count);
    made.limit = count;
    return made;
  }

  // The member for a type, and what has to be declared before it. `path` gives names to inner
  // types.
  Written write(const Type& type, const std::string& path) {
    switch (type.kind) {
      case TypeKind::boolean: return plain("uint8_t", "KWIND_MEMBER_BOOL", 1);
      case TypeKind::integer:
        return integer(type.integer.lo,
                       type.integer.hi < 0 ? 0 : static_cast<std::uint64_t>(type.integer.hi));
      case TypeKind::count:
      case TypeKind::peer: return integer(0, type.limit);
      case TypeKind::tick: return integer(0, 0xffffffff);
      case TypeKind::flags: return integer(0, mask(protocol_.flags[type.index].options.size()));
      case TypeKind::real:
      case TypeKind::angle:
      case TypeKind::f64: return plain("double", "KWIND_MEMBER_REAL", 8);
      case TypeKind::f32: return plain("float", "KWIND_MEMBER_FLOAT", 4);
      case TypeKind::enumeration: return plain("int32_t", "KWIND_MEMBER_ENUM", 4);
      case TypeKind::ref: return plain("kwind_ref", "KWIND_MEMBER_REF", 8);
      case TypeKind::direction2: return numbers(2);
      case TypeKind::direction3: return numbers(3);
      case TypeKind::rotation: return numbers(4);
      case TypeKind::vec: return array(type, type.limit, path);
      case TypeKind::grid: return array(type, std::uint64_t{type.limit} * type.height, path);
      case TypeKind::text:
      case TypeKind::bytes: return text(type, path);
      case TypeKind::list:
      case TypeKind::maybe: return counted(type, path);
      case TypeKind::one_of: return one_of(protocol_.one_ofs[type.index], path);
      case TypeKind::record: {
        const Made& made = record(type.index);
        Written written = plain(made.type.c_str(), "KWIND_MEMBER_RECORD", made.bytes);
        written.inner = made.members;
        written.inner_count = made.count;
        return written;
      }
    }
    return {};
  }
  static std::uint64_t mask(std::size_t flags) {
    return flags >= 64 ? ~std::uint64_t{0} : (std::uint64_t{1} << flags) - 1;
  }

  // A fixed number of items.
  Written array(const Type& type, std::uint64_t count, const std::string& path) {
    // An array of arrays has no type of its own: what is inside stands in a struct.
    // C: an array of arrays has no name for its inner part.
    const Written inside = boxed(write(type.element.front(), path + "_item"), path);
    Written made = plain(inside.type.c_str(), "KWIND_MEMBER_ARRAY", inside.bytes * count);
    made.array = fmt::format("[{}]", count);
    made.limit = count;
    made.inner = "&" + item(path, inside);
    made.inner_count = 1;
    made.stride = fmt::format("sizeof({})", inside.type);
    return made;
  }
  // An array inside an array needs a struct around it: C has no array values.
  Written boxed(Written inside, const std::string& path) {
    if (inside.array.empty()) return inside;
    const std::string name = name_for(path + "_array");
    line("typedef struct {} {{\n  {} items{};\n}} {};\n", name, inside.type, inside.array, name);
    inside.type = name;
    inside.array.clear();
    return inside;
  }

  // A size and a fixed room; texts have room for a closing zero.
  Written text(const Type& type, const std::string& path) {
    const bool is_text = type.kind == TypeKind::text;
    const std::string name = name_for(path + (is_text ? "_text" : "_bytes"));
    const std::uint64_t room = std::uint64_t{type.limit} + (is_text ? 1 : 0);
    line("typedef struct {} {{\n  uint32_t size;\n  {} bytes[{}];\n}} {};\n", name,
         is_text ? "char" : "uint8_t", std::max<std::uint64_t>(room, 1), name);
    Written made =
        plain(name.c_str(), is_text ? "KWIND_MEMBER_TEXT" : "KWIND_MEMBER_BYTES", room + 8);
    made.limit = type.limit;
    made.inner_offset = fmt::format("offsetof({}, bytes)", name);
    return made;
  }

  // A count and a fixed room for the items: lists, and `maybe` as a list of at most one.
  Written counted(const Type& type, const std::string& path) {
    const bool is_list = type.kind == TypeKind::list;
    const Written inside = boxed(write(type.element.front(), path + "_item"), path);
    const std::string name = name_for(path + (is_list ? "_list" : "_maybe"));
    const std::uint64_t room = is_list ? std::max<std::uint64_t>(type.limit, 1) : 1;
    line("typedef struct {} {{", name);
    if (is_list) {
      line("  uint32_t count;\n  {} items[{}];", inside.type, room);
    } else {
      line("  uint8_t present;\n  {} value;", inside.type);
    }
    line("}} {};\n", name);
    Written made = plain(name.c_str(), is_list ? "KWIND_MEMBER_LIST" : "KWIND_MEMBER_MAYBE",
                         inside.bytes * room + 16);
    made.limit = is_list ? type.limit : 1;
    made.inner_offset = fmt::format("offsetof({}, {})", name, is_list ? "items" : "value");
    made.stride = fmt::format("sizeof({})", inside.type);
    made.inner = "&" + item(path, inside);
    made.inner_count = 1;
    return made;
  }

  // A number for the case and a union of the values.
  Written one_of(const Options& options, const std::string& path) {
    std::vector<Written> cases;
    std::uint64_t bytes = 0;
    // The type of each case; the union takes the largest.
    for (const schema::Option& option : options.options) {
      cases.push_back(option.type.empty()
                          ? plain("", "KWIND_MEMBER_NOTHING", 0)
                          : boxed(write(option.type.front(), path + "_" + option.name), path));
      bytes = std::max(bytes, cases.back().bytes);
    }
    const bool has_union = bytes > 0;
    const std::string name = name_for(path + "_one_of");
    line("/* `which` is one of {}_... */", options_name(options));
    line("typedef struct {} {{\n  int32_t which;", name);
    if (has_union) {
      line("  union {{");
      for (std::size_t i = 0; i < cases.size(); ++i) {
        if (!cases[i].type.empty()) {
          line("    {} {};", cases[i].type, c_name(options.options[i].name));
        }
      }
      line("  }} as;");
    }
    line("}} {};\n", name);
    const std::string table = name_for(path + "_cases");
    line("static const kwind_member {}[] = {{", table);
    // The table of cases, whose values lie at the beginning of the union.
    for (std::size_t i = 0; i < cases.size(); ++i) {
      line("    {},", member(options.options[i].name, cases[i], "0"));
    }
    line("}};\n");
    Written made = plain(name.c_str(), "KWIND_MEMBER_ONE_OF", bytes + 16);
    made.limit = cases.size();
    made.inner_offset = has_union ? fmt::format("offsetof({}, as)", name) : "0";
    made.inner = table;
    made.inner_count = cases.size();
    return made;
  }

  const Compiled& source_;
  const schema::Protocol& protocol_;
  std::string prefix_;
  std::string text_;
  std::string error_;
  std::set<std::string> names_;
  std::set<std::string> constants_;
  std::map<std::string, std::string> structs_;  // by the names of their declarations
  std::vector<Made> records_;
};

}  // namespace

tl::expected<GeneratedFile, std::string> generate_c(const Compiled& source) {
  return CHeader(source).whole();
}

}  // namespace kwind::language
