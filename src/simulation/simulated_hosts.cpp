// Hosts, addresses and seeds of a simulated network, and the loop that moves them on.
#include "kwind/simulation/simulated_hosts.h"

#include <algorithm>

#include "kwind/core/assert.h"
#include "kwind/core/digest.h"

namespace kwind::simulation {
namespace {

constexpr Endpoint kServerAddress = Endpoint::v4(127, 0, 0, 1, 4000);

// 16 bytes that differ for each host of a run, and are the same in each run with the seed.
Key128 entropy_of(std::uint64_t seed, std::uint32_t host) {
  std::array<std::byte, 12> data{};
  for (std::size_t i = 0; i < 8; ++i) data[i] = static_cast<std::byte>(seed >> (8 * i));
  for (std::size_t i = 0; i < 4; ++i) data[8 + i] = static_cast<std::byte>(host >> (8 * i));
  return blake2b_128(data);
}

// A key that everybody can compute: good for tests and nothing else.
link::KeyPair key_of(std::uint64_t seed) {
  Secret32 secret;
  const Key128 half = entropy_of(seed, 0xffffffff);
  std::copy(half.begin(), half.end(), secret.bytes().begin());
  return link::KeyPair::from_secret(secret);
}

}  // namespace

// All randomness comes from the seed: keys, secrets and the paths.
SimulatedHosts::SimulatedHosts(const schema::ProtocolInfo& protocol, SimulatedHostsOptions options)
    : protocol_(protocol),
      options_(std::move(options)),
      network_(options_.conditions, options_.seed) {
  KWIND_ASSERT(options_.step >= std::chrono::milliseconds(1));
  host::ServerOptions& server = options_.server;
  if (!server.key && !server.plaintext) server.key = key_of(options_.seed);
  server.entropy = entropy_of(options_.seed, 0);
  server_ = std::make_unique<host::Server>(network_.open(kServerAddress), protocol, server);
}

SimulatedHosts::~SimulatedHosts() = default;

// One address for each connection: two of one address would share what the server permits to it.
Endpoint SimulatedHosts::next_address() {
  KWIND_ASSERT(addresses_ < 60000);
  const std::uint32_t number = addresses_++;
  return Endpoint::v4(127, static_cast<std::uint8_t>(1 + number / 62500),
                      static_cast<std::uint8_t>(number / 250 % 250),
                      static_cast<std::uint8_t>(1 + number % 250), 5000);
}

// Fills in what a client needs to reach this server: its key or its plaintext mode, and entropy of
// its own.
host::ClientOptions SimulatedHosts::completed(host::ClientOptions options) {
  if (options_.server.key && !options.server_key) {
    options.server_key = options_.server.key->public_key;
  }
  if (!options_.server.key && !options.plaintext) options.plaintext = options_.server.plaintext;
  options.entropy = entropy_of(options_.seed, 1 + addresses_);
  return options;
}

// Clients are held by pointer, so that references stay valid when more of them come.
host::Client& SimulatedHosts::connect(host::ClientOptions options) {
  options = completed(std::move(options));
  const Endpoint address = next_address();
  seats_.push_back({address, std::make_unique<host::Client>(network_.open(address), kServerAddress,
                                                            protocol_, now_, options)});
  return *seats_.back().client;
}

// The old address is closed: what is still in flight to it is lost, as it would be.
void SimulatedHosts::reconnect(host::Client& client, host::ClientOptions options) {
  options = completed(std::move(options));
  Seat& seat = seat_of(client);
  const Endpoint address = next_address();
  client.reconnect(network_.open(address), kServerAddress, now_, options);
  network_.close(seat.address);
  seat.address = address;
}

// Nothing is said to the server.
void SimulatedHosts::lose(host::Client& client) {
  Seat& seat = seat_of(client);
  seat.client.reset();
  network_.close(seat.address);
  std::erase_if(seats_, [](const Seat& each) { return each.client == nullptr; });
}

// Each direction is a path of its own.
void SimulatedHosts::set_conditions(const host::Client& client,
                                    const io::sim::Conditions& conditions) {
  const Endpoint& address = seat_of(client).address;
  network_.set_conditions(address, kServerAddress, conditions);
  network_.set_conditions(kServerAddress, address, conditions);
}

SimulatedHosts::Seat& SimulatedHosts::seat_of(const host::Client& client) {
  const auto found = std::find_if(seats_.begin(), seats_.end(),
                                  [&](const Seat& seat) { return seat.client.get() == &client; });
  KWIND_ASSERT(found != seats_.end());  // of these hosts, and not lost
  return *found;
}

// One step: the server receives, then each client; the game runs; the server sends, then each
// client.
void SimulatedHosts::run(Duration time, const std::function<void()>& each_step) {
  for (const Time end = now_ + time; now_ < end;) {
    server_->receive(now_);
    // By index: a handler may add a client.
    for (std::size_t i = 0; i < seats_.size(); ++i) seats_[i].client->receive(now_);
    if (each_step) each_step();
    server_->flush(now_);
    for (std::size_t i = 0; i < seats_.size(); ++i) seats_[i].client->flush(now_);
    now_ = std::min(now_ + options_.step, end);
  }
}

// The condition is looked at after each step.
bool SimulatedHosts::run_until(const std::function<bool()>& done, Duration limit) {
  for (const Time end = now_ + limit; !done();) {
    if (now_ >= end) return false;
    run(std::min<Duration>(options_.step, end - now_));
  }
  return true;
}

}  // namespace kwind::simulation
