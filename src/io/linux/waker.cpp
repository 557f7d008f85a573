// An eventfd: one descriptor, whose count wakes.
#include "kwind/io/waker.h"

#include <sys/eventfd.h>
#include <unistd.h>

#include <cstdint>

#include "kwind/core/assert.h"

namespace kwind::io {

Waker::Waker() : descriptor_(::eventfd(0, EFD_NONBLOCK | EFD_CLOEXEC)) {
  KWIND_ASSERT(descriptor_ >= 0);
  wake_descriptor_ = descriptor_;
}
Waker::~Waker() {
  ::close(descriptor_);
}

// Safe from any thread and from signal handlers.
void Waker::wake() const {
  const std::uint64_t one = 1;
  (void)!::write(wake_descriptor_, &one, sizeof one);  // full means that it wakes anyway
}

// Resets the count to 0: many wakes become one.
void Waker::clear() const {
  std::uint64_t count = 0;
  (void)!::read(descriptor_, &count, sizeof count);
}

}  // namespace kwind::io
