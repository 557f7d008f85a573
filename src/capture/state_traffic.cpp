// Plays each client's snapshots into a client world of its own and counts the symbols that it
// decodes.
#include "kwind/capture/state_traffic.h"

namespace kwind::capture {
namespace {

constexpr double kAnyRate = 20;  // the first snapshot says what it is

}  // namespace

// Two halves of the clients are counted apart: tables trained on one are tried on the other.
StateTraffic::StateTraffic(const schema::EntitiesInfo& entities,
                           std::shared_ptr<const replica::CodeTables> codes,
                           const replica::CodeTables* count_as)
    : entities_(entities),
      codes_(codes != nullptr ? std::move(codes) : replica::built_in_codes(entities)),
      halves_{replica::SymbolCounts(entities), replica::SymbolCounts(entities)} {
  for (replica::SymbolCounts& half : halves_) {
    half.predict_with(count_as != nullptr ? *count_as : *codes_);
  }
}

// Each client's snapshots go through a decoder of their own, as they did when they were sent.
void StateTraffic::add(const Line& line) {
  const link::ObservedDatagram& datagram = line.datagram;
  if (datagram.up || !datagram.id) return;
  for (const Entry& entry : line.entries) {
    if (entry.part.kind != link::ObservedPart::Kind::payload) continue;
    // Code tables are made for the newest version.
    if (&entities_.in_version(datagram.version) != &entities_) {
      ++of_older_versions_;
      continue;
    }
    const auto key = std::tuple(datagram.client.ip, datagram.client.port,
                                static_cast<std::uint32_t>(*datagram.id));
    auto found = clients_.find(key);
    if (found == clients_.end()) {
      Client fresh(replica::ClientWorld(entities_, kAnyRate, codes_));
      fresh.client_world.count_into(&halves_[clients_.size() % 2]);
      found = clients_.emplace(key, std::move(fresh)).first;
    }
    Client& client = found->second;
    ++snapshots_;
    bits_ += entry.part.payload_bits;
    const Errc error = client.client_world.receive(entry.part.payload, entry.part.payload_bits);
    const bool waits = error == Errc::base_missing;  // counted by waiting() while it does
    if (error != Errc::none && error != Errc::replayed && !waits) ++client.refused;
    (void)client.client_world.take_events();
  }
}

// Snapshots that could not be read, or wait for one that was not captured.
std::uint64_t StateTraffic::unread() const {
  std::uint64_t sum = 0;
  for (const auto& [key, client] : clients_) sum += client.refused + client.client_world.waiting();
  return sum;
}

// Counts of both halves.
replica::SymbolCounts StateTraffic::symbol_counts() const {
  replica::SymbolCounts sum = halves_[0];
  sum.add(halves_[1]);
  return sum;
}

}  // namespace kwind::capture
