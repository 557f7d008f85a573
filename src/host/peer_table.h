// The connections of a server's clients, and those that are announced to the game in order of their
// peers: whoever goes through many of them finds each behind the last. One thread.
#pragma once
#include <algorithm>
#include <array>
#include <cstddef>
#include <cstdint>
#include <span>
#include <vector>

#include "host/session.h"
#include "kwind/core/prefetch.h"
#include "kwind/host/server.h"
#include "kwind/link/listener.h"
#include "link/link_access.h"

namespace kwind::host {

struct Connection {
  Peer peer;
  std::uint32_t slot = 0;  // while it exists for the game
  Transport* transport;
  std::size_t place;       // in the order in which they came
  bool announced = false;  // on_connect was called
  bool gone = false;       // on_disconnect was called, or never will be
  bool away = false;       // the connection broke, and the client may come back until then
  bool forgotten = false;  // its place at the door is free again
  Session session;
  Time away_until{};
  link::Admission admission;

  static constexpr std::size_t kHotBytes = 3 * kCacheLineBytes;
};

// A thousand connections are more than a cache holds: what the loop will need soon is asked for
// while it works on what it has. Places in `all` may be empty.
inline void prefetch_ahead(const std::vector<Connection*>& all, std::size_t at, link::LinkUse use) {
  // How many connections ahead: itself, then the steps of its link.
  constexpr std::array<std::size_t, 1 + link::LinkAccess::kPrefetchSteps> kAhead{11, 9, 7, 5,
                                                                                 4,  2, 1};
  for (std::size_t step = 0; step < kAhead.size(); ++step) {
    const std::size_t i = at + kAhead[step];
    if (i >= all.size() || all[i] == nullptr) continue;
    if (step == 0) {
      kwind::prefetch(all[i], Connection::kHotBytes);
    } else {
      link::LinkAccess::prefetch(all[i]->session.link(), use, static_cast<unsigned>(step - 1));
    }
  }
}

/// Those announced and not gone.
class PeerTable {
 public:
  [[nodiscard]] std::span<const Peer> peers() const { return peers_; }
  [[nodiscard]] bool has(Peer peer) const {
    return std::binary_search(peers_.begin(), peers_.end(), peer);
  }
  void add(Connection& connection) {
    const auto place = static_cast<std::ptrdiff_t>(place_of(connection.peer));
    peers_.insert(peers_.begin() + place, connection.peer);
    connections_.insert(connections_.begin() + place, &connection);
  }
  /// Requires: its peer is there, on this connection or another one.
  void replace(Connection& connection) { connections_[place_of(connection.peer)] = &connection; }
  void remove(Peer peer) {
    const auto place = static_cast<std::ptrdiff_t>(place_of(peer));
    peers_.erase(peers_.begin() + place);
    connections_.erase(connections_.begin() + place);
  }
  /// nullptr if it is not there. O(1) if it is at `at`, which then moves to the next one.
  [[nodiscard]] Connection* find(std::size_t& at, Peer peer) const {
    if (at >= peers_.size() || peers_[at] != peer) at = place_of(peer);
    return at < peers_.size() && peers_[at] == peer ? connections_[at++] : nullptr;
  }
  /// For who will offer to fill for those from `at` on.
  void prefetch_scheduled(std::size_t at) const {
    constexpr std::size_t kAhead = 7;
    constexpr std::size_t kLinkAhead = 3;
    if (at + kAhead >= connections_.size()) return;
    kwind::prefetch(connections_[at + kAhead], Connection::kHotBytes);
    link::LinkAccess::prefetch(connections_[at + kLinkAhead]->session.link(),
                               link::LinkUse::schedule_payload, 0);
  }

 private:
  [[nodiscard]] std::size_t place_of(Peer peer) const {
    return static_cast<std::size_t>(std::lower_bound(peers_.begin(), peers_.end(), peer) -
                                    peers_.begin());
  }
  std::vector<Peer> peers_;
  std::vector<Connection*> connections_;  // theirs
};

}  // namespace kwind::host
