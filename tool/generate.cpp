#include "generate.h"

#include <fmt/format.h>

#include <fstream>
#include <iterator>
#include <system_error>

#include "kwind/language/generate_cpp.h"

namespace kwind::tool {
namespace {

bool read_text(const std::filesystem::path& file, std::string& out) {
  std::error_code error;
  if (std::filesystem::is_directory(file, error)) return false;
  std::ifstream in(file, std::ios::binary);
  if (!in) return false;
  out.assign(std::istreambuf_iterator<char>(in), {});
  return !in.bad();
}

}  // namespace

bool read_source(const std::filesystem::path& file, Source& out) {
  if (!read_text(file, out.text)) {
    fmt::print(stderr, "{}: cannot read the file; check its name and permissions\n", file.string());
    return false;
  }
  out.compiled = language::compile(out.text);
  return true;
}

bool load_source(const std::filesystem::path& file, Source& out) {
  if (!read_source(file, out)) return false;
  for (const auto& error : out.compiled.errors) {
    fmt::print(stderr, "{}\n", language::render(error, file.string(), out.text));
  }
  if (!out.compiled.ok()) {
    const std::size_t count = out.compiled.errors.size();
    fmt::print(stderr, "{} error{} in {}\n", count, count == 1 ? "" : "s", file.string());
  }
  return out.compiled.ok();
}

int generate_cpp(const std::filesystem::path& file, const std::filesystem::path& dir, bool quiet) {
  Source source;
  if (!load_source(file, source)) return kFoundWrong;
  const std::string text =
      language::generate_cpp(source.compiled.protocol, file.filename().string());
  const std::filesystem::path target = dir / (source.compiled.protocol.name + ".h");
  std::error_code error;
  std::filesystem::create_directories(dir, error);
  std::string before;
  const bool same = read_text(target, before) && before == text;
  if (!same) {
    std::ofstream out(target, std::ios::binary);
    out << text;
    out.close();
    if (!out) {
      fmt::print(stderr, "{}: cannot write the file; check the folder and its permissions\n",
                 target.string());
      return kFoundWrong;
    }
  }
  if (!quiet) fmt::print("{} {}\n", same ? "unchanged" : "wrote", target.string());
  return kFine;
}

}  // namespace kwind::tool
