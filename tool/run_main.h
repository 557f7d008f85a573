// What every program with commands of `kwind` does: exit codes 0 fine, 1 found something wrong, 2 used wrongly.
#pragma once
#include <functional>

#include "options.h"

namespace kwind::tool {

/// Adds commands to `root`; a command that was named sets `chosen` to what runs it. `line` outlives both.
using AddCommands = void (*)(Command root, std::function<int()>& chosen, const CommandLine& line);

/// Parses the command line, runs the command that it names, and returns the exit code. Exceptions and output that could
/// not be written are reported on standard error.
int run_main(int argc, char** argv, AddCommands add_commands);

}  // namespace kwind::tool
