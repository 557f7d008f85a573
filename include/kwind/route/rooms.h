// Rooms: named sets of peers. A room exists while it has a member; a peer may be in many. The host
// sends to the members. `Peer` is any ordered value. One set of rooms, one thread.
#pragma once
#include <algorithm>
#include <cstdint>
#include <functional>
#include <map>
#include <span>
#include <string>
#include <string_view>
#include <utility>
#include <variant>
#include <vector>

#include "kwind/core/assert.h"
#include "kwind/core/compiler.h"
#include "kwind/route/observers.h"

namespace kwind::route {

/// What a room is called: a number or a text.
class KWIND_API RoomKey {
 public:
  template <std::integral Number>
  RoomKey(Number number) : key_(static_cast<std::int64_t>(number)) {}    // NOLINT: that is its use
  RoomKey(std::string_view text) : key_(std::string(text)) {}            // NOLINT
  RoomKey(const char* text) : RoomKey(std::string_view(text)) {}         // NOLINT
  RoomKey(const std::string& text) : RoomKey(std::string_view(text)) {}  // NOLINT
  [[nodiscard]] std::string text() const {
    const auto* number = std::get_if<std::int64_t>(&key_);
    return number != nullptr ? std::to_string(*number) : std::get<std::string>(key_);
  }
  friend bool operator==(const RoomKey&, const RoomKey&) = default;
  friend bool operator<(const RoomKey& a, const RoomKey& b) { return a.key_ < b.key_; }

 private:
  std::variant<std::int64_t, std::string> key_;
};

/// Which peer is in which rooms.
template <class Peer>
class Rooms {
 public:
  /// `is_here`: who may enter rooms at all, so that nobody is put into a room who is gone; empty:
  /// anybody.
  explicit Rooms(std::function<bool(Peer)> is_here = nullptr) : is_here_(std::move(is_here)) {}
  /// Called when a peer has entered, before anything else is sent to the room: the place to send it
  /// what the room looks like. May send, and may change rooms.
  void on_enter(std::function<void(Peer, const RoomKey&)> hook) { on_enter_.add(std::move(hook)); }
  /// Called when a peer has left. Both add to those that are called already.
  void on_leave(std::function<void(Peer, const RoomKey&)> hook) { on_leave_.add(std::move(hook)); }

  /// false: it was there already, or is not a peer (any more). O(log rooms + members).
  bool enter(Peer peer, const RoomKey& room) {
    if (is_here_ && !is_here_(peer)) return false;
    std::vector<Peer>& members = members_[room];
    const auto place = std::lower_bound(members.begin(), members.end(), peer);
    if (place != members.end() && *place == peer) return false;
    members.insert(place, peer);
    rooms_of_[peer].push_back(room);
    on_enter_(peer, room);
    return true;
  }
  /// false: it was not there. O(log rooms + members).
  bool leave(Peer peer, const RoomKey& key) {
    // NOLINTNEXTLINE(performance-unnecessary-copy-initialization): `key` may be what is about to go
    const RoomKey room = key;
    const auto found = members_.find(room);
    if (found == members_.end()) return false;
    std::vector<Peer>& members = found->second;
    const auto place = std::lower_bound(members.begin(), members.end(), peer);
    if (place == members.end() || *place != peer) return false;
    members.erase(place);
    if (members.empty()) members_.erase(found);
    const auto of = rooms_of_.find(peer);
    of->second.erase(std::find(of->second.begin(), of->second.end(), room));
    if (of->second.empty()) rooms_of_.erase(of);
    on_leave_(peer, room);
    return true;
  }
  /// Out of one room and into the other, with nothing in between: what was sent to the old one
  /// before reaches it, so does what is sent to the new one afterwards, and nothing twice. Enters
  /// also if it was not in `from`.
  void move(Peer peer, const RoomKey& from, const RoomKey& to) {
    // NOLINTNEXTLINE(performance-unnecessary-copy-initialization): leaving may end where it lies
    const RoomKey room = to;
    if (from != room) leave(peer, from);
    enter(peer, room);
  }
  /// Takes the peer out of all rooms. O(its rooms).
  void leave_all(Peer peer) {
    while (!rooms_of(peer).empty()) leave(peer, rooms_of(peer).back());
  }

  /// Whether the peer is in the room. O(log rooms).
  [[nodiscard]] bool contains(const RoomKey& room, Peer peer) const {
    const auto all = members(room);
    return std::binary_search(all.begin(), all.end(), peer);
  }
  /// In the order of the peers; valid until somebody enters or leaves.
  [[nodiscard]] std::span<const Peer> members(const RoomKey& room) const {
    const auto found = members_.find(room);
    if (found == members_.end()) return {};
    return found->second;
  }
  /// In the order in which it entered them; valid until it enters or leaves one.
  [[nodiscard]] std::span<const RoomKey> rooms_of(Peer peer) const {
    const auto found = rooms_of_.find(peer);
    if (found == rooms_of_.end()) return {};
    return found->second;
  }
  /// Everybody who is in at least one of `rooms`, once, in the order of the peers.
  [[nodiscard]] std::vector<Peer> members_of_any(std::span<const RoomKey> rooms) const {
    std::vector<Peer> all;
    for (const RoomKey& room : rooms) {
      const auto some = members(room);
      all.insert(all.end(), some.begin(), some.end());
    }
    std::sort(all.begin(), all.end());
    all.erase(std::unique(all.begin(), all.end()), all.end());
    return all;
  }
  /// Rooms with somebody in them.
  [[nodiscard]] std::size_t count() const { return members_.size(); }
  template <class Visit>
  void for_each(const Visit& visit) const {
    for (const auto& [room, members] : members_) visit(room, std::span<const Peer>(members));
  }

 private:
  std::map<RoomKey, std::vector<Peer>> members_;
  std::map<Peer, std::vector<RoomKey>> rooms_of_;
  std::function<bool(Peer)> is_here_;
  Observers<Peer, const RoomKey&> on_enter_;
  Observers<Peer, const RoomKey&> on_leave_;
};

}  // namespace kwind::route
