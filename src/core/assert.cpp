// Reports a failed assertion on standard error and aborts.
#include "kwind/core/assert.h"

#include <cstdlib>

namespace kwind {
namespace {
AssertHandler g_handler = nullptr;
}

void set_assert_handler(AssertHandler handler) {
  g_handler = handler;
}

void assertion_failed(const char* condition, const char* file, int line) {
  if (g_handler != nullptr) g_handler(condition, file, line);
  std::abort();
}

}  // namespace kwind
