// The snapshots of a capture: what each client was sent, and how often each symbol occurred, for
// code tables that fit. One thread.
#pragma once
#include <array>
#include <cstdint>
#include <map>
#include <memory>
#include <tuple>

#include "kwind/capture/account.h"
#include "kwind/core/endpoint.h"
#include "kwind/replica/client_world.h"
#include "kwind/replica/code_tables.h"

namespace kwind::capture {

/// Reads the snapshots of all clients in a capture and counts their symbols.
class StateTraffic {
 public:
  /// `entities` outlives it; `codes` are those in use when the capture was made, nullptr the
  /// built-in ones. Changes are counted as the predictors of `count_as` predict them; nullptr:
  /// those of `codes`.
  explicit StateTraffic(const schema::EntitiesInfo& entities,
                        std::shared_ptr<const replica::CodeTables> codes = nullptr,
                        const replica::CodeTables* count_as = nullptr);

  /// Takes the state that a datagram of the account brings, if any.
  void add(const Line& line);

  [[nodiscard]] std::uint64_t snapshots() const { return snapshots_; }
  [[nodiscard]] std::uint64_t bits() const { return bits_; }
  /// Snapshots that make no sense with these code tables, or build on what was not captured.
  [[nodiscard]] std::uint64_t unread() const;
  /// Snapshots to clients of older versions, whose entities differ: they are left out.
  [[nodiscard]] std::uint64_t of_older_versions() const { return of_older_versions_; }
  [[nodiscard]] std::size_t clients() const { return clients_.size(); }
  /// Symbols of every other client, from the first or the second on: codes made from one half are
  /// tried on the other.
  [[nodiscard]] const std::array<replica::SymbolCounts, 2>& halves() const { return halves_; }
  /// Of all clients.
  [[nodiscard]] replica::SymbolCounts symbol_counts() const;

 private:
  struct Client {
    explicit Client(replica::ClientWorld client_world_in)
        : client_world(std::move(client_world_in)) {}
    replica::ClientWorld client_world;
    std::uint64_t refused = 0;
  };
  const schema::EntitiesInfo& entities_;
  std::shared_ptr<const replica::CodeTables> codes_;
  std::array<replica::SymbolCounts, 2> halves_;
  // By connection id: with a capture of several servers, by address, too.
  std::map<std::tuple<std::array<std::uint8_t, 16>, std::uint16_t, std::uint32_t>, Client> clients_;
  std::uint64_t snapshots_ = 0;
  std::uint64_t bits_ = 0;
  std::uint64_t of_older_versions_ = 0;
};

}  // namespace kwind::capture
