// A Server and any number of Clients on the simulated network, in virtual time.
#pragma once
#include <deque>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "kit/sim_pair.h"
#include "kwind/host/client.h"
#include "kwind/host/server.h"
#include "kwind/io/sim/network.h"

namespace kwind::kit {

inline Key128 entropy(std::uint64_t seed) {
  Key128 made{};
  for (std::size_t i = 0; i < 8; ++i) made[i] = static_cast<std::byte>(seed >> (8 * i));
  return made;
}

/// They pump every 5 ms; `game` runs 20 times a second.
class SimHosts {
 public:
  static constexpr Endpoint kServer = Endpoint::v4(127, 0, 0, 1, 4000);

  explicit SimHosts(
      const schema::ProtocolInfo& protocol,
      const io::sim::Conditions& conditions = {.delay = std::chrono::milliseconds(20)},
      std::uint64_t seed = 1, host::ServerOptions options = {})
      : protocol_(protocol), network_(conditions, seed), transport_(network_.open(kServer)) {
    options.key = server_key();
    options.entropy = entropy(seed);
    server_ = std::make_unique<host::Server>(transport_, protocol, options);
    server_->on_connect(
        [this](host::Peer peer) { log_.push_back("in " + std::to_string(unsigned(peer))); });
    server_->on_disconnect([this](host::Peer peer, Errc code, std::string_view reason) {
      log_.push_back("out " + std::to_string(unsigned(peer)) + " " +
                     std::string(error_info(code).name) + " " + std::string(reason));
    });
  }

  host::Client& join(host::ClientOptions options = {}) { return join(protocol_, options); }
  host::Client& join(const schema::ProtocolInfo& protocol, host::ClientOptions options = {}) {
    const auto number = clients_.size() + 1;
    io::sim::SimTransport& transport =
        network_.open(Endpoint::v4(127, 0, static_cast<std::uint8_t>(1 + (number - 1) / 250),
                                   static_cast<std::uint8_t>((number - 1) % 250 + 1), 5000));
    options.server_key = server_key().public_key;
    options.entropy = entropy(number * 1000U);
    clients_.push_back(std::make_unique<host::Client>(transport, kServer, protocol, now_, options));
    ended_.emplace_back();
    const std::size_t index = clients_.size() - 1;
    clients_.back()->on_disconnect([this, index](Errc code, std::string_view reason) {
      ended_[index] += std::string(error_info(code).name) + " " + std::string(reason);
    });
    return *clients_.back();
  }
  /// Replaces the client's connection by one from another port.
  void reconnect(std::size_t client, const std::optional<Secret32>& resume = std::nullopt) {
    io::sim::SimTransport& transport =
        network_.open(Endpoint::v4(127, 9, 0, static_cast<std::uint8_t>(client + 1), next_port_++));
    host::ClientOptions options;
    options.server_key = server_key().public_key;
    options.entropy = entropy(next_port_ * 1000U);
    options.resume = resume;
    clients_[client]->reconnect(transport, kServer, now_, options);
  }
  /// The server's process stands still until then: what comes waits in its socket.
  void rest_server_until(Time end) { server_rests_until_ = end; }
  /// The client is gone without a word, as in a crash.
  void kill(std::size_t client) { clients_[client].reset(); }

  void run(Duration time, const std::function<void()>& game = {}) {
    using namespace std::chrono_literals;
    for (const Time end = now_ + time; now_ < end; now_ += 5ms) {
      const bool rests = now_ < server_rests_until_;
      if (!rests) server_->receive(now_);
      for (const auto& client : clients_) {
        if (client) client->receive(now_);
      }
      if (game && (now_ - at(0s)) % 50ms == 0ms) game();
      if (!rests) server_->flush(now_);
      for (const auto& client : clients_) {
        if (client) client->flush(now_);
      }
    }
  }

  host::Server& server() { return *server_; }
  host::Client& client(std::size_t index) { return *clients_[index]; }
  void end_server() { server_.reset(); }
  [[nodiscard]] const io::sim::SimTransport& server_port() const { return transport_; }
  io::sim::Network& network() { return network_; }
  std::vector<std::string>& log() { return log_; }
  [[nodiscard]] const std::string& ended(std::size_t client) const { return ended_[client]; }
  [[nodiscard]] Time now() const { return now_; }

 private:
  const schema::ProtocolInfo& protocol_;
  Time now_ = at(std::chrono::seconds(0));
  io::sim::Network network_;
  io::sim::SimTransport& transport_;
  std::vector<std::string> log_;
  std::deque<std::string> ended_;
  std::unique_ptr<host::Server> server_;
  std::vector<std::unique_ptr<host::Client>> clients_;
  std::uint16_t next_port_ = 6000;
  Time server_rests_until_{};
};

}  // namespace kwind::kit
