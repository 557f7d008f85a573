// The build's own code generator: what `kwind gen` does, without the rest of the tool, which itself
// needs generated code. Usage: kwind_codegen [--c] FILE.kw DIR
#include <fmt/format.h>

#include <string_view>

#include "generate.h"

int main(int argc, char** argv) {
  const bool for_c = argc == 4 && std::string_view(argv[1]) == "--c";
  if (argc != 3 && !for_c) {
    fmt::print(stderr, "usage: kwind_codegen [--c] FILE.kw DIR\n");
    return kwind::tool::kUsedWrongly;
  }
  return for_c ? kwind::tool::generate_c(argv[2], argv[3], true)
               : kwind::tool::generate_cpp(argv[1], argv[2], true);
}
