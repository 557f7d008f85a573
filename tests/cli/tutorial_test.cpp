// The seven programs of docs/tutorial.md: each runs and prints what the page shows, and the code
// that the page shows is theirs.
#include <gtest/gtest.h>

#include <sstream>
#include <string>
#include <vector>

#include "cli/cli_fixture.h"

namespace kwind {
namespace tutorial_test {

const std::string kSteps[] = {"1_messages",     "2_requests", "3_entities", "4_inputs",
                              "5_bad_networks", "6_tickets",  "7_measuring"};

// The fenced blocks of a language; "": those without one.
std::vector<std::string> blocks_of(const std::string& page, const std::string& language) {
  std::vector<std::string> blocks;
  std::istringstream lines(page);
  bool inside = false;
  bool wanted = false;
  for (std::string line; std::getline(lines, line);) {
    if (line.rfind("```", 0) == 0) {
      wanted = !inside && line.substr(3) == language;
      inside = !inside;
      if (wanted) blocks.emplace_back();
    } else if (wanted) {
      blocks.back() += line + "\n";
    }
  }
  EXPECT_FALSE(inside) << "a fence is open at the end";
  return blocks;
}

TEST(Tutorial, ShowsTheCodeOfItsPrograms) {
  const std::string page = read(KWIND_SOURCE_DIR "/docs/tutorial.md");
  const std::string folder = KWIND_SOURCE_DIR "/examples/tutorial/";
  std::string programs;
  for (const std::string& step : kSteps) programs += read(folder + step + ".cpp");
  const std::vector<std::string> code = blocks_of(page, "cpp");
  EXPECT_GT(code.size(), 10U);
  for (const std::string& block : code) {
    EXPECT_NE(programs.find(block), std::string::npos) << "no program has this:\n" << block;
  }
  const std::vector<std::string> declarations = blocks_of(page, "");
  EXPECT_EQ(declarations.size(), 3U);
  const std::string description = read(folder + "ferry.kw");
  for (const std::string& block : declarations) {
    EXPECT_NE(description.find(block), std::string::npos) << "ferry.kw lacks:\n" << block;
  }
}

class TutorialStep : public testing::TestWithParam<std::string> {};

TEST_P(TutorialStep, PrintsWhatThePageShows) {
  const std::string page = read(KWIND_SOURCE_DIR "/docs/tutorial.md");
  const Finished done = run({KWIND_BINARY_DIR "/examples/tutorial_" + GetParam()});
  EXPECT_EQ(done.code, 0) << done.out << done.err;
  EXPECT_EQ(done.err, "");
  std::istringstream lines(done.out);
  std::size_t count = 0;
  for (std::string line; std::getline(lines, line); ++count) {
    // The one number that differs from run to run.
    if (line.find(" m ahead of ") != std::string::npos) {
      EXPECT_NE(page.find(line.substr(line.find(" m ahead of "))), std::string::npos) << line;
      continue;
    }
    EXPECT_NE(page.find("    " + line + "\n"), std::string::npos) << "the page lacks: " << line;
  }
  EXPECT_GE(count, 2U);
}

INSTANTIATE_TEST_SUITE_P(All, TutorialStep, testing::ValuesIn(kSteps),
                         [](const auto& step) { return step.param; });

}  // namespace tutorial_test
}  // namespace kwind
