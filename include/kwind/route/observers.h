// Callbacks of one kind that add up: who registers later replaces nobody.
#pragma once
#include <cstddef>
#include <functional>
#include <utility>
#include <vector>

#include "kwind/core/assert.h"

namespace kwind::route {

/// Callbacks that are called in the order in which they were added.
template <class... Args>
class Observers {
 public:
  using Handler = std::function<void(Args...)>;

  /// Adds a handler, called after those that were added before.
  /// Requires: the handler is not empty.
  void add(Handler handler) {
    KWIND_ASSERT(handler != nullptr);
    handlers_.push_back(std::move(handler));
  }
  [[nodiscard]] bool empty() const { return handlers_.empty(); }
  /// Hands each handler to `call`, which runs it. A handler may add others: they are called as
  /// well.
  template <class Call>
  void each(const Call& call) const {
    for (std::size_t i = 0; i < handlers_.size(); ++i) {
      const Handler handler = handlers_[i];  // a copy: adding another may move those that are here
      call(handler);
    }
  }
  void operator()(Args... args) const {
    each([&](const Handler& handler) { handler(args...); });
  }

 private:
  std::vector<Handler> handlers_;
};

}  // namespace kwind::route
