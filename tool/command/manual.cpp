// `kwind manual`: man pages and shell completions.
#include <fmt/format.h>

#include <chrono>
#include <cstdlib>
#include <ctime>
#include <memory>

#include "commands.h"
#include "kwind/version.h"
#include "manual.h"

namespace kwind::tool {
namespace {

// The day of the build, or the one that SOURCE_DATE_EPOCH names, so that two builds are the same.
std::string today() {
  std::time_t seconds = std::time(nullptr);
  if (const char* const epoch = std::getenv("SOURCE_DATE_EPOCH")) {
    seconds = static_cast<std::time_t>(std::strtoll(epoch, nullptr, 10));
  }
  const std::chrono::year_month_day day(
      std::chrono::floor<std::chrono::days>(std::chrono::system_clock::from_time_t(seconds)));
  return fmt::format("{:04}-{:02}-{:02}", int(day.year()), unsigned(day.month()),
                     unsigned(day.day()));
}

}  // namespace

// The command that packages call: man pages and completions into a folder.
void add_manual(Command app, std::function<int()>& chosen, const CommandLine& line) {
  auto folder = std::make_shared<std::string>();
  Command command =
      app.add_subcommand("manual", "Write man pages and the completions of bash and zsh");
  command.add_option("DIR", *folder, "Folder of shared data: it gets man, bash-completion and zsh")
      .required();
  command.footer("Example:\n  kwind manual ~/.local/share");
  command.callback([folder, &chosen, &line] {
    chosen = [folder, &line] {
      const auto files = manual_files(line.text(), KWIND_VERSION, today());
      for (const ManualFile& file : files) {
        if (write_text(std::filesystem::path(*folder) / file.path, file.text) == Written::failed) {
          return kFoundWrong;
        }
      }
      fmt::print("{} files in {}\n", files.size(), *folder);
      return kFine;
    };
  });
}

}  // namespace kwind::tool
