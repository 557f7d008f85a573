// What one client has been told of a World, and what it is told next: fills datagrams of its link
// with frames of state. One viewer lives as long as its connection; world, viewer and link, one
// thread.
#pragma once
#include <cstdint>
#include <memory>
#include <span>

#include "kwind/link/link.h"
#include "kwind/replica/world.h"

namespace kwind::replica {

/// An entity in a client's view.
struct Seen {
  std::uint32_t id = 0;
  bool owner = false;  ///< the client owns it: `owner only` fields travel, too
  float weight = 1;    ///< how much its changes matter when not all fit; above 0
};

struct ViewerCounts {
  std::uint64_t frames = 0;
  std::uint64_t bits = 0;
  std::uint64_t whole = 0;     ///< entities sent with all they have
  std::uint64_t changed = 0;   ///< sent by what differs from what was foretold
  std::uint64_t foretold = 0;  ///< told to be as foretold
  std::uint64_t gone = 0;
  std::uint64_t put_off = 0;       ///< found no room in their tick's last frame
  std::uint64_t started_anew = 0;  ///< the client's acks stayed away for too long
};

class Viewer final : public link::Filler {
 public:
  /// Borrows the world.
  explicit Viewer(const World& world);
  Viewer(Viewer&&) noexcept;
  Viewer& operator=(Viewer&&) noexcept;
  ~Viewer() override;

  /// What is in view from now on. Requires: alive entities in ascending order of id. O(entities).
  void see(std::span<const Seen> in_view);

  /// Writes a frame of the last finished tick if there is something to say: everything that changed
  /// and was not told, what waited longest first, as far as there is room. Called by the link, see
  /// Link::offer_fill; the token names the frame. O(entities in view).
  std::optional<std::uint64_t> fill(Time now, bits::Writer& out) override;
  /// What became of a frame: Event::acked and Event::lost of the link.
  void acked(std::uint64_t token);
  void lost(std::uint64_t token);

  /// Counts the symbols of all frames from now on, for codes that fit the traffic; borrowed,
  /// nullptr for none. Requires: a tally of the world's entities.
  void count_into(Tally* tally);

  /// Whether the client has, or is about to have, all that is in view as it stands.
  [[nodiscard]] bool complete() const;
  [[nodiscard]] const ViewerCounts& counts() const;
  [[nodiscard]] std::size_t memory() const;

 private:
  struct State;
  std::unique_ptr<State> state_;
};

}  // namespace kwind::replica
