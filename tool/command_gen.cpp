#include <CLI/CLI.hpp>
#include <memory>

#include "commands.h"

namespace kwind::tool {

void add_gen(CLI::App& app, std::function<int()>& chosen) {
  struct Arguments {
    std::string file;
    std::string cpp;
  };
  auto arguments = std::make_shared<Arguments>();
  CLI::App* command = app.add_subcommand("gen", "Write code from a description");
  command->add_option("FILE", arguments->file, "The description, a .kw file")->required();
  command->add_option("--cpp", arguments->cpp, "Write DIR/<protocol>.h and the headers it includes")
      ->required()
      ->type_name("DIR");
  command->footer(
      "Example:\n  kwind gen examples/harbour/harbour.kw --cpp build/generated\n\n"
      "In a CMake build, kwind_generate(TARGET FILE.kw) does the same.");
  command->callback([arguments, &chosen] {
    chosen = [arguments] { return generate_cpp(arguments->file, arguments->cpp, false); };
  });
}

}  // namespace kwind::tool
