// The generated code of each example, and of a description whose versions have different entities,
// as it is in the tree: a change of a generator is a diff there. KWIND_REWRITE=1 renews the files.
#include <gtest/gtest.h>

#include <cstdlib>
#include <fstream>
#include <iterator>

#include "kwind/language/generate_c.h"
#include "kwind/language/generate_cpp.h"

namespace kwind::language {
namespace golden_test {

const std::string kRoot = KWIND_SOURCE_DIR "/";

std::string text_of(const std::string& path) {
  std::ifstream in(path);
  return {std::istreambuf_iterator<char>(in), {}};
}

void compare(const std::string& name, const std::string& made) {
  const std::string path = kRoot + "tests/golden/" + name;
  if (std::getenv("KWIND_REWRITE") != nullptr) std::ofstream(path) << made;
  EXPECT_EQ(text_of(path), made) << path << " is another; KWIND_REWRITE=1 renews it";
}

TEST(Golden, GeneratedCodeOfEachExampleIsTheOneInTheTree) {
  for (const char* const file :
       {"examples/c_tug/towage.kw", "examples/first_light/harbour.kw",
        "examples/harbour/harbour.kw", "examples/helm/helm.kw", "examples/lookout/lookout.kw",
        "examples/pier/pier.kw", "tests/replica/refit.kw"}) {
    const Compiled compiled = compile(text_of(kRoot + file), file);
    ASSERT_TRUE(compiled.ok()) << file;
    const std::string base = std::string(file).substr(std::string(file).rfind('/') + 1);
    std::string all;
    for (const GeneratedFile& header : generate_cpp(compiled.protocol, base)) {
      all += "==== " + header.path + "\n" + header.text;
    }
    compare(compiled.protocol.name + ".h.txt", all);
    const auto for_c = generate_c(compiled);
    ASSERT_TRUE(for_c) << for_c.error();
    compare(compiled.protocol.name + "_c.h.txt", for_c->text);
  }
}

// A struct has room for the most of everything: where that is too much, the generator says so.
TEST(GenerateC, RefusesStructsThatWouldBeTooLarge) {
  const Compiled compiled = compile(
      "protocol large 1\nchannel c ordered\nrecord Sheet { cells : list of bool up to 4000 }\n"
      "message Book from server on c, split { sheets : list of Sheet up to 500 }\n");
  ASSERT_TRUE(compiled.ok()) << render(compiled.errors.front(), compiled);
  const auto made = generate_c(compiled);
  ASSERT_FALSE(made);
  EXPECT_NE(made.error().find("Book would take"), std::string::npos) << made.error();
}

}  // namespace golden_test
}  // namespace kwind::language
