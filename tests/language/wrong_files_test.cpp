// Every file in wrong/ has the output beside it that a person gets for it.
#include <gtest/gtest.h>

#include <algorithm>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <iterator>

#include "kwind/language/compile.h"

namespace kwind::language {
namespace wrong_files_test {

namespace fs = std::filesystem;

std::string read(const fs::path& file) {
  std::ifstream in(file, std::ios::binary);
  return {std::istreambuf_iterator<char>(in), {}};
}

TEST(WrongFiles, GiveTheirExpectedErrors) {
  std::size_t files = 0;
  for (const auto& entry : fs::directory_iterator(KWIND_SOURCE_DIR "/tests/language/wrong")) {
    if (entry.path().extension() != ".kw") continue;
    ++files;
    const std::string text = read(entry.path());
    const Compiled compiled = compile(text, entry.path().filename().string());
    EXPECT_FALSE(compiled.ok()) << entry.path();
    std::string out;
    for (const Diagnostic& error : compiled.errors) {
      out += render(error, compiled);
    }
    fs::path expected = entry.path();
    expected.replace_extension(".txt");
    // KWIND_REWRITE=1 writes what is; read it before you commit it.
    if (std::getenv("KWIND_REWRITE") != nullptr) std::ofstream(expected, std::ios::binary) << out;
    EXPECT_EQ(out, read(expected)) << entry.path();
  }
  EXPECT_GE(files, 45U);
}

TEST(WrongFiles, ReportAtMostFiftyErrors) {
  std::string text = "protocol p 1\nchannel c ordered\n";
  for (int i = 0; i < 500; ++i) text += "record R" + std::to_string(i) + " { x : Nope }\n";
  EXPECT_EQ(compile(text).errors.size(), kMaxErrors);
}

TEST(WrongFiles, AreNeverEndlessWhereverTheyAreCut) {
  const std::string text = read(KWIND_SOURCE_DIR "/examples/harbour/harbour.kw");
  ASSERT_TRUE(compile(text).ok());
  for (std::size_t cut = 0; cut < text.size(); ++cut) {
    const std::string part = text.substr(0, cut);
    const Compiled cut_short = compile(part);
    for (const Diagnostic& error : cut_short.errors) (void)render(error, cut_short);
    const std::string hole = text.substr(0, cut) + text.substr(std::min(cut + 3, text.size()));
    const Compiled holed = compile(hole);
    for (const Diagnostic& error : holed.errors) (void)render(error, holed);
  }
}

}  // namespace wrong_files_test
}  // namespace kwind::language
