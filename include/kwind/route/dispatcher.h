// Typed dispatch: from the message type to its handlers by one indexed call. Checks of the game and
// the owner that the description states come before any handler. `Peer` identifies the sender; it
// comes from the connection, never from the message. One dispatcher, one thread.
#pragma once
#include <cstdint>
#include <exception>
#include <functional>
#include <memory>
#include <span>
#include <string_view>
#include <type_traits>
#include <utility>
#include <vector>

#include "kwind/core/assert.h"
#include "kwind/route/handlers.h"
#include "kwind/route/observers.h"
#include "kwind/schema/codec.h"

namespace kwind::route {

/// What a dispatcher did with messages.
struct DispatchCounts {
  std::uint64_t handled = 0;         ///< messages that at least one handler saw
  std::uint64_t unhandled = 0;       ///< messages of kinds without a handler
  std::uint64_t handler_faults = 0;  ///< handlers and checks that threw; the loop went on
  std::uint64_t penalized = 0;       ///< messages that a check counted against their sender
};

/// What a check decides about a message.
enum class CheckResult : std::uint8_t {
  accept,      ///< the next check, then the handlers
  drop,        ///< no handler receives it
  penalize,    ///< as `drop`, and it counts against the sender
  disconnect,  ///< as `drop`, and the connection of the sender closes
};

/// A message as it came in, not decoded.
struct RawMessage {
  const schema::MessageInfo& info;
  bits::Reader fields;           ///< stands before the first field
  std::uint16_t version = 0;     ///< in whose layout it is
  std::uint16_t request_id = 0;  ///< requests and answers: which of them
};

/// A handler that threw.
template <class Peer>
struct HandlerException {
  Peer peer{};
  /// nullptr: code that no message brought about, on_connect for instance.
  const RawMessage* message = nullptr;
  std::string_view what{};  ///< of the exception, if it was a std::exception
};

/// Calls the handlers of messages.
template <class Peer>
class Dispatcher {
 public:
  /// For the kinds of one protocol, whose table must outlive this.
  explicit Dispatcher(std::span<const schema::MessageInfo> messages)
      : messages_(messages), entries_(messages.size()) {}

  /// Adds a handler for T, called as handler(peer, message) after those added before. The message
  /// is borrowed for the call. From a handler: it is called from the next message on. Requires: T
  /// is of the protocol.
  template <schema::Message T, class Handler>
  void on(Handler handler) {
    entry<T>().handlers.add(std::move(handler));
  }
  /// The same as long as the returned handle lives.
  template <schema::Message T, class Handler>
  Subscription subscribe(Handler handler) {
    auto& handlers = entry<T>().handlers;
    const std::uint64_t id = handlers.add(std::move(handler));
    return {std::shared_ptr<HandlerListBase>(entries_[T::info().type], &handlers), id};
  }
  /// The handler of request T, called as handler(peer, request, number of the question). One for
  /// each kind. Requires: there is none yet.
  template <schema::Message T, class Handler>
  void on_request(Handler handler) {
    EntryOf<T>& made = entry<T>();
    KWIND_ASSERT(!made.answerer);
    made.answerer = std::move(handler);
  }
  /// Handlers for every type among `List` for which `group.on_message(peer, message)` compiles and
  /// which `wanted(info)` permits. Which these are is found here, once. `group` is borrowed.
  template <class Group, class... T, class Wanted>
  std::vector<Subscription> subscribe_group(Group& group, schema::MessageList<T...>,
                                            const Wanted& wanted) {
    std::vector<Subscription> all;
    (add_to_group<T>(group, wanted, all), ...);
    return all;
  }

  /// A check of decoded messages of kind T, before their handlers, as check(peer, message).
  template <schema::Message T, class Check>
  void check(Check check) {
    entry<T>().checks.add(std::move(check));
  }
  /// A check of all messages, before they are decoded.
  void check_all(std::function<CheckResult(Peer, const RawMessage&)> check) {
    checks_.add(std::move(check));
  }
  /// Who may send messages whose description says `from owner of`: says whether `peer` owns the
  /// entity. Without it nobody may.
  void owned_by(std::function<bool(Peer, const schema::AnyRef&)> owns) { owns_ = std::move(owns); }
  /// What happens with kinds that have no handler; otherwise they count as unhandled.
  void on_unhandled(std::function<void(Peer, const RawMessage&)> handler) {
    rest_.add(std::move(handler));
  }
  /// Decodes and handles kinds that have no handler of their own, for programs that know messages
  /// at run time only: take(peer, message, layout) decodes as `layout` says, checks the owner where
  /// the kind is `from owner of` an entity (not_owner), and returns why the message is dropped, or
  /// none. Requires: there is none yet.
  void on_any(std::function<Errc(Peer, const RawMessage&, schema::Layout&)> take) {
    KWIND_ASSERT(!any_);
    any_ = std::move(take);
  }
  /// Called for each handler that threw.
  void on_fault(std::function<void(const HandlerException<Peer>&)> sink) {
    sinks_.add(std::move(sink));
  }

  /// What became of a message.
  struct Dispatched {
    Errc error = Errc::none;  ///< why no handler saw it
    bool penalized = false;
    bool close = false;
    unsigned faults = 0;  ///< handlers and checks that threw
  };
  /// Decodes what is left in `arrived.fields` as `layout` says, and calls the handlers of its kind.
  /// O(1) beside both. Errors: those of schema::decode_message, not_owner, not_allowed; then no
  /// handler was called.
  Dispatched dispatch(Peer peer, const RawMessage& arrived, schema::Layout& layout) {
    KWIND_ASSERT(arrived.info.type < entries_.size());
    Dispatched done;
    rule(checks_, peer, arrived, done, arrived);
    if (done.error != Errc::none) return done;
    Entry* const found = entries_[arrived.info.type].get();
    if (found != nullptr && found->listens()) {
      found->run(*this, peer, arrived, layout, done);
      if (done.error == Errc::none) ++counts_.handled;
    } else if (any_) {
      guard(peer, &arrived, done, [&] { done.error = any_(peer, arrived, layout); });
      if (done.error == Errc::none) ++counts_.handled;
    } else if (!rest_.empty() && !unhandled_checks_owners_ && !arrived.info.owner_field.empty()) {
      done.error = Errc::not_owner;
    } else if (!rest_.empty()) {
      guard(peer, &arrived, done, [&] {
        rest_.run([&](const auto& handler) {
          handler(peer, arrived);
          return true;
        });
      });
      ++counts_.handled;
    } else {
      ++counts_.unhandled;
    }
    return done;
  }

  /// Calls the handlers of a message that is decoded already. O(1) beside the handlers.
  template <schema::Message T>
  Dispatched deliver(Peer peer, const T& message) {
    Dispatched done;
    const schema::MessageInfo& info = T::info();
    KWIND_ASSERT(info.type < entries_.size());
    Entry* const found = entries_[info.type].get();
    if (found == nullptr) {
      ++counts_.unhandled;
      return done;
    }
    done.faults = static_cast<EntryOf<T>*>(found)->call(*this, peer, nullptr, message);
    ++counts_.handled;
    return done;
  }

  /// Rest handlers get messages `from owner of` an entity, too, and look after that themselves:
  /// what the ref is cannot be decided without the message's type. Otherwise such messages are
  /// dropped with not_owner before them.
  void unhandled_checks_owners() { unhandled_checks_owners_ = true; }
  /// Whether messages of `kind` have a handler.
  [[nodiscard]] bool listens(std::size_t type) const {
    return (entries_[type] != nullptr && entries_[type]->listens()) || any_ || !rest_.empty();
  }
  [[nodiscard]] const DispatchCounts& counts() const { return counts_; }
  [[nodiscard]] std::span<const schema::MessageInfo> messages() const { return messages_; }

  /// Calls `run`, and counts and reports what it throws against `peer`'s message.
  template <class Run>
  void guard(Peer peer, const RawMessage* arrived, Dispatched& done, const Run& run) {
    try {
      run();
    } catch (...) {
      ++done.faults;
      caught(peer, arrived);
    }
  }

 private:
  // Refs are fields of the message itself, found by their name.
  struct RefFinder {
    std::string_view field;
    schema::AnyRef found{};
    template <class Value>
    void operator()(std::string_view name, const Value& value) {
      if constexpr (std::is_constructible_v<schema::AnyRef, const Value&>) {
        if (name == field) found = value;
      }
    }
  };
  struct Entry {
    virtual ~Entry() = default;
    [[nodiscard]] virtual bool listens() const = 0;
    virtual void run(Dispatcher& self, Peer peer, const RawMessage& arrived, schema::Layout& layout,
                     Dispatched& done) = 0;
  };
  template <class T>
  struct EntryOf final : Entry {
    [[nodiscard]] bool listens() const override { return answerer != nullptr || !handlers.empty(); }
    void run(Dispatcher& self, Peer peer, const RawMessage& arrived, schema::Layout& layout,
             Dispatched& done) override {
      done.error = schema::decode_message(arrived.fields, message, layout);
      if (done.error != Errc::none) return;
      if (!arrived.info.owner_field.empty() &&
          (!self.owns_ || !self.owns_(peer, owner_of(arrived.info.owner_field)))) {
        done.error = Errc::not_owner;
        return;
      }
      self.rule(checks, peer, arrived, done, std::as_const(message));
      if (done.error != Errc::none) return;
      done.faults += call(self, peer, &arrived, message);
    }
    // Returns how many threw. No closures, and nothing kept in memory: every message comes by here.
    unsigned call(Dispatcher& self, Peer peer, const RawMessage* arrived, const T& decoded) {
      unsigned faults = 0;
      for (const auto& node : typename Handlers::Round(handlers)) {
        if (node.id == 0) continue;
        try {
          node.call(peer, decoded);
        } catch (...) {
          ++faults;
          self.caught_for_type(peer, T::info(), arrived);
        }
      }
      if (!answerer) return faults;
      Dispatched done;
      self.guard(peer, arrived, done, [&] {
        answerer(peer, decoded, arrived == nullptr ? std::uint16_t{0} : arrived->request_id);
      });
      return faults + done.faults;
    }
    [[nodiscard]] schema::AnyRef owner_of(std::string_view field) const {
      RefFinder finder{field};
      if constexpr (requires { visit_fields(message, finder); }) visit_fields(message, finder);
      return finder.found;
    }

    T message;  // reused, so that texts and lists keep their storage
    using Handlers = HandlerList<void(Peer, const T&)>;
    Handlers handlers;
    HandlerList<CheckResult(Peer, const T&)> checks;
    std::function<void(Peer, const T&, std::uint16_t)> answerer;
  };

  template <class T>
  EntryOf<T>& entry() {
    const std::size_t type = T::info().type;
    KWIND_ASSERT(type < entries_.size());
    if (!entries_[type]) entries_[type] = std::make_shared<EntryOf<T>>();
    // The kind decides the type of the entry: one protocol has one type for each kind.
    return static_cast<EntryOf<T>&>(*entries_[type]);
  }

  template <class T, class Group, class Wanted>
  void add_to_group(Group& group, const Wanted& wanted, std::vector<Subscription>& all) {
    if constexpr (requires(Peer peer, const T& message) { group.on_message(peer, message); }) {
      if (!wanted(T::info())) return;
      all.push_back(
          subscribe<T>([&group](Peer peer, const T& message) { group.on_message(peer, message); }));
    }
  }

  // Asks each check; the first that does not allow decides.
  template <class Checks, class Message>
  void rule(Checks& checks, Peer peer, const RawMessage& arrived, Dispatched& done,
            const Message& message) {
    if (checks.empty()) return;
    CheckResult result = CheckResult::accept;
    const unsigned faults = done.faults;
    guard(peer, &arrived, done, [&] {
      checks.run([&](const auto& check) {
        result = check(peer, message);
        return result == CheckResult::accept;
      });
    });
    if (result == CheckResult::accept && done.faults == faults) return;
    done.error = Errc::not_allowed;
    done.penalized = result == CheckResult::penalize;
    done.close = result == CheckResult::disconnect;
    if (done.penalized) ++counts_.penalized;
  }

  // In a catch block: game code's fault costs game code this message, not the server its loop.
  [[gnu::noinline]] void caught(Peer peer, const RawMessage* arrived) {
    ++counts_.handler_faults;
    if (sinks_.empty()) return;
    try {
      throw;
    } catch (const std::exception& error) {
      sinks_({peer, arrived, error.what()});
    } catch (...) {
      sinks_({peer, arrived, "an exception of a type of its own"});
    }
  }
  [[gnu::noinline]] void caught_for_type(Peer peer, const schema::MessageInfo& info,
                                         const RawMessage* arrived) {
    const RawMessage without_fields{info, bits::Reader({}, 0)};
    caught(peer, arrived == nullptr ? &without_fields : arrived);
  }

  std::span<const schema::MessageInfo> messages_;
  std::vector<std::shared_ptr<Entry>> entries_;  // shared: subscriptions may outlive them
  HandlerList<CheckResult(Peer, const RawMessage&)> checks_;
  HandlerList<void(Peer, const RawMessage&)> rest_;
  std::function<Errc(Peer, const RawMessage&, schema::Layout&)> any_;
  bool unhandled_checks_owners_ = false;
  std::function<bool(Peer, const schema::AnyRef&)> owns_;
  Observers<const HandlerException<Peer>&> sinks_;
  DispatchCounts counts_;
};

}  // namespace kwind::route
