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

namespace kwind::route {

/// What a Subscription takes its function out of.
class HandlerListBase {
 public:
  virtual ~HandlerListBase() = default;
  virtual void remove(std::uint64_t id) = 0;
};

/// Keeps a function subscribed as long as it lives. May outlive what it subscribed to. Movable.
class [[nodiscard]] Subscription {
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

template <class Signature>
class HandlerList final : public HandlerListBase {
 public:
  /// Added while the list runs, it is called from the next message on.
  std::uint64_t add(std::function<Signature> call) {
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
        gone_ = true;
      }
      return;
    }
  }
  [[nodiscard]] bool empty() const { return nodes_.empty() && added_.empty(); }

  /// Calls each(function) for every one; false from `each` ends the round. O(functions).
  template <class Each>
  void run(const Each& each) {
    ++running_;
    const Guard guard{*this};
    for (const Node& node : nodes_) {
      if (node.id != 0 && !each(node.call)) return;
    }
  }

 private:
  struct Node {
    std::uint64_t id;  // 0: removed
    std::function<Signature> call;
  };
  struct Guard {
    HandlerList& list;
    ~Guard() {
      if (--list.running_ == 0) list.settle();
    }
  };
  void settle() {
    if (!added_.empty()) {
      std::move(added_.begin(), added_.end(), std::back_inserter(nodes_));
      added_.clear();
    }
    if (!std::exchange(gone_, false)) return;
    nodes_.erase(
        std::remove_if(nodes_.begin(), nodes_.end(), [](const Node& node) { return node.id == 0; }),
        nodes_.end());
  }

  std::vector<Node> nodes_;
  std::vector<Node> added_;  // since the list runs
  unsigned running_ = 0;
  bool gone_ = false;
  std::uint64_t last_id_ = 0;
};

}  // namespace kwind::route
