// Man pages and shell completions, from what the commands say of themselves. Pure.
#pragma once
#include <string>
#include <vector>

#include "options.h"

namespace kwind::tool {

struct ManualFile {
  std::string path;  ///< below the folder of shared data: "man/man1/kwind-demo.1"
  std::string text;
};

/// A man page for the tool and for each command, and completions for bash and zsh. `version` and
/// `date` ("2026-11-29") stand at the foot of each page.
std::vector<ManualFile> manual_files(const CommandText& tool, const std::string& version,
                                     const std::string& date);

}  // namespace kwind::tool
