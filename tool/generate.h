// Descriptions and generated files on disk. Shared by the commands of the tool and the build's code
// generator.
#pragma once
#include <filesystem>
#include <string>
#include <vector>

#include "kwind/language/compile.h"

namespace kwind::tool {

/// Exit codes of every command.
enum Exit : int { kFine = 0, kFoundWrong = 1, kUsedWrongly = 2 };

/// The whole file, or false, with nothing printed.
bool read_text(const std::filesystem::path& file, std::string& out);

/// Writes a file and the folders above it, unless it holds the same text already. What is wrong
/// goes to stderr.
enum class Written { same, wrote, failed };
Written write_text(const std::filesystem::path& file, const std::string& text);

/// Reads and compiles a file, with those that it includes. False if it cannot be read, which is
/// said on stderr.
bool read_source(const std::filesystem::path& file, language::Compiled& out);
/// As above; errors in it go to stderr, and make false.
bool load_source(const std::filesystem::path& file, language::Compiled& out);

/// Writes the headers of a description into `dir`. Returns an exit code.
int generate_cpp(const std::filesystem::path& file, const std::filesystem::path& dir, bool quiet);
/// The same with the one header for C.
int generate_c(const std::filesystem::path& file, const std::filesystem::path& dir, bool quiet);

}  // namespace kwind::tool
