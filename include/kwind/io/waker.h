// Ends another thread's wait_for_any(): give descriptor() to it as one of `also`. wake() may be
// called from any thread, the rest from the one that waits.
#pragma once
#include "kwind/core/compiler.h"

namespace kwind::io {

/// Wakes a thread that waits for transports.
class KWIND_API Waker {
 public:
  Waker();
  ~Waker();
  Waker(const Waker&) = delete;
  Waker& operator=(const Waker&) = delete;

  /// Ends the wait. O(1), one system call.
  void wake() const;
  /// Forgets calls of wake() so far.
  void clear() const;
  /// What wait_for_any() is given. Owned by this.
  [[nodiscard]] int descriptor() const { return descriptor_; }

 private:
  int descriptor_ = -1;
  int wake_descriptor_ = -1;  // the same, or the other end of a pipe
};

}  // namespace kwind::io
