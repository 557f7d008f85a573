// Descriptions from files, for tests. Links kwind::language.
#pragma once
#include <gtest/gtest.h>

#include <fstream>
#include <iterator>
#include <optional>
#include <string>

#include "kwind/language/compile.h"

namespace kwind::kit {

inline std::optional<std::string> read_file(const std::string& path) {
  std::ifstream in(path, std::ios::binary);
  if (!in) return std::nullopt;
  return std::string(std::istreambuf_iterator<char>(in), {});
}

/// Compiles a file; an error in it fails the test.
inline schema::Protocol compiled_file(const std::string& path) {
  const auto made = language::compile(read_file(path).value_or(""), path, read_file);
  EXPECT_TRUE(made.ok()) << path << "\n"
                         << (made.ok() ? "" : language::render(made.errors.front(), made));
  return made.protocol;
}

/// One of examples/descriptions.
inline schema::Protocol description(const std::string& name) {
  return compiled_file(KWIND_SOURCE_DIR "/examples/descriptions/" + name + ".kw");
}

}  // namespace kwind::kit
