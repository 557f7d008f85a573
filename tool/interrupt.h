// SIGINT and SIGTERM as a flag that a command's loop looks at. One flag for the process.
#pragma once

namespace kwind::tool {

/// Makes SIGINT and SIGTERM set the flag instead of ending the process; clears the flag.
void watch_interrupts();

/// Returns whether SIGINT or SIGTERM arrived since watch_interrupts().
[[nodiscard]] bool interrupted();

}  // namespace kwind::tool
