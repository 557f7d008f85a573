// A path that loses nothing: a snapshot is read and acknowledged at once.
#pragma once
#include <gtest/gtest.h>

#include <vector>

#include "kwind/replica/client_replicator.h"
#include "kwind/replica/client_world.h"

namespace kwind::kit {

/// Brings the client the snapshot of the tick that ended last, if there is one.
inline void deliver(replica::ClientReplicator& replicator, replica::ClientWorld& client_world) {
  std::vector<std::byte> memory(20000);
  bits::Writer out(memory);
  const auto token = replicator.fill(Time{}, out);
  if (!token) return;
  const std::size_t bits = out.bit_count();
  out.finish();
  ASSERT_EQ(client_world.receive(memory, bits), Errc::none);
  replicator.acked(*token);
}

}  // namespace kwind::kit
