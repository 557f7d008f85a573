// `kwind`: a thin face over the library. Exit codes: 0 fine, 1 found something wrong, 2 used
// wrongly.
#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

#include <cerrno>
#include <clocale>
#include <cstring>
#include <exception>
#include <functional>
#include <system_error>

#include "commands.h"
#include "kwind/version.h"

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
int run(int argc, char** argv) {
  kwind::tool::CommandLine line(
      "Kestrel Wind: describe, check and try the wire between a game server and its clients.",
      "kwind " KWIND_VERSION,
      "Example:\n  kwind demo\n\n`kwind COMMAND --help` explains a command.\n"
      "Exit codes: 0 fine, 1 found something wrong, 2 used wrongly.");
  kwind::tool::Command root = line.root();
  std::string include_root;
  root.add_option(
          "--include-root", include_root,
          "Descriptions may include files within this folder alone: for descriptions of others")
      .type_name("DIR");
  std::function<int()> chosen;
  kwind::tool::add_check(root, chosen);
  kwind::tool::add_fmt(root, chosen);
  kwind::tool::add_compare(root, chosen);
  kwind::tool::add_explain(root, chosen);
  kwind::tool::add_encode(root, chosen);
  kwind::tool::add_decode(root, chosen);
  kwind::tool::add_budget(root, chosen);
  kwind::tool::add_gen(root, chosen);
  kwind::tool::add_keys(root, chosen);
  kwind::tool::add_ticket(root, chosen);
  kwind::tool::add_train(root, chosen);
  kwind::tool::add_lag(root, chosen);
  kwind::tool::add_record(root, chosen);
  kwind::tool::add_diagnose(root, chosen);
  kwind::tool::add_relay(root, chosen);
  kwind::tool::add_talk(root, chosen);
  kwind::tool::add_load(root, chosen);
  kwind::tool::add_demo(root, chosen);
  kwind::tool::add_manual(root, chosen, line);
  if (const int code = line.parse(argc, argv); code != kwind::tool::CommandLine::kNone) return code;
  if (!chosen) {
    fmt::print("{}", line.help());
    return kwind::tool::kUsedWrongly;
  }
  if (!include_root.empty() && !kwind::tool::set_include_root(include_root)) {
    complain(fmt::format("--include-root {}: is no folder", include_root).c_str());
    return kwind::tool::kUsedWrongly;
  }
  return chosen();
}

}  // namespace

// A closed standard descriptor would be taken by the first file that is opened.
int main(int argc, char** argv) {
  occupy_standard_descriptors();
  std::setlocale(LC_CTYPE, "");  // what is typed is in the user's own character set
  int code = kwind::tool::kFoundWrong;
  try {
    code = run(argc, argv);
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
    if (code == kwind::tool::kFine) code = kwind::tool::kFoundWrong;
  }
  return code;
}
