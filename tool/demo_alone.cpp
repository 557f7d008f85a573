// `kwind` with the command `demo` alone, which builds sooner: what `./dev demo` runs.
#include "commands.h"
#include "run_main.h"

int main(int argc, char** argv) {
  return kwind::tool::run_main(
      argc, argv,
      [](kwind::tool::Command root, std::function<int()>& chosen, const kwind::tool::CommandLine&) {
        kwind::tool::add_demo(root, chosen);
      });
}
