// The harbour's server on a thread of its own: moves tugs, sends the fleet, passes hails on.
#pragma once
#include <atomic>
#include <memory>
#include <mutex>
#include <thread>

#include "kwind/host/server.h"
#include "kwind/host/tick_clock.h"
#include "kwind/io/udp_port.h"
#include "records.h"
#include "tug_motion.h"

namespace kwind::demo {

class HarbourServer {
 public:
  /// Seals its datagrams under a key pair made for this run, or with `clear` does not.
  HarbourServer(std::unique_ptr<io::LivePort> port, std::size_t places, bool clear,
                std::function<void(const link::KeyNote&)> key_log = {});
  ~HarbourServer();
  HarbourServer(const HarbourServer&) = delete;
  HarbourServer& operator=(const HarbourServer&) = delete;

  void start();
  /// From any thread: tugs stand still from now on, and the fleet is still sent.
  void freeze() { frozen_ = true; }
  /// Closes all connections and ends the thread.
  void stop();

  [[nodiscard]] Endpoint address() const { return address_; }
  /// Nothing in clear mode.
  [[nodiscard]] std::optional<link::PublicKey> public_key() const {
    return key_ ? std::optional(key_->public_key) : std::nullopt;
  }
  /// From any thread: clients and traffic so far.
  void snapshot(std::size_t& clients, host::Traffic& traffic) const;
  /// After stop().
  [[nodiscard]] const ServerRecord& record() const { return record_; }

 private:
  struct Aboard {
    std::int32_t number = 0;
    bool entered = false;
    std::string name;
    harbour::Cargo cargo{};
    TugMotion motion;
  };

  void run();
  void add_handlers(host::Server& server);
  void tick(host::Server& server, Time now);
  std::int32_t free_number() const;

  std::unique_ptr<io::LivePort> port_;
  std::function<void(const link::KeyNote&)> key_log_;
  Endpoint address_;
  std::size_t places_;
  std::optional<link::KeyPair> key_;
  std::atomic<bool> frozen_ = false;
  std::atomic<bool> stopping_ = false;
  std::map<host::Peer, Aboard> aboard_;
  ServerRecord record_;
  mutable std::mutex mutex_;  // guards the two below
  std::size_t clients_ = 0;
  host::Traffic traffic_;
  std::thread thread_;
};

}  // namespace kwind::demo
