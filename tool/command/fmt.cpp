// `kwind fmt`: lays out descriptions, or says which are not laid out.
#include <fmt/format.h>

#include <memory>

#include "commands.h"
#include "kwind/language/format.h"

namespace kwind::tool {
namespace {

struct FmtArguments {
  std::vector<std::string> files;
  bool check = false;
};

// Writes files in place, or says which would change with --check.
int format_files(const FmtArguments& arguments) {
  int code = kFine;
  for (const std::string& file : arguments.files) {
    std::string before;
    if (!read_text(file, before)) {
      fmt::print(stderr, "{}: cannot read the file; check its name and permissions\n", file);
      code = kFoundWrong;
      continue;
    }
    language::Compiled source;
    // Only what can be understood is laid out anew. A file made to be included names no protocol.
    bool whole = false;
    source = language::read_syntax(before, file, whole);
    if (source.ok() && whole && !read_source(file, source)) return kFoundWrong;
    if (!source.ok()) {
      for (const auto& error : source.errors) {
        fmt::print(stderr, "{}\n", language::render(error, source));
      }
      fmt::print(stderr, "{}: left as it is; correct the errors first\n", file);
      code = kFoundWrong;
      continue;
    }
    const std::string after = language::format(before);
    if (after == before) continue;
    if (arguments.check) {
      fmt::print("{}: not laid out as `kwind fmt` would\n", file);
      code = kFoundWrong;
    } else if (write_text(file, after) == Written::failed) {
      code = kFoundWrong;
    } else {
      fmt::print("{}: laid out anew\n", file);
    }
  }
  return code;
}

}  // namespace

// The options of `kwind fmt`.
void add_fmt(Command app, std::function<int()>& chosen) {
  auto arguments = std::make_shared<FmtArguments>();
  Command command = app.add_subcommand("fmt", "Lay out descriptions in the one usual way");
  command.add_option("FILE", arguments->files, "Descriptions, .kw files").required();
  command.add_flag("--check", arguments->check,
                   "Change nothing; exit with 1 if a file would change");
  command.footer("Example:\n  kwind fmt examples/harbour/harbour.kw");
  command.callback(
      [arguments, &chosen] { chosen = [arguments] { return format_files(*arguments); }; });
}

}  // namespace kwind::tool
