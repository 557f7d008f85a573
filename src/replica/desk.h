// Where a viewer puts a frame together. All viewers of a world share it, one after the other, so
// that it stays in the cache that each one's own memory leaves.
#pragma once
#include <cstddef>
#include <cstdint>
#include <vector>

#include "sent_frames.h"

namespace kwind::replica {

/// What there is to tell of an entity.
struct Candidate {
  std::uint32_t id = 0;
  std::uint32_t place = 0;  // of its copy, until copies come or go
  Told told = Told::whole;
  bool parcel = false;  // it goes in one: chunks of it, or `complete` the last bits
  bool complete = false;
  bool owner = false;
  float urgency = 0;
  bool mover = false;  // the client expects to hear of it
  bool taken = false;
  std::uint32_t tick = 0;  // of its values
  std::uint32_t mask = 0;  // of a change
  std::size_t begin = 0;   // of its body in the scratch, bytes
  std::size_t bits = 0;
  std::uint32_t rank = 0;  // among those that the client knows
};

struct Desk {
  std::vector<Candidate> candidates;
  std::vector<Candidate*> by_urgency;
  std::vector<Entry> entries;
  std::vector<std::byte> bodies;
};

}  // namespace kwind::replica
