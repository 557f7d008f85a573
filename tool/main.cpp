// `kwind`: a thin face over the library. Exit codes: 0 fine, 1 found something wrong, 2 used
// wrongly.
#include <fmt/format.h>

#include <CLI/CLI.hpp>
#include <iostream>

#include "commands.h"
#include "kwind/bits/nearest.h"

namespace {

// All names that could have been meant where `app` met something it does not know.
std::vector<std::string> names_of(const CLI::App& app) {
  std::vector<std::string> names;
  for (const CLI::Option* option : app.get_options()) {
    for (const std::string& name : option->get_lnames()) names.push_back("--" + name);
  }
  for (const CLI::App* command : app.get_subcommands([](const CLI::App*) { return true; })) {
    names.push_back(command->get_name());
  }
  return names;
}

int explain_misuse(const CLI::App& app, const CLI::ParseError& error) {
  const CLI::App* where = &app;
  for (const CLI::App* command : app.get_subcommands()) where = command;
  const std::string full = where == &app ? "kwind" : "kwind " + where->get_name();
  std::vector<std::string> unknown = where->remaining();
  if (unknown.empty()) unknown = app.remaining();
  if (dynamic_cast<const CLI::ExtrasError*>(&error) != nullptr && !unknown.empty()) {
    const std::string word = unknown.front().substr(0, unknown.front().find('='));
    const std::string near = kwind::bits::nearest(word, names_of(*where));
    fmt::print(stderr, "{}: unknown {} {}{}\n", full,
               word.starts_with('-') ? "option" : (where == &app ? "command" : "argument"), word,
               near.empty() ? "" : fmt::format("; did you mean {}?", near));
  } else {
    fmt::print(stderr, "{}: {}\n", full, error.what());
  }
  fmt::print(stderr, "`{} --help` lists what there is\n", full);
  return kwind::tool::kUsedWrongly;
}

}  // namespace

int main(int argc, char** argv) {
  CLI::App app(
      "Kestrel Wind: describe, check and try the wire between a game server and its clients.",
      "kwind");
  app.set_version_flag("--version", "kwind " KWIND_VERSION);
  app.footer(
      "Example:\n  kwind demo\n\n`kwind COMMAND --help` explains a command.\n"
      "Exit codes: 0 fine, 1 found something wrong, 2 used wrongly.");
  app.require_subcommand(0, 1);
  std::function<int()> chosen;
  kwind::tool::add_check(app, chosen);
  kwind::tool::add_fmt(app, chosen);
  kwind::tool::add_compare(app, chosen);
  kwind::tool::add_explain(app, chosen);
  kwind::tool::add_encode(app, chosen);
  kwind::tool::add_decode(app, chosen);
  kwind::tool::add_budget(app, chosen);
  kwind::tool::add_gen(app, chosen);
  kwind::tool::add_keys(app, chosen);
  kwind::tool::add_ticket(app, chosen);
  kwind::tool::add_train(app, chosen);
  kwind::tool::add_lag(app, chosen);
  kwind::tool::add_record(app, chosen);
  kwind::tool::add_diagnose(app, chosen);
  kwind::tool::add_relay(app, chosen);
  kwind::tool::add_talk(app, chosen);
  kwind::tool::add_load(app, chosen);
  kwind::tool::add_demo(app, chosen);
  try {
    app.parse(argc, argv);
  } catch (const CLI::Success& asked) {  // --help, --version
    return app.exit(asked);
  } catch (const CLI::ParseError& error) {
    return explain_misuse(app, error);
  }
  if (!chosen) {
    std::cout << app.help();
    return kwind::tool::kUsedWrongly;
  }
  return chosen();
}
