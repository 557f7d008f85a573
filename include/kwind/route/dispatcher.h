// From the kind of a message to the handlers that want it: one indexed call, no switch.
// `Peer` is what a handler is told about the sender; it comes from the connection, never from the
// message. One dispatcher, one thread.
#pragma once
#include <cstdint>
#include <functional>
#include <memory>
#include <utility>
#include <vector>

#include "kwind/bits/assert.h"
#include "kwind/schema/codec.h"

namespace kwind::route {

struct DispatchCounts {
  std::uint64_t handled = 0;         ///< messages that at least one handler saw
  std::uint64_t unheard = 0;         ///< messages of kinds without a handler
  std::uint64_t handler_faults = 0;  ///< handlers that threw; the loop went on
};

template <class Peer>
class Dispatcher {
 public:
  /// For the kinds 0 to `kinds` - 1 of one protocol.
  explicit Dispatcher(std::size_t kinds) : entries_(kinds) {}

  /// Adds a handler for T, called as handler(peer, message) after those added before. The message
  /// is borrowed for the call. May not be called from a handler. Requires: T is of the protocol.
  template <schema::Message T, class Handler>
  void on(Handler handler) {
    const std::size_t kind = T::info().kind;
    KWIND_ASSERT(!running_ && kind < entries_.size());
    if (!entries_[kind]) entries_[kind] = std::make_unique<EntryOf<T>>();
    // The kind decides the type of the entry: one protocol has one type for each kind.
    static_cast<EntryOf<T>&>(*entries_[kind]).handlers.emplace_back(std::move(handler));
  }

  /// Decodes the bits left in `in`, laid out as `layout` says, and calls the handlers of `kind`.
  /// O(1) beside both. Errors: those of schema::decode_message; then no handler was called.
  Errc dispatch(std::uint16_t kind, Peer peer, const bits::Reader& in, schema::Layout& layout) {
    KWIND_ASSERT(kind < entries_.size());
    if (!entries_[kind]) {
      ++counts_.unheard;
      return Errc::none;
    }
    const bool outer = std::exchange(running_, true);
    const Errc error = entries_[kind]->run(peer, in, layout, counts_);
    running_ = outer;
    if (error == Errc::none) ++counts_.handled;
    return error;
  }

  [[nodiscard]] const DispatchCounts& counts() const { return counts_; }

 private:
  struct Entry {
    virtual ~Entry() = default;
    virtual Errc run(Peer peer, const bits::Reader& in, schema::Layout& layout,
                     DispatchCounts& counts) = 0;
  };
  template <class T>
  struct EntryOf final : Entry {
    Errc run(Peer peer, const bits::Reader& in, schema::Layout& layout,
             DispatchCounts& counts) override {
      const Errc error = schema::decode_message(in, message, layout);
      if (error != Errc::none) return error;
      for (const auto& handler : handlers) {
        try {
          handler(peer, std::as_const(message));
        } catch (...) {  // game code's fault costs game code this message, not the server its loop
          ++counts.handler_faults;
        }
      }
      return Errc::none;
    }
    T message;  // reused, so that texts and lists keep their storage
    std::vector<std::function<void(Peer, const T&)>> handlers;
  };

  std::vector<std::unique_ptr<Entry>> entries_;
  DispatchCounts counts_;
  bool running_ = false;
};

}  // namespace kwind::route
