// A server and clients of it on a simulated network, for the tests of a game: loss, delay, jitter
// and reordering from a seed, in virtual time. Ten minutes of play take a moment, and the same seed
// gives the same run everywhere.
#pragma once
#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <vector>

#include "kwind/core/compiler.h"
#include "kwind/core/time.h"
#include "kwind/host/client.h"
#include "kwind/host/server.h"
#include "kwind/io/sim/network.h"

namespace kwind::simulation {

/// How the hosts are made.
struct SimulatedHostsOptions {
  /// Of each path between a client and the server, in both directions.
  io::sim::Conditions conditions{.delay = std::chrono::milliseconds(20)};
  /// Where all chance comes from: the network's, keys, skipped numbers.
  std::uint64_t seed = 1;
  /// The server's options. Without a key and without `plaintext` a key is made from the seed.
  host::ServerOptions server{};
  /// How often each host receives and flushes. At least a millisecond.
  Duration step = std::chrono::milliseconds(5);
};

/// Hosts are used as in a program: register handlers, construct a Replication, send. run() takes
/// the place of the loop. Clocks of tickets are not simulated: see ServerOptions::unix_now. One
/// thread.
class KWIND_API SimulatedHosts {
 public:
  /// Borrows `protocol`.
  explicit SimulatedHosts(const schema::ProtocolInfo& protocol, SimulatedHostsOptions options = {});
  ~SimulatedHosts();

  /// The server. The reference stays valid.
  [[nodiscard]] host::Server& server() { return *server_; }
  /// Adds a client, which begins to connect with the next run(). The reference stays valid until
  /// lose(). Requires: fewer than 60000 were added.
  host::Client& connect(host::ClientOptions options = {});
  /// Replaces the connection of a client by a new one from another address, as
  /// host::Client::reconnect() does; with Client::resume() as `options.resume` the server takes it
  /// for the same peer.
  void reconnect(host::Client& client, host::ClientOptions options = {});
  /// The client is destroyed, and its server receives nothing of it: as if its machine had lost
  /// power. Not to be called from a handler.
  void lose(host::Client& client);

  /// Changes the path of one client, both directions, from now on. loss = 1 cuts it.
  void set_conditions(const host::Client& client, const io::sim::Conditions& conditions);

  /// Lets `time` pass. `each_step`, if given, is called in each step between what was received and
  /// what is sent.
  void run(Duration time, const std::function<void()>& each_step = {});
  /// Lets time pass until `done()` is true, for `limit` at most. Returns whether it is.
  bool run_until(const std::function<bool()>& done, Duration limit = std::chrono::seconds(10));

  /// The virtual time: for sample(now) and the like.
  [[nodiscard]] Time now() const { return now_; }
  /// The network below, for transports of the test's own.
  [[nodiscard]] io::sim::Network& network() { return network_; }

 private:
  struct Seat {
    Endpoint address{};
    std::unique_ptr<host::Client> client;
  };
  [[nodiscard]] Endpoint next_address();
  [[nodiscard]] host::ClientOptions completed(host::ClientOptions options);
  [[nodiscard]] Seat& seat_of(const host::Client& client);

  const schema::ProtocolInfo& protocol_;
  SimulatedHostsOptions options_;
  Time now_{std::chrono::seconds(1)};
  io::sim::Network network_;
  std::uint32_t addresses_ = 0;
  std::unique_ptr<host::Server> server_;
  std::vector<Seat> seats_;
};

}  // namespace kwind::simulation
