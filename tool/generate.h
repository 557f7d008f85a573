// `kwind gen`: a .kw file to a C++ header on disk. Shared by the tool and the build's code
// generator.
#pragma once
#include <filesystem>
#include <string>

#include "kwind/language/compile.h"

namespace kwind::tool {

/// Exit codes of every command.
enum Exit : int { kFine = 0, kFoundWrong = 1, kUsedWrongly = 2 };

/// Reads and compiles a file; what is wrong goes to stderr. Empty on any error.
struct Source {
  std::string text;
  language::Compiled compiled;
};
bool read_source(const std::filesystem::path& file, Source& out);
bool load_source(const std::filesystem::path& file, Source& out);

/// Writes DIR/<protocol>.h, unless it holds the same text already. Returns an exit code.
int generate_cpp(const std::filesystem::path& file, const std::filesystem::path& dir, bool quiet);

}  // namespace kwind::tool
