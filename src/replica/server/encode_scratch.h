// Scratch memory of one tick, shared by all clients of a world one after the other: with a thousand
// clients cache misses dominate.
#pragma once
#include <algorithm>
#include <array>
#include <cstddef>
#include <cstdint>
#include <vector>

#include "kwind/bits/writer.h"
#include "replica/coding/column_row.h"
#include "replica/coding/prefix_code.h"
#include "replica/server/client_entities.h"
#include "replica/server/sent_snapshots.h"

namespace kwind::replica {

/// The bits of a change as they were written for one client, for others that know the same
/// states of the entity.
struct SharedEntityBits {
  static constexpr std::size_t kMaxBits = 128;
  Tick tick;  ///< of the snapshot; none: nothing here
  KnownTicks known{};
  std::uint64_t codes = 0;  ///< digest of the set
  std::uint16_t mask = 0;
  std::uint8_t bits = 0;
  bool owner = false;
  PrefixCode::Code symbol{};  ///< of the mask, for continuing entities
  std::array<std::uint64_t, kMaxBits / 64> words{};

  void write(bits::Writer& out) const {
    out.put(words[0], std::min<unsigned>(bits, 64));
    if (bits > 64) out.put(words[1], bits - 64U);
  }
};

/// An update of an entity that may go into the snapshot.
struct Candidate {
  EntityId id;
  std::uint32_t index = 0;  // of its copy, until copies come or go
  Update update = Update::full;
  bool fragmented = false;  // it goes in one: fragments of it, or `complete` the last bits
  bool complete = false;
  bool owner = false;
  bool repeat = false;  // all of it is in flight
  bool urgent = false;  // ... and it is repeated whatever the budget
  float priority_now = 0;
  bool is_continuing = false;  // the client expects an update of it
  bool taken = false;
  bool waits = false;      // for a later tick
  Tick tick;               // of its values
  std::uint32_t mask = 0;  // of a change
  bool tolerant = false;   // ... of such a kind: its values are `lag` ticks old
  std::uint32_t lag = 0;
  bool no_edits = false;  // see Basis::no_edits
  // The bits of the change, if they can be shared; otherwise they stand in the scratch.
  const SharedEntityBits* shared_bits = nullptr;
  std::size_t begin = 0;  // of its body in the scratch, bytes
  std::size_t bits = 0;
  std::uint32_t rank = 0;  // among those that the client knows

  // Chunks of it go, and nothing yet that makes it appear.
  [[nodiscard]] bool in_fragments() const { return fragmented && !complete; }
  // The sections of a snapshot.
  [[nodiscard]] bool is_spawn() const { return update == Update::full && !in_fragments(); }
  [[nodiscard]] bool is_unexpected() const { return update != Update::full && !is_continuing; }
};

/// Whom the base of a snapshot speaks of.
struct ExpectedEntity {
  EntityId id;
  std::uint32_t index = 0;  // of its copy, as long as none came or went
};

/// An entity of which a client expects an update.
struct ContinuingEntity {
  const Baseline* baseline = nullptr;  // by the client
  Candidate* candidate = nullptr;      // nullptr: there is nothing to say of it
};

struct EncodeScratch {
  std::vector<std::uint32_t> unsettled;  // places of copies
  std::vector<Candidate> candidates;
  std::vector<ExpectedEntity> expected;
  std::vector<ContinuingEntity> continuing;
  std::vector<Candidate*> by_priority;
  std::vector<Entry> entries;
  std::vector<std::byte> bodies;
  std::vector<std::byte> snapshot;  // without its head
};

}  // namespace kwind::replica
