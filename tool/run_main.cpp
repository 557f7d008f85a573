#include "run_main.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

#include <cerrno>
#include <clocale>
#include <cstring>
#include <exception>
#include <functional>
#include <system_error>

#include "generate.h"
#include "kwind/version.h"

namespace kwind::tool {
namespace {

// A standard descriptor that is closed would be given to the first socket or file that is opened:
// strangers' datagrams would be read as what is typed here. Reading and writing fail instead.
void occupy_standard_descriptors() {
  constexpr int kModes[] = {O_WRONLY, O_RDONLY, O_WRONLY};
  for (int descriptor = 0; descriptor < 3; ++descriptor) {
    if (::fcntl(descriptor, F_GETFD) == -1 && errno == EBADF) {
      (void)::open("/dev/null", kModes[descriptor]);  // takes the lowest that is free
    }
  }
}

// Without fmt: memory may be short here.
void complain(const char* text) {
  std::fputs("kwind: ", stderr);
  std::fputs(text, stderr);
  std::fputs("\n", stderr);
}

// Commands add their options, and the one that was named runs.
int run(int argc, char** argv, AddCommands add_commands) {
  CommandLine line(
      "Kestrel Wind: describe, check and try the wire between a game server and its clients.",
      "kwind " KWIND_VERSION,
      "Example:\n  kwind demo\n\n`kwind COMMAND --help` explains a command.\n"
      "Exit codes: 0 fine, 1 found something wrong, 2 used wrongly.");
  Command root = line.root();
  std::string include_root;
  root.add_option(
          "--include-root", include_root,
          "Descriptions may include files within this folder alone: for descriptions of others")
      .type_name("DIR");
  std::function<int()> chosen;
  add_commands(root, chosen, line);
  if (const int code = line.parse(argc, argv); code != CommandLine::kNone) return code;
  if (!chosen) {
    fmt::print("{}", line.help());
    return kUsedWrongly;
  }
  if (!include_root.empty() && !set_include_root(include_root)) {
    complain(fmt::format("--include-root {}: is no folder", include_root).c_str());
    return kUsedWrongly;
  }
  return chosen();
}

}  // namespace

int run_main(int argc, char** argv, AddCommands add_commands) {
  occupy_standard_descriptors();
  std::setlocale(LC_CTYPE, "");  // what is typed is in the user's own character set
  int code = kFoundWrong;
  try {
    code = run(argc, argv, add_commands);
  } catch (const std::system_error& error) {
    complain(error.what());
  } catch (const std::exception& error) {
    complain(fmt::format("{}; this is a fault of kwind's own", error.what()).c_str());
  }
  errno = 0;
  if (std::fflush(stdout) != 0 || std::ferror(stdout) != 0) {
    const int why = errno;
    complain(
        why == 0
            ? "standard output could not be written"
            : fmt::format("standard output could not be written: {}", std::strerror(why)).c_str());
    if (code == kFine) code = kFoundWrong;
  }
  return code;
}

}  // namespace kwind::tool
