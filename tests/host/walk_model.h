// Expectations of a random walk over Server and Client: each message sent and each request, with
// the outcomes that its channel permits.
#pragma once
#include <cstdint>
#include <map>
#include <string>
#include <vector>

#include "kwind/core/delivery.h"
#include "kwind/core/errors.h"
#include "kwind/core/time.h"
#include "kwind/route/requests.h"

namespace kwind::host_walk {

using Number = std::int32_t;

/// The text that travels with a message: its length and content follow from the number.
inline std::string body_of(Number number) {
  const std::uint32_t mixed = static_cast<std::uint32_t>(number) * 2654435761U >> 7;
  const std::size_t size = mixed % 23 == 0 ? mixed % 6000 : mixed % 40;
  std::string body(size, ' ');
  for (std::size_t i = 0; i < size; ++i) body[i] = static_cast<char>('a' + (mixed + i * 7) % 26);
  return body;
}

/// The messages of one channel and one direction of one connection.
class Stream {
 public:
  explicit Stream(Delivery delivery = Delivery::ordered) : delivery_(delivery) {}

  /// `certain`: the call said that this very message was queued.
  void sent(Number number, bool certain = true) {
    places_[number] = sent_.size();
    sent_.push_back({number, certain, 0});
  }
  /// Returns what is wrong with this arrival; empty: nothing.
  std::string arrived(Number number) {
    const auto place = places_.find(number);
    if (place == places_.end()) return "arrived though never sent on this connection";
    Entry& entry = sent_[place->second];
    if (++entry.arrived > 1) return "arrived twice";
    const bool in_order = delivery_ == Delivery::ordered || delivery_ == Delivery::sequenced;
    if (in_order && place->second < next_) return "arrived behind a later one";
    if (delivery_ == Delivery::ordered) {
      for (std::size_t i = next_; i < place->second; ++i) {
        if (sent_[i].certain) return "arrived before " + std::to_string(sent_[i].number);
      }
    }
    if (in_order) next_ = place->second + 1;
    return {};
  }
  /// The first message that a connection which stands needs_heartbeat; empty: none.
  [[nodiscard]] std::string owed() const {
    if (delivery_ != Delivery::ordered && delivery_ != Delivery::reliable) return {};
    for (const Entry& entry : sent_) {
      if (entry.certain && entry.arrived == 0) return std::to_string(entry.number);
    }
    return {};
  }
  [[nodiscard]] std::size_t count() const { return sent_.size(); }

 private:
  struct Entry {
    Number number;
    bool certain;
    int arrived;
  };
  Delivery delivery_;
  std::vector<Entry> sent_;
  std::map<Number, std::size_t> places_;
  std::size_t next_ = 0;
};

/// The four channels of one direction.
struct Streams {
  Stream sure{Delivery::ordered};
  Stream each{Delivery::reliable};
  Stream state{Delivery::sequenced};
  Stream spark{Delivery::unreliable};
};

/// What the end that was asked did with a question.
enum class Fate : std::uint8_t { unseen, kept, replied, refused, abandoned };

struct Question {
  Time due;  ///< by the asker's clock
  Fate fate = Fate::unseen;
  Time settled_at{};  ///< when it was replied to or refused, by the network's clock
  int outcomes = 0;
};

/// Returns what is wrong with this outcome; empty: nothing.
inline std::string judge(Question& question, route::Ending ending, bool is_reply_right, Time now,
                         bool may_be_disconnected) {
  if (++question.outcomes > 1) return "a second outcome";
  switch (ending) {
    case route::Ending::replied:
      if (question.fate != Fate::replied) return "a reply that was not given";
      return is_reply_right ? "" : "the reply to another question";
    case route::Ending::refused:
      return question.fate == Fate::refused ? "" : "a refusal that was not given";
    case route::Ending::abandoned:
      return question.fate == Fate::abandoned ? "" : "abandoned, but the answer was not dropped";
    case route::Ending::timed_out: return now >= question.due ? "" : "timed out before its time";
    case route::Ending::disconnected:
      return may_be_disconnected ? "" : "disconnected though the connection stands";
    case route::Ending::not_sent: return "not sent though the call said none";
  }
  return "an unknown ending";
}

}  // namespace kwind::host_walk
