// Which of many streams have something: epoll where it is there, poll elsewhere. Private to io; one
// poller, one thread.
#pragma once
#include <functional>
#include <memory>
#include <vector>

#include "kwind/core/errors.h"

namespace kwind::io {

class Poller {
 public:
  struct Event {
    int descriptor = -1;
    bool readable = false;  // or ended, or failed: reading tells
    bool writable = false;
  };

  Poller();
  ~Poller();
  Poller(const Poller&) = delete;
  Poller& operator=(const Poller&) = delete;

  /// Errors: those of the system.
  Errc open();
  void add(int descriptor);  // for reading
  /// What is asked of a descriptor that was added; neither: it is kept and not asked.
  void change(int descriptor, bool to_read, bool to_write);
  /// Before it is closed.
  void remove(int descriptor);
  /// What there is now, without waiting; some of it, if there is much. Valid until the next call.
  const std::vector<Event>& look();
  /// Calls visit(descriptor, to_write) for each that must be polled in order to wait for look().
  void each_wait(const std::function<void(int, bool)>& visit) const;

 private:
  struct State;
  std::unique_ptr<State> state_;
};

}  // namespace kwind::io
