// Path validation (RFC 9000, 8.2): where the peer is. Data stays on the old address until the new
// one has answered a challenge; until then the new address gets at most the bytes that it sent. One
// candidate at a time. Server side, one thread.
#pragma once
#include <algorithm>
#include <cstdint>
#include <optional>

#include "kwind/core/endpoint.h"
#include "kwind/core/time.h"

namespace kwind::link {

class Path {
 public:
  [[nodiscard]] const Endpoint& active() const { return active_; }
  void set_active(const Endpoint& peer) { active_ = peer; }

  /// Moves of a connection at once, and the time in which one more is permitted: NATs forget and
  /// phones change networks some times a minute, not some times a second.
  static constexpr unsigned kMaxMoves = 4;
  static constexpr Duration kMoveEvery = std::chrono::seconds(15);
  /// Minimum time between challenges to different addresses. A peer that moves again before it has
  /// answered a challenge is challenged at its next address after this time.
  static constexpr Duration kMinTrial = std::chrono::milliseconds(250);

  /// Whether on_datagram() would take `from` for a candidate, and use its `random`.
  [[nodiscard]] bool is_news(Time now, const Endpoint& from, bool newest) const {
    return newest && from != active_ && has_room_for(now, from) &&
           (moves_ < kMaxMoves || now - moved_ >= kMoveEvery);
  }
  /// A datagram opened. `newest`: its packet number is above all before. `random` is the challenge
  /// to an address that is_news().
  void on_datagram(Time now, const Endpoint& from, std::size_t bytes, bool newest,
                   std::uint64_t random, Duration patience) {
    const bool news = is_news(now, from, newest);
    if (candidate_ && now >= candidate_->until) candidate_.reset();
    if (from == active_) return;
    if (news) {
      candidate_ = Candidate{from, random, 0, 0, now, now + patience, true};
    }
    if (candidate_ && candidate_->at == from) candidate_->received += bytes;
  }

  struct Challenge {
    Endpoint to;
    std::uint64_t number;
    std::size_t max_bytes;  ///< that the address may be sent
  };
  /// The challenge to send now, if `bytes` more to it are permitted.
  [[nodiscard]] std::optional<Challenge> challenge(Time now, std::size_t bytes) const {
    if (!candidate_ || !candidate_->due || now >= candidate_->until ||
        candidate_->sent + bytes > candidate_->received) {
      return std::nullopt;
    }
    return Challenge{candidate_->at, candidate_->number, candidate_->received - candidate_->sent};
  }
  void challenge_sent(std::size_t bytes) {
    candidate_->sent += bytes;
    candidate_->due = false;
  }
  /// A challenge may have been lost: the next datagram from there causes another.
  void challenge_again() {
    if (candidate_) candidate_->due = true;
  }

  enum class Change : std::uint8_t { none, port, address };
  /// A response came from `from`.
  Change answered(Time now, const Endpoint& from, std::uint64_t number) {
    if (!candidate_ || now >= candidate_->until || candidate_->at != from ||
        candidate_->number != number) {
      return Change::none;
    }
    const Change change = from.ip == active_.ip ? Change::port : Change::address;
    active_ = from;
    candidate_.reset();
    const auto forgiven =
        static_cast<unsigned>(std::min<Duration::rep>((now - moved_) / kMoveEvery, kMaxMoves));
    moves_ = moves_ - std::min(moves_, forgiven) + 1;
    moved_ = now;
    return change;
  }

 private:
  struct Candidate {
    Endpoint at;
    std::uint64_t number;
    std::size_t sent;
    std::size_t received;
    Time since;
    Time until;
    bool due;
  };
  [[nodiscard]] bool has_room_for(Time now, const Endpoint& from) const {
    return !candidate_ || now >= candidate_->until ||
           (from != candidate_->at && now >= candidate_->since + kMinTrial);
  }
  Endpoint active_;
  std::optional<Candidate> candidate_;
  unsigned moves_ = 0;  // not forgiven so far
  Time moved_{};
};

}  // namespace kwind::link
