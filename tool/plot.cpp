// Runs gnuplot with a script on its standard input.
#include "plot.h"

#include <fmt/format.h>
#include <unistd.h>

#include <cstdio>
#include <fstream>
#include <iterator>

namespace kwind::tool {
namespace {

namespace fs = std::filesystem;

constexpr const char* kStyle =
    "set encoding utf8\n"
    "set border 3 lc rgb '#8795a1'\nset tics nomirror textcolor rgb '#3b4a57'\n"
    "set autoscale xfix\n"
    "set grid ytics lc rgb '#e3e8ec' lt 1\nset key textcolor rgb '#3b4a57'\n";

// The picture that gnuplot made with `terminal`; empty if it made none.
std::string draw(const std::string& script, const std::string& terminal) {
  std::error_code error;
  std::string dir = (fs::temp_directory_path(error) / "kwind-XXXXXX").string();
  if (error || ::mkdtemp(dir.data()) == nullptr) return "";
  const std::string input = dir + "/plot.gp";
  const std::string output = dir + "/plot";
  std::ofstream(input) << "set terminal " << terminal << "\nset output '" << output << "'\n"
                       << kStyle << script;
  std::string drawn;
  const std::string command = fmt::format("gnuplot '{}' >/dev/null 2>&1", input);
  if (std::FILE* pipe = ::popen(command.c_str(), "r"); pipe != nullptr && ::pclose(pipe) == 0) {
    std::ifstream in(output, std::ios::binary);
    drawn.assign(std::istreambuf_iterator<char>(in), {});
  }
  fs::remove_all(dir, error);
  return drawn;
}

}  // namespace

std::string draw_svg(const std::string& script, int width, int height) {
  const std::string svg =
      draw(script,
           fmt::format("svg size {},{} font 'DejaVu Sans,12' background '#ffffff'", width, height));
  const std::size_t start = svg.find("<svg");
  return start == std::string::npos ? "" : svg.substr(start);
}

bool draw_file(const std::string& script, int width, int height, const fs::path& file) {
  const std::string drawn =
      file.extension() == ".png"
          ? draw(script,
                 fmt::format("pngcairo size {},{} font 'DejaVu Sans,11' background '#ffffff'",
                             width, height))
          : draw_svg(script, width, height);
  if (drawn.empty()) return false;
  std::ofstream out(file, std::ios::binary);
  out << drawn;
  return out.flush().good();
}

}  // namespace kwind::tool
