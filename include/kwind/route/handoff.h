// A lock-free queue from one thread to another, of fixed capacity. Exactly one thread puts, exactly
// one takes; neither ever waits for the other.
#pragma once
#include <atomic>
#include <bit>
#include <cstddef>
#include <new>
#include <optional>
#include <utility>
#include <vector>

#include "kwind/core/assert.h"

namespace kwind::route {

/// A queue between exactly two threads.
template <class T>
class Handoff {
 public:
  /// For at least `capacity` items; their storage is kept and used again. Requires: T is default
  /// constructible and movable; capacity >= 1.
  explicit Handoff(std::size_t capacity)
      : slots_(std::bit_ceil(capacity)), mask_(slots_.size() - 1) {
    KWIND_ASSERT(capacity >= 1);
  }
  Handoff(const Handoff&) = delete;
  Handoff& operator=(const Handoff&) = delete;

  // ---- the thread that puts ----

  /// The slot for the next item, to be filled in place and then handed over by put_done(); nullptr
  /// if the queue is full. It holds what its last tenant left.
  [[nodiscard]] T* put_slot() {
    const std::size_t tail = tail_.load(std::memory_order_relaxed);
    if (tail - head_seen_ == slots_.size()) {
      head_seen_ = head_.load(std::memory_order_acquire);
      if (tail - head_seen_ == slots_.size()) return nullptr;
    }
    return &slots_[tail & mask_];
  }
  void put_done() {
    tail_.store(tail_.load(std::memory_order_relaxed) + 1, std::memory_order_release);
  }
  /// false, and `item` untouched: the queue is full.
  bool put(T&& item) {
    T* const slot = put_slot();
    if (slot == nullptr) return false;
    *slot = std::move(item);
    put_done();
    return true;
  }
  /// Free slots; the other thread may make it more at any time.
  [[nodiscard]] std::size_t room() {
    head_seen_ = head_.load(std::memory_order_acquire);
    return slots_.size() - (tail_.load(std::memory_order_relaxed) - head_seen_);
  }

  // ---- the thread that takes ----

  /// The oldest item, to be used in place and then given back by take_done(); nullptr if there is
  /// none.
  [[nodiscard]] T* take_slot() {
    const std::size_t head = head_.load(std::memory_order_relaxed);
    if (head == tail_seen_) {
      tail_seen_ = tail_.load(std::memory_order_acquire);
      if (head == tail_seen_) return nullptr;
    }
    return &slots_[head & mask_];
  }
  void take_done() {
    head_.store(head_.load(std::memory_order_relaxed) + 1, std::memory_order_release);
  }
  std::optional<T> take() {
    T* const slot = take_slot();
    if (slot == nullptr) return std::nullopt;
    std::optional<T> item(std::move(*slot));
    take_done();
    return item;
  }

  [[nodiscard]] std::size_t capacity() const { return slots_.size(); }

 private:
  static constexpr std::size_t kLine = 64;  // bytes that move between cores at once

  std::vector<T> slots_;
  std::size_t mask_;
  alignas(kLine) std::atomic<std::size_t> head_{0};  // taken so far
  alignas(kLine) std::atomic<std::size_t> tail_{0};  // put so far
  alignas(kLine) std::size_t head_seen_ = 0;         // by the thread that puts
  alignas(kLine) std::size_t tail_seen_ = 0;         // by the thread that takes
};

}  // namespace kwind::route
