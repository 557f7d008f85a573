// What tests of the programs share: where these are, and a folder for each test.
#pragma once
#include <gtest/gtest.h>

#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <iterator>
#include <sstream>
#include <string>

#include "cli/process.h"

namespace kwind {

namespace fs = std::filesystem;
using kit::Finished;
using kit::Process;
using kit::run;

inline const std::string kKwind = KWIND_BINARY_DIR "/tool/kwind";
inline const std::string kServer = KWIND_BINARY_DIR "/examples/first_light_server";
inline const std::string kClient = KWIND_BINARY_DIR "/examples/first_light_client";
inline const std::string kHarbour = KWIND_SOURCE_DIR "/examples/harbour/harbour.kw";
inline const std::string kWorld = KWIND_SOURCE_DIR "/examples/harbour/harbour_world.kw";

inline std::string read(const fs::path& file) {
  std::ifstream in(file, std::ios::binary);
  return {std::istreambuf_iterator<char>(in), {}};
}

/// A running server and the words after `first_light_client` on the line that it prints.
struct FirstLight {
  Process server{{kServer, "0"}};
  std::string address;
  std::string key;

  FirstLight() {
    EXPECT_TRUE(server.wait_for("listening: first_light_client 127.0.0.1:"));
    std::istringstream line(server.read_line());
    std::string word;
    line >> word >> word >> address >> key;
  }
};

class Cli : public testing::Test {
 protected:
  void SetUp() override {
    std::string name = (fs::temp_directory_path() / "kwind-test-XXXXXX").string();
    ASSERT_NE(::mkdtemp(name.data()), nullptr);
    dir_ = name;
  }
  void TearDown() override { fs::remove_all(dir_); }
  std::string write(const std::string& name, const std::string& text) {
    std::ofstream(dir_ / name) << text;
    return (dir_ / name).string();
  }
  fs::path dir_;
};

}  // namespace kwind
