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

/// Of a text that people write: ten times what a description may have, so that the language's own
/// error says what is wrong.
inline constexpr std::size_t kMaxTextBytes = std::size_t{10} << 20;

/// The whole file, or false if it cannot be read or is longer than `max_bytes`, with nothing
/// printed.
bool read_text(const std::filesystem::path& file, std::string& out,
               std::size_t max_bytes = kMaxTextBytes);

/// Writes a file and the folders above it, unless it holds the same text already. What is wrong
/// goes to stderr.
enum class Written { same, wrote, failed };
Written write_text(const std::filesystem::path& file, const std::string& text);

/// From now on descriptions include files within this folder alone, links followed. False if it is
/// no folder.
bool set_include_root(const std::filesystem::path& folder);

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
