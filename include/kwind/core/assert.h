// KWIND_ASSERT: stops on the caller's own mistakes, in every build type.
// Never used on bytes from the network: those give an Errc (errors.h).
#pragma once
#include "kwind/core/compiler.h"

namespace kwind {

/// Called with the failed condition and its place just before the process aborts, so that an
/// application can write it to its own log. Default: none. Set it once, before other threads start.
using AssertHandler = void (*)(const char* condition, const char* file, int line);
/// Sets the function that a failed assertion calls first; nullptr: none.
KWIND_API void set_assert_handler(AssertHandler handler);

[[noreturn]] KWIND_API void assertion_failed(const char* condition, const char* file, int line);

}  // namespace kwind

#define KWIND_ASSERT(condition)           \
  (static_cast<bool>(condition) ? void(0) \
                                : ::kwind::assertion_failed(#condition, __FILE__, __LINE__))
