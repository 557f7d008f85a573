// A thousand clients, in a process of their own: what they do, and the memory that they touch, is
// not the server's.
#pragma once
#include <benchmark/benchmark.h>
#include <sys/mman.h>
#include <sys/wait.h>
#include <unistd.h>

#include <atomic>
#include <functional>
#include <memory>
#include <new>
#include <utility>
#include <vector>

#include "bare_sender.h"
#include "kit/sim_pair.h"
#include "kwind/host/client.h"
#include "kwind/host/server.h"
#include "kwind/io/clock.h"
#include "kwind/io/udp_transport.h"

namespace kwind::bench {

/// Options of both ends for a mode. False, having said so, if the machine cannot do it.
inline bool set_up(benchmark::State& state, Mode mode, host::ServerOptions& options,
                   host::ClientOptions& who) {
  using namespace std::chrono_literals;
  if (mode == aes && crypto_aead_aes256gcm_is_available() == 0) {
    state.SkipWithError("no AES hardware");
    return false;
  }
  options.capacity = kClients;
  options.aes = who.aes = mode == aes;
  if (mode == plaintext) {
    options.plaintext = who.plaintext = host::Plaintext::loopback_only;
  } else {
    options.key = kit::server_key();
    who.server_key = options.key->public_key;
  }
  who.timeouts.handshake = 60s;
  return true;
}

class Crowd {
 public:
  /// Called in the other process for each client before it connects; `heard` is to be counted up.
  using Prepare = std::function<void(host::Client&, std::atomic<std::uint64_t>& heard)>;

  /// `bare`'s sockets are emptied there too.
  Crowd(std::size_t count, const Endpoint& server, const schema::ProtocolInfo& protocol,
        const host::ClientOptions& who, Bare& bare, const Prepare& prepare) {
    void* const memory =
        ::mmap(nullptr, sizeof(Shared), PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0);
    shared_ = new (memory) Shared;
    pid_ = ::fork();
    if (pid_ == 0) {
      run(count, server, protocol, who, bare, prepare);
      ::_exit(0);
    }
  }
  ~Crowd() {
    shared_->end = true;
    ::waitpid(pid_, nullptr, 0);
    ::munmap(shared_, sizeof(Shared));
  }
  Crowd(const Crowd&) = delete;
  Crowd& operator=(const Crowd&) = delete;
  [[nodiscard]] std::uint64_t heard() const { return shared_->heard; }

 private:
  struct Shared {
    std::atomic<std::uint64_t> heard = 0;
    std::atomic<bool> end = false;
  };

  void run(std::size_t count, const Endpoint& server, const schema::ProtocolInfo& protocol,
           const host::ClientOptions& who, Bare& bare, const Prepare& prepare) {
    using namespace std::chrono_literals;
    std::vector<std::unique_ptr<io::UdpTransport>> transports;
    std::vector<std::unique_ptr<host::Client>> clients;
    const auto turn = [&] {
      for (const auto& client : clients) {
        client->receive(io::now());
        client->flush(io::now());
      }
    };
    for (std::size_t i = 0; i < count; ++i) {
      // Attempts of one address are limited; so they come from many.
      transports.push_back(std::move(*io::UdpTransport::open(
          Endpoint::v4(127, 1, static_cast<std::uint8_t>(1 + i / 10), 1, 0))));
      clients.push_back(
          std::make_unique<host::Client>(*transports.back(), server, protocol, io::now(), who));
      prepare(*clients.back(), shared_->heard);
      if (i % 20 == 19) turn();
    }
    const Time latest = io::now() + 120s;  // whatever becomes of who started this
    while (!shared_->end && io::now() < latest) {
      turn();
      bare.drain();
      ::usleep(4000);
    }
  }

  Shared* shared_;
  pid_t pid_ = -1;
};

}  // namespace kwind::bench
