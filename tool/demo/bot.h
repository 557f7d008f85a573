// A bot that plays a pilot: its own thread, its own UDP socket behind a bad link. It writes down
// all that it receives and what it draws.
#pragma once
#include <atomic>
#include <memory>
#include <mutex>
#include <thread>

#include "harbour_motion.h"
#include "kwind/host/client.h"
#include "kwind/io/impaired_transport.h"
#include "kwind/replica/inputs.h"
#include "kwind/replica/playout_clock.h"
#include "records.h"

namespace kwind::demo {

class Bot {
 public:
  Bot(unsigned number, const Settings& settings, const Endpoint& server,
      const std::optional<link::PublicKey>& server_key, bool late);
  ~Bot();
  Bot(const Bot&) = delete;
  Bot& operator=(const Bot&) = delete;

  /// Starts the thread. Errors: those of io::UdpTransport::open.
  Errc start();
  /// From any thread: no more hails from now on.
  void hush() { hushed_ = true; }
  /// Waits for the server to close the connection, two seconds at most.
  void join();

  void snapshot(host::Traffic& traffic, std::optional<double>& rtt_ms, bool& failed) const;
  /// After join().
  [[nodiscard]] const BotRecord& record() const { return record_; }

 private:
  void run();
  void add_handlers(host::Client& client);
  Errc take(std::span<const std::byte> payload, std::size_t bits);
  void tick(host::Client& client, Time now, std::uint64_t number);
  void draw(Time now);
  [[nodiscard]] Told values(schema::AnyRef ref) const;

  const Settings& settings_;
  Endpoint server_;
  std::optional<link::PublicKey> server_key_;
  std::unique_ptr<io::ImpairedTransport> transport_;
  Pilot pilot_;
  replica::PlayoutClock play_out_{{.ticks_per_second = kTicksPerSecond}};
  std::unique_ptr<replica::ClientWorld> client_world_;
  std::unique_ptr<replica::InputSender> inputs_;
  std::atomic<bool> hushed_ = false;
  std::atomic<bool> stopping_ = false;
  BotRecord record_;
  mutable std::mutex mutex_;  // guards the three below
  host::Traffic traffic_;
  std::optional<double> rtt_ms_;
  bool failed_ = false;
  std::thread thread_;
};

}  // namespace kwind::demo
