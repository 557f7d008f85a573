// A signal handler that sets a flag and does nothing else.
#include "interrupt.h"

#include <atomic>
#include <csignal>

namespace kwind::tool {
namespace {

std::atomic<bool> g_interrupted = false;
static_assert(std::atomic<bool>::is_always_lock_free, "a signal handler sets it");

}  // namespace

void watch_interrupts() {
  g_interrupted = false;
  std::signal(SIGINT, [](int) { g_interrupted = true; });
  std::signal(SIGTERM, [](int) { g_interrupted = true; });
}

bool interrupted() {
  return g_interrupted;
}

}  // namespace kwind::tool
