// A server with 100 live clients on loopback while a stranger sends it 100,000 wrong datagrams a
// second: truncated, random, with ids of live connections, hellos. How long messages take, without
// and with the flood. Usage: kwind_flood_bench [SECONDS]; writes build/bench/flood.json.
#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <cstring>
#include <fstream>
#include <memory>
#include <random>
#include <thread>
#include <vector>

#include "flood.h"
#include "kwind/host/client.h"
#include "kwind/host/server.h"
#include "kwind/io/clock.h"
#include "kwind/io/udp_transport.h"

using namespace kwind;
using namespace std::chrono_literals;

namespace {

constexpr std::size_t kClients = 100;
constexpr double kFloodPerSecond = 100000;
constexpr Duration kTick = 50ms;

flood::Stamp stamp(Time now) {
  flood::Stamp made;
  made.nanoseconds.resize(8);
  const auto ticks = now.time_since_epoch().count();
  std::memcpy(made.nanoseconds.data(), &ticks, 8);
  return made;
}
double age_ms(const flood::Stamp& message) {
  Duration::rep ticks = 0;
  if (message.nanoseconds.size() == 8) std::memcpy(&ticks, message.nanoseconds.data(), 8);
  return std::chrono::duration<double, std::milli>(io::now() - Time(Duration(ticks))).count();
}

struct Figures {
  std::vector<double> up_ms;
  std::vector<double> down_ms;
  std::uint64_t flooded = 0;
  std::uint64_t dropped = 0;
  std::uint64_t overruns = 0;
  std::uint64_t reply_bytes = 0;
  std::uint64_t flood_bytes = 0;
  std::size_t alive = 0;
};

double at(std::vector<double>& values, double share) {
  if (values.empty()) return 0;
  std::sort(values.begin(), values.end());
  return values[static_cast<std::size_t>(share * static_cast<double>(values.size() - 1))];
}

// Sends wrong datagrams at a steady rate until told to stop.
void flood_it(const Endpoint& server, const std::atomic<bool>& stop, Figures& figures) {
  auto transport = io::UdpTransport::open(Endpoint::loopback(0));
  if (!transport) return;
  std::mt19937_64 random(7);
  std::vector<std::byte> bytes;
  const Time start = io::now();
  std::uint64_t sent = 0;
  while (!stop) {
    const double due = std::chrono::duration<double>(io::now() - start).count() * kFloodPerSecond;
    for (; static_cast<double>(sent) < due; ++sent) {
      const std::uint64_t kind = random() % 20;
      bytes.resize(1 + random() % 100);
      for (std::byte& byte : bytes) byte = static_cast<std::byte>(random());
      if (kind < 10 && bytes.size() > 8) {  // data for a connection that lives
        const auto place = static_cast<unsigned>(random() % kClients);
        bytes[0] = std::byte{1};
        bytes[1] = static_cast<std::byte>(place);
      } else if (kind == 19) {  // a hello, of which each gets a cookie
        bytes.assign(1200, std::byte{0});
        bytes[0] = std::byte{2};
        bytes[1] = std::byte{2};
        bytes[3] = static_cast<std::byte>(random());
        bytes[11] = std::byte{2};
      }
      (*transport)->send(io::now(), server, bytes);
      figures.flood_bytes += bytes.size();
    }
    (*transport)->flush(io::now());
    while ((*transport)->receive(io::now())) {
    }
    std::this_thread::sleep_for(500us);
  }
  figures.flooded = (*transport)->counts().datagrams_sent;
  figures.reply_bytes = (*transport)->counts().bytes_received;
}

// Answers each stamp, until told to stop.
void serve(io::UdpTransport& transport, const host::ServerOptions& options,
           const std::atomic<bool>& stop, const std::atomic<bool>& measuring, Figures& figures) {
  host::Server server(transport, flood::kProtocol, options);
  server.on<flood::Stamp>([&](host::Peer from, const flood::Stamp& message) {
    if (measuring) figures.up_ms.push_back(age_ms(message));
    (void)server.send(from, stamp(io::now()));
  });
  while (!stop) {
    server.receive(io::now());
    server.flush(io::now());
    transport.wait(std::min(server.next_wakeup(), io::now() + 10ms));
  }
  figures.dropped = server.counts().drops.total();
  figures.overruns = transport.counts().receive_overruns;
}

// Honest clients, ten at each address, that run in one thread.
class Honest {
 public:
  Honest(const Endpoint& server, const link::PublicKey& key, const std::atomic<bool>& measuring,
         Figures& figures) {
    for (std::size_t i = 0; i < kClients; ++i) {
      transports_.push_back(std::move(*io::UdpTransport::open(
          Endpoint::v4(127, 0, static_cast<std::uint8_t>(1 + i / 10), 1, 0))));
      waits_.push_back(transports_.back().get());
      host::ClientOptions who;
      who.server_key = key;
      clients_.push_back(std::make_unique<host::Client>(*transports_.back(), server,
                                                        flood::kProtocol, io::now(), who));
      clients_.back()->on<flood::Stamp>([&](const flood::Stamp& message) {
        if (measuring) figures.down_ms.push_back(age_ms(message));
      });
    }
  }
  // Handles what has come; with `say` each sends a stamp.
  void turn(bool say) {
    io::wait_for_any(waits_, io::now() + 1ms);
    for (const auto& client : clients_) {
      client->receive(io::now());
      if (say && client->connected()) (void)client->send(stamp(io::now()));
      client->flush(io::now());
    }
  }
  [[nodiscard]] std::size_t connected() const {
    return static_cast<std::size_t>(std::count_if(
        clients_.begin(), clients_.end(), [](const auto& client) { return client->connected(); }));
  }

 private:
  std::vector<std::unique_ptr<io::UdpTransport>> transports_;
  std::vector<std::unique_ptr<host::Client>> clients_;
  std::vector<io::PollableTransport*> waits_;
};

// Measures for `seconds`, from a second after the flood began.
Figures run(double seconds, bool with_flood) {
  Figures figures;
  auto transport = io::UdpTransport::open(Endpoint::loopback(0));
  if (!transport) return figures;
  const Endpoint address = (*transport)->local();
  host::ServerOptions options;
  options.capacity = kClients;
  options.key = link::KeyPair::from_secret(io::random_secret());
  std::atomic<bool> stop_server = false;
  std::atomic<bool> measuring = false;
  std::thread server([&] { serve(**transport, options, stop_server, measuring, figures); });
  Honest honest(address, options.key->public_key, measuring, figures);
  const Time ready_by = io::now() + 10s;
  while (honest.connected() < kClients && io::now() < ready_by) honest.turn(false);

  std::atomic<bool> stop_flood = false;
  std::thread flooder;
  if (with_flood) flooder = std::thread([&] { flood_it(address, stop_flood, figures); });
  const Time begin = io::now() + 1s;
  const Time end = begin + Duration(static_cast<Duration::rep>(seconds * 1e9));
  for (Time next = io::now(); io::now() < end;) {
    measuring = io::now() >= begin;
    const bool say = io::now() >= next;
    if (say) next += kTick;
    honest.turn(say);
  }
  measuring = false;
  stop_flood = true;
  if (flooder.joinable()) flooder.join();
  figures.alive = honest.connected();
  stop_server = true;
  server.join();
  return figures;
}

}  // namespace

int main(int argc, char** argv) {
  const double seconds = argc > 1 ? std::atof(argv[1]) : 10;  // NOLINT
  std::ofstream out("build/bench/flood.json");
  out << "[\n";
  for (const bool with_flood : {false, true}) {
    Figures figures = run(seconds, with_flood);
    const double rate = static_cast<double>(figures.flooded) / (seconds + 1);
    const std::string row = fmt::format(
        "{{\"flood\": {:.0f}, \"alive\": {}, \"up_p50_ms\": {:.3f}, \"up_p99_ms\": {:.3f}, "
        "\"down_p50_ms\": {:.3f}, \"down_p99_ms\": {:.3f}, \"dropped\": {}, \"overruns\": {}, "
        "\"amplification\": {:.3f}}}",
        rate, figures.alive, at(figures.up_ms, 0.5), at(figures.up_ms, 0.99),
        at(figures.down_ms, 0.5), at(figures.down_ms, 0.99), figures.dropped, figures.overruns,
        figures.flood_bytes == 0
            ? 0.0
            : static_cast<double>(figures.reply_bytes) / static_cast<double>(figures.flood_bytes));
    fmt::print("{}\n", row);
    out << "  " << row << (with_flood ? "\n" : ",\n");
  }
  out << "]\n";
  return 0;
}
