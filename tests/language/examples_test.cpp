// The examples and the table of types in docs/schema-language.md.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <cstdlib>
#include <fstream>
#include <iterator>

#include "kwind/language/compile.h"
#include "kwind/language/format.h"
#include "kwind/language/generate_cpp.h"

namespace kwind::language {
namespace examples_test {

const std::string kPage = KWIND_SOURCE_DIR "/docs/schema-language.md";

std::string read(const std::string& path) {
  std::ifstream in(path, std::ios::binary);
  return {std::istreambuf_iterator<char>(in), {}};
}

TEST(LanguagePage, ItsExamplesCompileAndAreLaidOutAsUsual) {
  const std::string page = read(kPage);
  int examples = 0;
  for (std::size_t at = page.find("```kw\n"); at != std::string::npos;
       at = page.find("```kw\n", at + 1)) {
    const std::size_t begin = at + 6;
    const std::string text = page.substr(begin, page.find("```", begin) - begin);
    const Compiled compiled = compile(text, "example.kw");
    ASSERT_TRUE(compiled.ok()) << render(compiled.errors.front(), compiled);
    EXPECT_EQ(format(text), text);
    EXPECT_FALSE(generate_cpp(compiled.protocol, "example.kw").empty());
    ++examples;
  }
  EXPECT_EQ(examples, 10);
}

struct Row {
  const char* written;  // as in the grammar
  const char* example;  // compiled, for its bits
  const char* in_cpp;
};

TEST(LanguagePage, ItsTableOfTypesIsTheCompilers) {
  std::string table = "| type | in C++ | example | bits |\n|---|---|---|---|\n";
  for (const Row& row : {
           Row{"bool", "bool", "`bool`"},
           {"int LO..HI", "int 0..100", "`std::int32_t`, or `int64_t` where needed"},
           {"count up to N", "count up to 100000", "`std::uint32_t`"},
           {"real LO..HI step S", "real -1..<1 step 1/64", "`double`"},
           {"f32, f64", "f32", "`float`, `double`"},
           {"angle step S", "angle step 0.5", "`double`, degrees, wraps at 360"},
           {"direction2 step S", "direction2 step 1", "`Eigen::Vector2d`"},
           {"direction3 within D", "direction3 within 1", "`Eigen::Vector3d`"},
           {"rotation within D", "rotation within 1", "`Eigen::Quaterniond`"},
           {"vec2 of T, vec3 of T", "vec3 of int 0..9", "`Eigen::Vector2d`, `3f`, `3i` and so on"},
           {"text N", "text 24", "`std::string`, at most N bytes of UTF-8"},
           {"bytes N", "bytes 16", "`std::vector<std::byte>`"},
           {"enum, its name or enum { a, b }", "enum { a, b, c }", "`enum class`"},
           {"flags, their name or flags { a, b }", "flags { a, b, c }", "`struct` of `bool`"},
           {"a record's name", "Spot", "`struct`"},
           {"list of T up to N", "list of Spot up to 7", "`std::vector<T>`"},
           {"grid of T W x H", "grid of bool 16 x 16", "`kwind::schema::Grid<T, W, H>`"},
           {"maybe T", "maybe Spot", "`std::optional<T>`"},
           {"one of { a : T, b }", "one of { a : Spot, b }", "`std::variant`"},
           {"ref ENTITY", "ref Tug", "`kwind::schema::Ref<ENTITY>`"},
           {"peer", "peer", "`std::uint32_t`"},
           {"tick", "tick", "`std::uint32_t`"},
       }) {
    const Compiled compiled = compile(
        fmt::format("protocol p 1, entities up to 4000, peers up to 256\nchannel c ordered\n"
                    "record Spot {{ x : int 0..9, y : int 0..9 }}\nentity Tug {{}}\n"
                    "message M from client on c {{ f : {} }}\n",
                    row.example));
    ASSERT_TRUE(compiled.ok()) << row.example;
    const auto size = schema::size_of(compiled.protocol, compiled.protocol.messages[0].fields);
    table += fmt::format("| `{}` | {} | `{}` | {} |\n", row.written, row.in_cpp, row.example,
                         size.min_bits == size.max_bits
                             ? fmt::format("{}", size.max_bits)
                             : fmt::format("{} to {}", size.min_bits, size.max_bits));
  }
  const std::string mark = "<!-- types: made by the test that checks it -->\n\n";
  std::string page = read(kPage);
  const std::size_t begin = page.find(mark) + mark.size();
  const std::size_t end = page.find("`..<` leaves the end out", begin);
  ASSERT_NE(end, std::string::npos);
  if (std::getenv("KWIND_REWRITE") != nullptr) {
    std::ofstream(kPage, std::ios::binary) << page.replace(begin, end - begin, table + "\n");
  } else {
    EXPECT_EQ(page.substr(begin, end - begin), table + "\n");
  }
}

}  // namespace examples_test
}  // namespace kwind::language
