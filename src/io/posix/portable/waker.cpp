// A pipe: a byte in it wakes, and emptying it forgets.
#include "kwind/io/waker.h"

#include <fcntl.h>
#include <unistd.h>

#include <array>

#include "kwind/core/assert.h"

namespace kwind::io {

Waker::Waker() {
  std::array<int, 2> ends{-1, -1};
  KWIND_ASSERT(::pipe(ends.data()) == 0);
  for (const int end : ends) {
    KWIND_ASSERT(::fcntl(end, F_SETFL, O_NONBLOCK) == 0);
    KWIND_ASSERT(::fcntl(end, F_SETFD, FD_CLOEXEC) == 0);
  }
  descriptor_ = ends[0];
  wake_descriptor_ = ends[1];
}
Waker::~Waker() {
  ::close(descriptor_);
  ::close(wake_descriptor_);
}

void Waker::wake() const {
  const char one = 1;
  (void)!::write(wake_descriptor_, &one, sizeof one);  // full means that it wakes anyway
}

void Waker::clear() const {
  std::array<char, 64> bytes{};
  while (::read(descriptor_, bytes.data(), bytes.size()) > 0) {
  }
}

}  // namespace kwind::io
