// Drawings by gnuplot, a separate process.
#pragma once
#include <filesystem>
#include <string>

namespace kwind::tool {

/// Runs gnuplot over a script, in our fonts and colours, and gives the SVG that it drew, from its
/// <svg> on; empty if that failed.
std::string draw_svg(const std::string& script, int width, int height);

/// Draws into `file`, whose name ends in .svg or .png. False if it could not.
bool draw_file(const std::string& script, int width, int height, const std::filesystem::path& file);

}  // namespace kwind::tool
