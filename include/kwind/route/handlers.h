// Functions that are called one after the other, in the order in which they were added, and that
// may add and remove such functions, themselves included, while they run. One list, one thread.
#pragma once
#include <algorithm>
#include <cstdint>
#include <functional>
#include <iterator>
#include <memory>
#include <utility>
#include <vector>

#include "kwind/core/compiler.h"

namespace kwind::route {

/// What a Subscription takes its function out of.
class KWIND_API HandlerListBase {
 public:
  virtual ~HandlerListBase() = default;
  virtual void remove(std::uint64_t id) = 0;
};

/// Keeps a function subscribed as long as it lives. May outlive what it subscribed to. Movable.
class [[nodiscard]] KWIND_API Subscription {
 public:
  Subscription() = default;
  Subscription(std::weak_ptr<HandlerListBase> list, std::uint64_t id)
      : list_(std::move(list)), id_(id) {}
  Subscription(Subscription&& other) noexcept
      : list_(std::move(other.list_)), id_(std::exchange(other.id_, 0)) {}
  Subscription& operator=(Subscription&& other) noexcept {
    if (this != &other) {
      end();
      list_ = std::move(other.list_);
      id_ = std::exchange(other.id_, 0);
    }
    return *this;
  }
  Subscription(const Subscription&) = delete;
  Subscription& operator=(const Subscription&) = delete;
  ~Subscription() { end(); }

  /// Unsubscribes now: the function is not called any more, not even for the message whose handlers
  /// are running.
  void end() {
    if (id_ == 0) return;
    if (const auto list = list_.lock()) list->remove(id_);
    id_ = 0;
  }

 private:
  std::weak_ptr<HandlerListBase> list_;
  std::uint64_t id_ = 0;
};

/// A list of functions with this signature.
template <class Signature>
class HandlerList final : public HandlerListBase {
 public:
  /// Added while the list runs, it is called from the next message on.
  std::uint64_t add(std::function<Signature> call) {
    if (running_ > 0) changed_ = true;
    (running_ == 0 ? nodes_ : added_).push_back({++last_id_, std::move(call)});
    return last_id_;
  }
  void remove(std::uint64_t id) override {
    for (auto* list : {&nodes_, &added_}) {
      const auto found =
          std::find_if(list->begin(), list->end(), [&](const Node& node) { return node.id == id; });
      if (found == list->end()) continue;
      found->id = 0;
      if (running_ == 0) {
        list->erase(found);
      } else {
        changed_ = true;
      }
      return;
    }
  }
  [[nodiscard]] bool empty() const { return nodes_.empty() && added_.empty(); }

  /// A function and its id; id 0: removed during a round.
  struct Node {
    std::uint64_t id;  ///< 0: removed
    std::function<Signature> call;
  };
  /// A round through the functions, during which the list may change: pass over nodes with id 0.
  class Round {
   public:
    explicit Round(HandlerList& list) : list_(list) { ++list.running_; }
    ~Round() {
      if (--list_.running_ == 0 && list_.changed_) [[unlikely]]
        list_.settle();
    }
    Round(const Round&) = delete;
    Round& operator=(const Round&) = delete;
    [[nodiscard]] auto begin() const { return list_.nodes_.cbegin(); }
    [[nodiscard]] auto end() const { return list_.nodes_.cend(); }

   private:
    HandlerList& list_;
  };
  /// Calls each(function) for every one; false from `each` ends the round. O(functions).
  template <class Each>
  void run(const Each& each) {
    for (const Node& node : Round(*this)) {
      if (node.id != 0 && !each(node.call)) return;
    }
  }

 private:
  // Apart, so that the usual round is short.
  [[gnu::noinline]] void settle() {
    changed_ = false;
    std::move(added_.begin(), added_.end(), std::back_inserter(nodes_));
    added_.clear();
    nodes_.erase(
        std::remove_if(nodes_.begin(), nodes_.end(), [](const Node& node) { return node.id == 0; }),
        nodes_.end());
  }

  std::vector<Node> nodes_;
  std::vector<Node> added_;  // since the list runs
  unsigned running_ = 0;
  bool changed_ = false;  // since it runs
  std::uint64_t last_id_ = 0;
};

}  // namespace kwind::route
