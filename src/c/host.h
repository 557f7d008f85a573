// What the server and the client of the C interface share: the queue of events, and requests in
// both directions. Single-threaded: its object is locked.
#pragma once
#include <deque>
#include <map>
#include <memory>
#include <optional>
#include <string>

#include "c/value.h"
#include "kwind/core/time.h"
#include "kwind/host/options.h"
#include "kwind/route/dispatcher.h"
#include "kwind/route/requests.h"

namespace kwind::c {

/// Of a world's ticks per second.
inline constexpr unsigned kMaxTickRate = 240;

/// An event that waits for next_event().
struct QueuedEvent {
  kwind_event_type event = KWIND_EVENT_MESSAGE;
  std::uint32_t peer = 0;
  std::uint32_t tick = 0;
  std::uint64_t request = 0;
  schema::AnyRef entity{};
  Errc error = Errc::none;
  std::uint32_t outcome = 0;
  std::optional<TypeName> type{};

  /// Most events are of entities and have no more than the above, so that queues stay short.
  struct Content {
    bool has_value = false;
    schema::Value value{};
    std::string text{};
    std::string words{};
  };
  Content& content() {
    if (more == nullptr) more = std::make_unique<Content>();
    return *more;
  }
  std::unique_ptr<Content> more{};
};

class EventQueue {
 public:
  static constexpr std::size_t kMaxEvents = std::size_t{1} << 16;

  explicit EventQueue(const std::shared_ptr<ProtocolObject>& protocol);
  ~EventQueue();
  EventQueue(const EventQueue&) = delete;
  EventQueue& operator=(const EventQueue&) = delete;

  void push(QueuedEvent event) { waiting_.push_back(std::move(event)); }
  [[nodiscard]] bool full() const { return waiting_.size() >= kMaxEvents; }
  /// Errors: KWIND_E_EMPTY, those of check_size().
  kwind_result pop(kwind_event* out);

 private:
  std::deque<QueuedEvent> waiting_;
  QueuedEvent shown_{};  // what the last event points to
  std::shared_ptr<ValueObject> value_;
  std::uintptr_t value_handle_ = 0;
};

/// A request of the other end that has no answer yet.
struct OpenRequest {
  std::uint32_t peer = 0;
  std::uint16_t number = 0;
  std::size_t type = 0;  ///< in Protocol::messages; its answer is the next one
};

/// What came, as a value. Errors: those of decoding.
Errc decode(const schema::Protocol& protocol, const TypeName& type, const bits::Reader& fields,
            schema::Layout& layout, schema::Value& out);

/// The messages of both directions. `direction` is the one in which this end sends.
class Messages {
 public:
  Messages(std::shared_ptr<ProtocolObject> protocol, schema::Direction direction)
      : protocol_(std::move(protocol)), direction_(direction), events_(protocol_) {}

  [[nodiscard]] EventQueue& events() { return events_; }
  [[nodiscard]] const std::shared_ptr<ProtocolObject>& protocol() const { return protocol_; }
  [[nodiscard]] const schema::Protocol& description() const { return protocol_->protocol; }

  /// Whether this end can send the value as a message of this role. Errors: KWIND_E_TYPE.
  kwind_result check(const ValueObject& value, schema::MessageRole role) const;
  [[nodiscard]] schema::AnyMessage message(const ValueObject& value) const {
    return {protocol_->tables, value.type.index, value.value};
  }

  /// A message or request of a peer: queues its event. Errors: those of decoding.
  Errc take(std::uint32_t peer, const route::RawMessage& message, schema::Layout& layout,
            bool is_input);
  /// A number for a request that is about to be sent, and what settles it: queues the outcome.
  std::uint64_t next_request() { return ++last_request_; }
  route::PendingRequests::Settle settle(std::uint64_t request, std::uint32_t peer,
                                        std::size_t type);
  /// Requests of a peer that is gone, or came back with numbers of its own, get no answer.
  void forget(std::uint32_t peer);

  /// The answer to an open request, with the reply or with a refusal: `send(open, answer)`.
  /// Errors: stray_answer, KWIND_E_TYPE, KWIND_E_NAME, those of `send`.
  template <class Send>
  kwind_result reply(std::uint64_t request, const ValueObject& value, const Send& send) {
    schema::Value answer;
    const auto open = open_.find(request);
    if (open == open_.end()) return from_errc(Errc::stray_answer);
    if (const auto result = reply_value(open->second, value, answer); result != KWIND_OK) {
      return result;
    }
    return answered(open, answer, send);
  }
  template <class Send>
  kwind_result refuse(std::uint64_t request, const char* reason, const char* words,
                      const Send& send) {
    schema::Value answer;
    const auto open = open_.find(request);
    if (open == open_.end()) return from_errc(Errc::stray_answer);
    if (const auto result = refusal_value(open->second, reason, words, answer);
        result != KWIND_OK) {
      return result;
    }
    return answered(open, answer, send);
  }

 private:
  using Open = std::map<std::uint64_t, OpenRequest>;
  template <class Send>
  kwind_result answered(Open::iterator open, const schema::Value& answer, const Send& send) {
    const schema::AnyMessage message(protocol_->tables, open->second.type + 1, answer);
    const Errc error = send(open->second, message);
    // Whoever asked is gone, or received an answer: the number means nothing any more.
    if (error == Errc::none || error == Errc::no_such_peer || error == Errc::stray_answer) {
      open_.erase(open);
    }
    return from_errc(error);
  }
  kwind_result reply_value(const OpenRequest& open, const ValueObject& value,
                           schema::Value& answer) const;
  kwind_result refusal_value(const OpenRequest& open, const char* reason, const char* words,
                             schema::Value& answer) const;
  /// The cases of an answer: the reply's record and, if the request can be refused, the refusal's.
  [[nodiscard]] const schema::Options& cases_of(std::size_t request_type) const;

  std::shared_ptr<ProtocolObject> protocol_;
  schema::Direction direction_;
  EventQueue events_;
  std::uint64_t last_request_ = 0;
  Open open_;
};

/// Fills the members of `out` that servers and clients have in common.
void add_traffic(const host::Traffic& traffic, const host::Counts& counts, kwind_stats& out);

}  // namespace kwind::c
