// The harbour's server on a thread of its own: moves the world, replicates to each pilot what is
// around their tug, passes hails on.
#pragma once
#include <atomic>
#include <memory>
#include <mutex>
#include <thread>

#include "harbour_motion.h"
#include "kwind/host/replication.h"
#include "kwind/host/server.h"
#include "kwind/io/udp_transport.h"
#include "records.h"
#include "why.h"

namespace kwind::demo {

class HarbourServer {
 public:
  /// Seals its datagrams under a key pair made for this run, or with Settings::plaintext does not.
  HarbourServer(std::unique_ptr<io::PollableTransport> transport, const Settings& settings,
                std::function<void(const link::KeyNote&)> key_log = {});
  ~HarbourServer();
  HarbourServer(const HarbourServer&) = delete;
  HarbourServer& operator=(const HarbourServer&) = delete;

  void start();
  /// From any thread: all stands still from now on.
  void freeze() { frozen_ = true; }
  /// Closes all connections and ends the thread.
  void stop();

  [[nodiscard]] Endpoint address() const { return address_; }
  /// Nothing in plaintext mode.
  [[nodiscard]] std::optional<link::PublicKey> public_key() const {
    return key_ ? std::optional(key_->public_key) : std::nullopt;
  }
  /// From any thread: clients, traffic and state so far.
  void snapshot(Moment& moment) const;
  /// After stop().
  [[nodiscard]] const ServerRecord& record() const { return record_; }

 private:
  struct Aboard {
    std::string name;
    schema::AnyRef tug{};
    std::uint64_t bits_before = 0;
  };

  void run();
  void add_handlers(host::Server& server, host::Replication& state);
  void tick(host::Replication& state);
  void write_truth(std::uint32_t tick);
  void ask_why(host::Replication& state, std::uint32_t tick);
  void count(host::ClientView& view, std::uint32_t tick);
  std::size_t json_bytes(std::uint32_t id);
  void note_moment(Time now);
  void finish(host::Server& server, host::Replication& state);

  const Settings& settings_;
  std::unique_ptr<io::PollableTransport> transport_;
  std::function<void(const link::KeyNote&)> key_log_;
  Endpoint address_;
  std::optional<link::KeyPair> key_;
  std::atomic<bool> frozen_ = false;
  std::atomic<bool> stopping_ = false;
  std::optional<HarbourMotion> motion_;  // from run() on
  replica::SymbolCounts symbol_counts_;
  std::map<host::Peer, Aboard> aboard_;
  std::map<std::uint32_t, std::size_t> json_of_tick_;  // bytes, by id
  std::map<std::uint32_t, schema::AnyRef> written_;    // whom the truth knows as there
  Time started_{};
  StateMoment sum_;
  ServerRecord record_;
  mutable std::mutex mutex_;  // guards the three below
  std::size_t clients_ = 0;
  host::Traffic traffic_;
  StateMoment shown_;
  std::thread thread_;
};

}  // namespace kwind::demo
