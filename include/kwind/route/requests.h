// Requests and replies: each request has exactly one outcome; the other end replies once, now
// or later. The numbers that tie both together are per connection and direction. Pure; one thread.
#pragma once
#include <coroutine>
#include <cstdint>
#include <exception>
#include <functional>
#include <memory>
#include <string>
#include <string_view>
#include <type_traits>
#include <utility>
#include <variant>
#include <vector>

#include "kwind/bits/reader.h"
#include "kwind/core/compiler.h"
#include "kwind/core/errors.h"
#include "kwind/core/time.h"
#include "kwind/schema/codec.h"

namespace kwind::route {

/// A generated request.
template <class T>
concept Request = schema::Message<T> && requires(const T& request) {
  asking_of(request);
};

template <Request T>
using AskingOf = decltype(asking_of(std::declval<const T&>()));
template <Request T>
using ReplyMessageOf = typename AskingOf<T>::Answer;
template <Request T>
using ReplyOf = typename AskingOf<T>::Reply;

/// The reasons of a request that knows none.
enum class NoRefusal : std::uint8_t {};
namespace detail {
template <class Asking>
struct RefusalIn {
  using Type = NoRefusal;
};
template <class Asking>
requires requires {
  typename Asking::Refusal;
}
struct RefusalIn<Asking> {
  using Type = typename Asking::Refusal;
};
}  // namespace detail
template <Request T>
using RefusalOf = typename detail::RefusalIn<AskingOf<T>>::Type;

/// How a request ended.
enum class Ending : std::uint8_t {
  replied,
  refused,
  timed_out,     ///< nothing came in time; a later answer is dropped and counted
  abandoned,     ///< who was asked dropped its Answer without a word
  disconnected,  ///< the connection ended first
  not_sent,      ///< it was never asked: `error` says why
};

/// How a request ended: with its reply, with a refusal, or with neither.
template <Request T>
struct Outcome {
  Ending ending = Ending::not_sent;
  ReplyOf<T> reply{};       ///< if replied
  RefusalOf<T> refusal{};   ///< if refused
  std::string words{};      ///< if refused: for people to read
  Errc error = Errc::none;  ///< none if replied or refused
  explicit operator bool() const { return ending == Ending::replied; }
};

/// The questions that one end of a connection has asked and that have no outcome yet.
class KWIND_API PendingRequests {
 public:
  /// Called with the outcome: with the reply's fields, or without.
  using Settle =
      std::function<Errc(Ending, Errc, const bits::Reader* fields, schema::Layout* layout)>;
  /// At most `most` at once.
  explicit PendingRequests(std::size_t max) : max_(max) {}

  /// Whether no further request can be made.
  [[nodiscard]] bool full() const { return open_.size() >= max_; }
  /// Requests without an outcome.
  [[nodiscard]] std::size_t size() const { return open_.size(); }
  /// A number for the next question, none of those that are open. Requires: not full.
  [[nodiscard]] std::uint16_t next_number() const;
  void add(std::uint16_t number, std::uint16_t reply_type, Time deadline, Settle settle);

  /// An answer came; with number 0 its fields are the number of an abandoned question.
  /// Errors: stray_answer if nobody waits for it (any more), those of decoding.
  Errc answer(std::uint16_t number, std::uint16_t type, const bits::Reader& fields,
              schema::Layout& layout);
  /// Ends what is late.
  void expire(Time now);
  /// Ends all; with disconnected.
  void end_all();
  [[nodiscard]] Time next_deadline() const { return deadline_; }

 private:
  struct Open {
    std::uint16_t number;
    std::uint16_t reply_type;
    Time deadline;
    Settle settle;
  };
  void note_deadline();

  std::size_t max_;
  std::uint16_t last_ = 0;
  std::vector<Open> open_;
  Time deadline_ = kNever;
};

/// Wraps what wants an Outcome<T> so that PendingRequests can settle it.
template <Request T, class Callback>
PendingRequests::Settle settle_with(Callback callback) {
  return [callback = std::move(callback)](Ending ending, Errc error, const bits::Reader* fields,
                                          schema::Layout* layout) mutable {
    Outcome<T> outcome;
    outcome.ending = ending;
    outcome.error = error;
    if (fields != nullptr) {
      ReplyMessageOf<T> answer;
      const Errc wrong = schema::decode_message(*fields, answer, *layout);
      if (wrong != Errc::none) return wrong;
      if (auto* reply = std::get_if<0>(&answer.outcome)) outcome.reply = std::move(reply->value);
      if constexpr (!std::is_same_v<RefusalOf<T>, NoRefusal>) {
        if (auto* refused = std::get_if<1>(&answer.outcome)) {
          outcome.ending = Ending::refused;
          outcome.refusal = refused->value.reason;
          outcome.words = std::move(refused->value.words);
        }
      }
    }
    callback(std::as_const(outcome));
    return Errc::none;
  };
}

/// Who asked, and which of the questions of that connection it was.
struct RequestId {
  std::uint32_t peer = 0;
  /// A peer that came back counts its questions anew: the number alone may name another one.
  std::uint64_t connection = 0;
  std::uint16_t number = 0;
};

/// Carries the answers of one host back to those who asked.
class KWIND_API ResponseSink {
 public:
  virtual ~ResponseSink() = default;
  /// Sends an answer to `question`, and closes the question. Errors: no_such_peer; stray_answer if
  /// the question is not open (any more); those of sending.
  virtual Errc send_answer(const RequestId& request_id, const schema::MessageInfo& info,
                           const std::function<void(schema::Encoder&)>& encode) = 0;
  /// Tells who asked that `question`, whose answers are of kind `info`, gets none.
  virtual void abandon(const RequestId& request_id, const schema::MessageInfo& info) = 0;
};

/// The right and duty to answer one request, once. Keep it to answer later, from another tick; for
/// one that is destroyed unused the other end gets Ending::abandoned. Movable. May outlive the
/// host.
template <Request T>
class Responder {
 public:
  Responder(std::weak_ptr<ResponseSink> desk, const RequestId& request_id)
      : desk_(std::move(desk)), request_id_(request_id) {}
  Responder(Responder&&) noexcept = default;
  Responder& operator=(Responder&& other) noexcept {
    if (this == &other) return *this;
    abandon();
    desk_ = std::move(other.desk_);
    request_id_ = other.request_id_;
    given_ = other.given_;
    return *this;
  }
  Responder(const Responder&) = delete;
  Responder& operator=(const Responder&) = delete;
  ~Responder() { abandon(); }

  /// Errors: no_such_peer if whoever asked is gone; stray_answer if it was answered before; those
  /// of sending: then it is not answered yet.
  Errc reply(const ReplyOf<T>& reply) {
    ReplyMessageOf<T> answer;
    answer.outcome = typename std::variant_alternative_t<0, decltype(answer.outcome)>{reply};
    return send(answer);
  }
  /// `words` are for people to read, at most 120 bytes.
  Errc refuse(RefusalOf<T> reason,
              std::string_view words = {}) requires(!std::is_same_v<RefusalOf<T>, NoRefusal>) {
    ReplyMessageOf<T> answer;
    typename std::variant_alternative_t<1, decltype(answer.outcome)> refused;
    refused.value.reason = reason;
    refused.value.words = words;
    answer.outcome = std::move(refused);
    return send(answer);
  }

 private:
  Errc send(const ReplyMessageOf<T>& answer) {
    const auto desk = desk_.lock();
    if (!desk) return Errc::no_such_peer;
    const Errc error = desk->send_answer(request_id_, ReplyMessageOf<T>::info(),
                                         [&](schema::Encoder& out) { encode(out, answer); });
    given_ = given_ || error == Errc::none;
    return error;
  }
  void abandon() noexcept {
    if (given_) return;
    if (const auto desk = desk_.lock()) desk->abandon(request_id_, ReplyMessageOf<T>::info());
  }
  std::weak_ptr<ResponseSink> desk_;  // empty once moved from
  RequestId request_id_;
  bool given_ = false;
};

/// A coroutine that runs by itself once it was given to Server::start or Client::start: between its
/// `co_await`s of requests the host's loop goes on. It ends where it returns; what it throws counts
/// as a handler fault.
class [[nodiscard]] KWIND_API Task {
 public:
  /// What a compiler needs of a coroutine (C++20, [dcl.fct.def.coroutine]).
  struct promise_type {
    std::exception_ptr error{};
    Task get_return_object() {
      return Task(std::coroutine_handle<promise_type>::from_promise(*this));
    }
    static std::suspend_always initial_suspend() noexcept { return {}; }
    static std::suspend_always final_suspend() noexcept { return {}; }
    static void return_void() {}
    void unhandled_exception() { error = std::current_exception(); }
  };
  using Handle = std::coroutine_handle<promise_type>;

  Task(Task&& other) noexcept : handle_(std::exchange(other.handle_, nullptr)) {}
  Task& operator=(Task&&) = delete;
  Task(const Task&) = delete;
  Task& operator=(const Task&) = delete;
  ~Task() {
    if (handle_) handle_.destroy();
  }

  /// Runs it up to its first wait. Rethrows what it throws.
  void start() { resume(std::exchange(handle_, nullptr)); }
  static void resume(Handle handle) {
    handle.resume();
    if (!handle.done()) return;  // it waits for an outcome, which will resume it
    const std::exception_ptr error = handle.promise().error;
    handle.destroy();
    if (error) std::rethrow_exception(error);
  }

 private:
  explicit Task(Handle handle) : handle_(handle) {}
  Handle handle_;
};

/// What `co_await host.ask(...)` waits on.
template <Request T>
class RequestAwaiter {
 public:
  /// `ask(callback)` sends the question; what it returns other than none is the outcome.
  explicit RequestAwaiter(std::function<Errc(std::function<void(const Outcome<T>&)>)> ask)
      : ask_(std::move(ask)) {}
  [[nodiscard]] static bool await_ready() { return false; }
  bool await_suspend(Task::Handle waiting) {
    const Errc error = ask_([this, waiting](const Outcome<T>& outcome) {
      outcome_ = outcome;
      Task::resume(waiting);
    });
    if (error == Errc::none) return true;
    outcome_.ending = Ending::not_sent;
    outcome_.error = error;
    return false;
  }
  Outcome<T> await_resume() { return std::move(outcome_); }

 private:
  std::function<Errc(std::function<void(const Outcome<T>&)>)> ask_;
  Outcome<T> outcome_;
};

}  // namespace kwind::route
