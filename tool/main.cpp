// `kwind`: a thin face over the library. Exit codes: 0 fine, 1 found something wrong, 2 used
// wrongly.
#include <fmt/format.h>

#include "commands.h"

int main(int argc, char** argv) {
  kwind::tool::CommandLine line(
      "Kestrel Wind: describe, check and try the wire between a game server and its clients.",
      "kwind " KWIND_VERSION,
      "Example:\n  kwind demo\n\n`kwind COMMAND --help` explains a command.\n"
      "Exit codes: 0 fine, 1 found something wrong, 2 used wrongly.");
  const kwind::tool::Command root = line.root();
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
  if (const int code = line.parse(argc, argv); code != kwind::tool::CommandLine::kNone) return code;
  if (!chosen) {
    fmt::print("{}", line.help());
    return kwind::tool::kUsedWrongly;
  }
  return chosen();
}
