// Man pages and completions: made from what the commands say of themselves, so that neither lacks a
// command or an option.
#include <gtest/gtest.h>
#include <unistd.h>

#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <iterator>
#include <set>
#include <sstream>
#include <string>

#include "cli/process.h"

namespace kwind::cli_test {
namespace manual_test {

const std::string kTool = KWIND_BINARY_DIR "/tool/kwind";

std::string text_of(const std::filesystem::path& path) {
  std::ifstream in(path);
  return {std::istreambuf_iterator<char>(in), {}};
}

// The commands that `--help` of the tool, or of a command, lists.
std::vector<std::string> commands_of(const std::string& help) {
  std::istringstream in(help);
  std::vector<std::string> names;
  bool listed = false;
  for (std::string line; std::getline(in, line);) {
    if (line == "Subcommands:") {
      listed = true;
    } else if (line.empty()) {
      listed = false;
    } else if (listed && line.size() > 2 && line[2] != ' ') {
      names.push_back(line.substr(2, line.find(' ', 2) - 2));
    }
  }
  return names;
}

class Manual : public ::testing::Test {
 protected:
  Manual() {
    std::filesystem::create_directories(folder);
    const auto made = kit::run({kTool, "manual", folder});
    EXPECT_EQ(made.code, 0) << made.err;
  }
  ~Manual() override { std::filesystem::remove_all(folder); }
  // Tests of this class run beside one another.
  const std::string folder =
      ::testing::TempDir() + "kwind_manual_test_" + std::to_string(::getpid());
};

TEST_F(Manual, EachCommandHasAPageWithAllOfItsOptions) {
  const auto commands = commands_of(kit::run({kTool, "--help"}).out);
  ASSERT_GT(commands.size(), 15U);
  for (const std::string& command : commands) {
    const std::string page = text_of(folder + "/man/man1/kwind-" + command + ".1");
    ASSERT_FALSE(page.empty()) << command;
    EXPECT_TRUE(page.starts_with(".TH \"KWIND-")) << command;
    const std::string help = kit::run({kTool, command, "--help"}).out;
    std::istringstream in(help);
    for (std::string word; in >> word;) {
      if (!word.starts_with("--") || word.size() < 4) continue;
      word = word.substr(0, word.find_first_of(",.;:`'/)"));
      std::string escaped;
      for (const char c : word) escaped += c == '-' ? std::string("\\-") : std::string(1, c);
      EXPECT_NE(page.find(escaped), std::string::npos) << command << " lacks " << word;
    }
  }
}

TEST_F(Manual, PagesAreGoodTroff) {
  for (const auto& entry : std::filesystem::directory_iterator(folder + "/man/man1")) {
    const auto shown =
        kit::run({"/bin/sh", "-c",
                  "command -v groff >/dev/null || exit 77; groff -man -ww -z -Tutf8 " +
                      entry.path().string() + " 2>&1"});
    if (shown.code == 77) GTEST_SKIP() << "groff is not installed";
    EXPECT_EQ(shown.out, "") << entry.path();
  }
}

TEST_F(Manual, BashCompletesCommandsAndOptions) {
  const auto complete = [&](const std::string& words, int current) {
    return kit::run({"/bin/bash", "-c",
                     "source " + folder + "/bash-completion/completions/kwind; COMP_WORDS=(" +
                         words + "); COMP_CWORD=" + std::to_string(current) +
                         "; _kwind; echo \"${COMPREPLY[@]}\""})
        .out;
  };
  EXPECT_EQ(complete("kwind dia", 1), "diagnose\n");
  EXPECT_EQ(complete("kwind ticket is", 2), "issue\n");
  EXPECT_EQ(complete("kwind demo --se", 2), "--seconds --seed --secret-key-file\n");
  EXPECT_EQ(complete("kwind demo --seconds 5 --lo", 4), "--loss\n");
}

TEST_F(Manual, TwoRunsOfOneDayAreTheSame) {
  const std::string page = text_of(folder + "/man/man1/kwind.1");
  const auto made = kit::run({"/usr/bin/env", "SOURCE_DATE_EPOCH=86400", kTool, "manual", folder});
  EXPECT_EQ(made.code, 0) << made.err;
  EXPECT_NE(text_of(folder + "/man/man1/kwind.1").find("1970-01-02"), std::string::npos);
  EXPECT_NE(page, text_of(folder + "/man/man1/kwind.1"));
}

TEST(ManualFolder, ThatCannotBeWrittenIsSaid) {
  const auto made = kit::run({kTool, "manual", "/proc/nowhere"});
  EXPECT_EQ(made.code, 1);
  EXPECT_NE(made.err.find("cannot write"), std::string::npos) << made.err;
}

}  // namespace manual_test
}  // namespace kwind::cli_test
