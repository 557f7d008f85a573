// The build's own code generator: what `kwind gen` does, without the rest of the tool, which itself
// needs generated code. Usage: kwind_codegen FILE.kw DIR
#include <fmt/format.h>

#include "generate.h"

int main(int argc, char** argv) {
  if (argc != 3) {
    fmt::print(stderr, "usage: kwind_codegen FILE.kw DIR\n");
    return kwind::tool::kUsedWrongly;
  }
  return kwind::tool::generate_cpp(argv[1], argv[2], true);
}
