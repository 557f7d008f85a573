// A server at 20 ticks a second with 100 honest clients on loopback while somebody attacks it: one
// row for each attack, beside a quiet run. Each attacker is one thread. Shows whether ticks were
// kept, how long receive() took at worst, how late the honest clients' messages came, how long
// somebody new had to wait, and what was sent to whom.
// Usage: kwind_siege [SECONDS] [ATTACK...]; writes build/bench/siege.json.
#include <fmt/format.h>
#include <netinet/in.h>
#include <sys/resource.h>
#include <sys/socket.h>
#include <time.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <functional>
#include <memory>
#include <random>
#include <string>
#include <thread>
#include <vector>

#include "flood.h"
#include "kwind/host/client.h"
#include "kwind/host/server.h"
#include "kwind/host/tick_clock.h"
#include "kwind/io/clock.h"
#include "kwind/io/tcp_transport.h"
#include "kwind/io/udp_transport.h"

using namespace kwind;
using namespace std::chrono_literals;

namespace {

constexpr std::size_t kClients = 100;
constexpr Duration kTick = 50ms;
constexpr std::size_t kOfferHead = 29;  // opening and cookie; the Noise message follows

double ms(Duration time) {
  return std::chrono::duration<double, std::milli>(time).count();
}
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
  return ms(io::now() - Time(Duration(ticks)));
}
double at(std::vector<double>& values, double share) {
  if (values.empty()) return 0;
  std::sort(values.begin(), values.end());
  return values[static_cast<std::size_t>(share * static_cast<double>(values.size() - 1))];
}
double thread_cpu() {
  timespec time{};
  ::clock_gettime(CLOCK_THREAD_CPUTIME_ID, &time);
  return static_cast<double>(time.tv_sec) + 1e-9 * static_cast<double>(time.tv_nsec);
}
double resident_mib() {
  std::ifstream in("/proc/self/statm");
  double size = 0;
  double resident = 0;
  in >> size >> resident;
  return resident * static_cast<double>(::sysconf(_SC_PAGESIZE)) / 1048576;
}

struct Target {
  Endpoint udp;
  Endpoint tcp;
  link::PublicKey key{};
};
struct Sent {
  std::atomic<std::uint64_t> datagrams{0};
  std::atomic<std::uint64_t> bytes{0};
  std::atomic<std::uint64_t> answered{0};  // bytes that came back
};
using Attack = std::function<void(const Target&, const std::atomic<bool>& stop, Sent&)>;

// ---- attackers ----

std::vector<std::unique_ptr<io::UdpTransport>> sockets(std::size_t count) {
  std::vector<std::unique_ptr<io::UdpTransport>> made;
  for (std::size_t i = 0; i < count; ++i) {
    auto transport = io::UdpTransport::open(Endpoint::v4(
        127, 66, static_cast<std::uint8_t>(i / 250), static_cast<std::uint8_t>(1 + i % 250), 0));
    if (transport) made.push_back(std::move(*transport));
  }
  return made;
}
link::Link stranger(const Target& target, std::mt19937_64& random,
                    link::TransportKind transport_kind) {
  Secret32 secret;
  for (std::byte& byte : secret.bytes()) byte = static_cast<std::byte>(random());
  link::Identity identity;
  identity.name = flood::kProtocol.name;
  identity.payload_version = schema::kStateVersion;
  for (const auto& version : flood::kProtocol.versions) {
    identity.versions.push_back({version.version, version.digest});
  }
  link::ConnectOptions who{identity, secret};
  who.server_key = target.key;
  who.transport_kind = transport_kind;
  link::LinkOptions options;
  options.channels = {{Delivery::unreliable}};
  options.secret = secret;
  return link::Link::connect(who, options, io::now());
}
void put(Transport& transport, const Endpoint& to, std::span<const std::byte> bytes, Sent& sent) {
  transport.send(io::now(), to, bytes);
  ++sent.datagrams;
  sent.bytes += bytes.size();
}

Attack random_bytes(double per_second) {
  return [=](const Target& target, const std::atomic<bool>& stop, Sent& sent) {
    const auto transports = sockets(1);
    std::mt19937_64 random(7);
    std::vector<std::byte> bytes;
    const Time start = io::now();
    for (std::uint64_t n = 0; !stop;) {
      const double due = std::chrono::duration<double>(io::now() - start).count() * per_second;
      for (; static_cast<double>(n) < due && !stop; ++n) {
        bytes.resize(1 + random() % 100);
        for (std::byte& byte : bytes) byte = static_cast<std::byte>(random());
        if (n % 2 == 0 && bytes.size() > 8) {  // data of a connection that lives
          bytes[0] = std::byte{1};
          bytes[1] = static_cast<std::byte>(random() % kClients);
        }
        put(*transports[0], target.udp, bytes, sent);
      }
      transports[0]->flush(io::now());
      while (const auto back = transports[0]->receive(io::now()))
        sent.answered += back->bytes.size();
      std::this_thread::sleep_for(500us);
    }
  };
}

// From `addresses`, as fast as one core can: hellos alone; offers with good cookies and nothing
// behind them; one such offer again and again; or handshakes that are answered and never go on.
enum class Knock : std::uint8_t { hello, junk, replay, unfinished };
Attack knocking(std::size_t addresses, Knock kind) {
  return [=](const Target& target, const std::atomic<bool>& stop, Sent& sent) {
    const auto transports = sockets(addresses);
    std::mt19937_64 random(11);
    std::vector<std::byte> memory(link::kMaxDatagramBytes);
    std::vector<std::vector<std::byte>> offers;  // with good cookies: to be spoilt and sent
    const auto offer_of = [&](io::UdpTransport& transport) -> std::vector<std::byte> {
      link::Link who = stranger(target, random, link::TransportKind::datagrams);
      std::size_t size = who.poll_datagram(io::now(), memory);
      put(transport, target.udp, std::span(memory).first(size), sent);
      transport.flush(io::now());
      for (const Time end = io::now() + 5ms; io::now() < end && !stop;) {
        if (const auto back = transport.receive(io::now())) {
          sent.answered += back->bytes.size();
          (void)who.receive(io::now(), back->bytes);
          size = who.poll_datagram(io::now(), memory);
          if (size > 0) return {memory.begin(), memory.begin() + static_cast<std::ptrdiff_t>(size)};
        }
      }
      return {};
    };
    std::vector<std::byte> one;
    for (std::size_t turn = 0; !stop; ++turn) {
      io::UdpTransport& transport = *transports[turn % transports.size()];
      if (kind == Knock::hello) {
        link::Link who = stranger(target, random, link::TransportKind::datagrams);
        const std::size_t size = who.poll_datagram(io::now(), memory);
        for (int i = 0; i < 32; ++i) {
          memory[4] = static_cast<std::byte>(random());
          put(transport, target.udp, std::span(memory).first(size), sent);
        }
      } else if (kind == Knock::unfinished) {
        const auto offer = offer_of(transport);
        if (!offer.empty()) put(transport, target.udp, offer, sent);
      } else if (kind == Knock::replay && !one.empty()) {
        for (int i = 0; i < 32; ++i) put(*transports[0], target.udp, one, sent);
      } else {
        auto offer = offer_of(transport);
        if (offer.empty()) continue;
        for (std::size_t i = kOfferHead; i < offer.size(); ++i) {
          offer[i] = static_cast<std::byte>(random());
        }
        one = offer;
        // The same cookie under other keys, too.
        for (int i = 0; i < 8; ++i) {
          offer[kOfferHead] = static_cast<std::byte>(i);
          put(transport, target.udp, offer, sent);
        }
      }
      transport.flush(io::now());
      while (const auto back = transport.receive(io::now())) sent.answered += back->bytes.size();
    }
  };
}

// A stream as fast as it goes: an offer that the server cannot open, again and again, on a new
// stream when the server ends one.
void tcp_flood(const Target& target, const std::atomic<bool>& stop, Sent& sent) {
  std::mt19937_64 random(13);
  std::vector<std::byte> memory(link::kMaxDatagramBytes);
  link::Link who = stranger(target, random, link::TransportKind::stream);
  const std::size_t size = who.poll_datagram(io::now(), memory);
  for (std::size_t i = kOfferHead; i < size; ++i) memory[i] = static_cast<std::byte>(random());
  while (!stop) {
    auto transport = io::TcpTransport::connect(target.tcp);
    if (!transport) return;
    bool ended = false;
    for (int i = 0; i < 10000 && !ended && !stop; ++i) {
      put(**transport, target.tcp, std::span(memory).first(size), sent);
      (*transport)->flush(io::now());
      while (const auto back = (*transport)->receive(io::now()))
        sent.answered += back->bytes.size();
      ended = (*transport)->take_ended().has_value();
    }
  }
}

// As many streams as the process may have descriptors for; each whispers.
void whispers(const Target& target, const std::atomic<bool>& stop, Sent& sent) {
  std::vector<std::unique_ptr<io::TcpTransport>> streams;
  while (!stop) {
    for (int i = 0; i < 20 && streams.size() < 400; ++i) {
      if (auto transport = io::TcpTransport::connect(target.tcp))
        streams.push_back(std::move(*transport));
    }
    for (const auto& stream : streams) {
      put(*stream, target.tcp, std::array<std::byte, 1>{}, sent);
      stream->flush(io::now());
      while (stream->receive(io::now())) {
      }
    }
    std::erase_if(streams, [](const auto& stream) { return stream->take_ended().has_value(); });
    std::this_thread::sleep_for(100ms);
  }
}

// A client that is let in, and sends all that it may and more: messages and opaque payload.
void greedy_client(const Target& target, const std::atomic<bool>& stop, Sent& sent) {
  class Noise final : public link::PayloadSource {
   public:
    std::optional<std::uint64_t> fill(Time, bits::Writer& out) override {
      while (out.room_bits() >= 64) out.put(0x5a5a5a5a5a5a5a5aU, 64);
      return ++frames_;
    }
    std::uint64_t frames_ = 0;
  };
  const auto transports = sockets(1);
  host::ClientOptions who;
  who.server_key = target.key;
  host::Client client(*transports[0], target.udp, flood::kProtocol, io::now(), who);
  Noise noise;
  while (!stop) {
    client.receive(io::now());
    for (int i = 0; i < 200 && client.connected(); ++i) (void)client.send(stamp(io::now()));
    client.schedule_payload(&noise, 100);
    client.flush(io::now());
    sent.datagrams = client.stats().datagrams_sent;
    sent.bytes = client.stats().bytes_sent;
    sent.answered = client.stats().bytes_received;
  }
}

// Datagrams from source port 0, which nobody can answer.
void port_zero(const Target& target, const std::atomic<bool>& stop, Sent& sent) {
  const int raw = ::socket(AF_INET, SOCK_RAW, IPPROTO_UDP);
  if (raw < 0) return;  // not root
  std::mt19937_64 random(17);
  std::vector<std::byte> packet(8 + link::kMaxDatagramBytes);
  sockaddr_in to{};
  to.sin_family = AF_INET;
  to.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  while (!stop) {
    link::Link who = stranger(target, random, link::TransportKind::datagrams);
    const std::size_t size = who.poll_datagram(io::now(), std::span(packet).subspan(8));
    const auto put16 = [&](std::size_t place, std::size_t value) {
      packet[place] = static_cast<std::byte>(value >> 8);
      packet[place + 1] = static_cast<std::byte>(value);
    };
    put16(0, 0);
    put16(2, target.udp.port);
    put16(4, size + 8);
    put16(6, 0);
    for (int i = 0; i < 4; ++i) {
      (void)::sendto(raw, packet.data(), size + 8, 0, reinterpret_cast<const sockaddr*>(&to),
                     sizeof to);
      ++sent.datagrams;
      sent.bytes += size;
    }
    std::this_thread::sleep_for(1ms);
  }
  ::close(raw);
}

// ---- the besieged ----

struct Figures {
  std::uint64_t ticks = 0;
  std::uint64_t due = 0;
  double longest_receive_ms = 0;
  double server_cpu = 0;  // of a core
  std::vector<double> up_ms;
  std::vector<double> admitted_ms;  // of somebody new
  std::size_t not_admitted = 0;
  std::size_t alive = 0;
  double mib_before = 0;
  double mib_after = 0;
};

class Besieged {
 public:
  Besieged() {
    options_.capacity = kClients + 20;
    options_.key = link::KeyPair::from_secret(io::random_secret());
    options_.clock = io::now;
    udp_ = std::move(*io::UdpTransport::open(Endpoint::loopback(0)));
    tcp_ = std::move(*io::TcpTransport::listen(Endpoint::loopback(0)));
  }
  [[nodiscard]] Target target() const {
    return {udp_->local(), tcp_->local(), options_.key->public_key};
  }

  Figures run(double seconds, const Attack& attack, Sent& sent) {
    Figures figures;
    std::atomic<bool> stop_server = false;
    std::atomic<bool> measuring = false;
    std::thread server([&] { listen_on(stop_server, measuring, figures); });
    honest(seconds, attack, sent, measuring, figures);
    stop_server = true;
    server.join();
    return figures;
  }

 private:
  void listen_on(const std::atomic<bool>& stop, const std::atomic<bool>& measuring,
                 Figures& figures) {
    host::Server server(*udp_, flood::kProtocol, options_);
    server.listen_on(*tcp_);
    server.on<flood::Stamp>([&](host::Peer, const flood::Stamp& message) {
      if (measuring) figures.up_ms.push_back(age_ms(message));
    });
    host::TickClock ticks(20, io::now(), 1);
    bool began = false;
    Time begin{};
    double cpu = 0;
    std::array<io::PollableTransport*, 2> transports{udp_.get(), tcp_.get()};
    while (!stop) {
      if (measuring && !began) {
        began = true;
        begin = io::now();
        cpu = thread_cpu();
      }
      const Time before = io::now();
      server.receive(before);
      if (measuring) {
        figures.longest_receive_ms = std::max(figures.longest_receive_ms, ms(io::now() - before));
      }
      if (ticks.due(io::now()) > 0) {
        server.send_to_all(stamp(io::now()));
        if (measuring) ++figures.ticks;
      }
      server.flush(io::now());
      if (began && !measuring && figures.due == 0) {
        figures.due = static_cast<std::uint64_t>((io::now() - begin) / kTick);
        figures.server_cpu =
            (thread_cpu() - cpu) / std::chrono::duration<double>(io::now() - begin).count();
      }
      io::wait_for_any(transports, std::min(server.next_wakeup(), ticks.next()));
    }
  }

  void honest(double seconds, const Attack& attack, Sent& sent, std::atomic<bool>& measuring,
              Figures& figures) {
    struct End {
      std::unique_ptr<io::UdpTransport> transport;
      std::unique_ptr<host::Client> client;
      Time dialled{};
    };
    const auto dial = [&](std::size_t number) {
      End end;
      end.transport = std::move(
          *io::UdpTransport::open(Endpoint::v4(127, 1, static_cast<std::uint8_t>(number / 200),
                                               static_cast<std::uint8_t>(1 + number % 200), 0)));
      host::ClientOptions who;
      who.server_key = options_.key->public_key;
      end.dialled = io::now();
      end.client = std::make_unique<host::Client>(*end.transport, udp_->local(), flood::kProtocol,
                                                  io::now(), who);
      return end;
    };
    std::vector<End> ends;
    for (std::size_t i = 0; i < kClients; ++i) ends.push_back(dial(i));
    std::optional<End> fresh;  // somebody who comes in the middle of it, again and again
    std::size_t comers = kClients;
    std::vector<io::PollableTransport*> waits;
    for (const End& end : ends) waits.push_back(end.transport.get());
    const auto turn = [&](bool say) {
      io::wait_for_any(waits, io::now() + 1ms);
      for (End& end : ends) {
        end.client->receive(io::now());
        if (say && end.client->connected()) (void)end.client->send(stamp(io::now()));
        end.client->flush(io::now());
      }
      if (!fresh) return;
      fresh->client->receive(io::now());
      fresh->client->flush(io::now());
      const Duration took = io::now() - fresh->dialled;
      if (fresh->client->connected()) {
        figures.admitted_ms.push_back(ms(took));
        fresh->client->close("");
        fresh->client->flush(io::now());
      } else if (!fresh->client->ended() && took < 5s) {
        return;
      } else {
        ++figures.not_admitted;
      }
      fresh.reset();
    };
    const auto all_in = [&] {
      return std::all_of(ends.begin(), ends.end(),
                         [](const End& end) { return end.client->connected(); });
    };
    for (const Time by = io::now() + 10s; !all_in() && io::now() < by;) turn(false);
    figures.mib_before = resident_mib();
    std::atomic<bool> stop_attack = false;
    std::thread attacker;
    if (attack) attacker = std::thread([&] { attack(target(), stop_attack, sent); });
    const Time begin = io::now() + 1s;
    const Time end = begin + Duration(static_cast<Duration::rep>(seconds * 1e9));
    Time next_comer = begin;
    for (Time next = io::now(); io::now() < end;) {
      measuring = io::now() >= begin;
      if (!fresh && io::now() >= next_comer && io::now() + 3s < end) {
        fresh = dial(comers++);
        next_comer = io::now() + 500ms;
      }
      const bool say = io::now() >= next;
      if (say) next = std::max(next + kTick, io::now());
      turn(say);
    }
    measuring = false;
    stop_attack = true;
    if (attacker.joinable()) attacker.join();
    for (const End& each : ends) figures.alive += each.client->connected() ? 1U : 0U;
    // What the attack left behind is let go within the handshake's time.
    for (const Time rest = io::now() + 7s; attack && io::now() < rest;) turn(false);
    figures.mib_after = resident_mib();
  }

  host::ServerOptions options_;
  std::unique_ptr<io::UdpTransport> udp_;
  std::unique_ptr<io::TcpTransport> tcp_;
};

struct Row {
  std::string name;
  Attack attack;
};

std::vector<Row> rows() {
  return {{"quiet", nullptr},
          {"random bytes, 100,000 a second", random_bytes(100000)},
          {"hellos, 1,000 addresses", knocking(1000, Knock::hello)},
          {"junk offers, 1 address", knocking(1, Knock::junk)},
          {"junk offers, 16 addresses", knocking(16, Knock::junk)},
          {"junk offers, 1,000 addresses", knocking(1000, Knock::junk)},
          {"one offer replayed", knocking(1, Knock::replay)},
          {"unfinished, 4 addresses", knocking(4, Knock::unfinished)},
          {"unfinished, 64 addresses", knocking(64, Knock::unfinished)},
          {"unfinished, 1,000 addresses", knocking(1000, Knock::unfinished)},
          {"one TCP stream at full speed", tcp_flood},
          {"TCP streams that whisper", whispers},
          {"a client that sends all it may", greedy_client},
          {"source port 0", port_zero}};
}

}  // namespace

int main(int argc, char** argv) {
  // 1,000 sockets of the attacker beside those of server and clients.
  rlimit limit{};
  ::getrlimit(RLIMIT_NOFILE, &limit);
  limit.rlim_cur = std::min<rlim_t>(limit.rlim_max, 8192);
  ::setrlimit(RLIMIT_NOFILE, &limit);
  const double seconds = argc > 1 ? std::atof(argv[1]) : 8;  // NOLINT
  std::filesystem::create_directories("build/bench");
  std::ofstream out("build/bench/siege.json");
  out << "[\n";
  fmt::print("{:<34}{:>9}{:>10}{:>9}{:>9}{:>9}{:>9}{:>11}{:>8}{:>7}{:>6}\n", "attack", "sent/s",
             "ticks", "receive", "up p50", "p99", "worst", "new client", "answers", "server",
             "MiB");
  bool first = true;
  for (const Row& row : rows()) {
    bool wanted = argc <= 2;
    for (int i = 2; i < argc; ++i) {
      wanted = wanted || row.name == "quiet" || row.name.find(argv[i]) != std::string::npos;
    }
    if (!wanted) continue;
    Sent sent;
    Figures f = Besieged().run(seconds, row.attack, sent);
    const double answers =
        sent.bytes == 0 ? 0.0
                        : static_cast<double>(sent.answered) / static_cast<double>(sent.bytes);
    fmt::print(
        "{:<34}{:>9.0f}{:>5}/{:<4}{:>9.1f}{:>9.2f}{:>9.2f}{:>9.1f}{:>7.0f} ms{}{:>7.2f}{:>6.0f} "
        "%{:>+6.1f}\n",
        row.name, static_cast<double>(sent.datagrams) / (seconds + 1), f.ticks, f.due,
        f.longest_receive_ms, at(f.up_ms, 0.5), at(f.up_ms, 0.99), at(f.up_ms, 1),
        at(f.admitted_ms, 1), f.not_admitted == 0 ? "" : fmt::format(" {} not", f.not_admitted),
        answers, 100 * f.server_cpu, f.mib_after - f.mib_before);
    std::fflush(stdout);
    out << (first ? "" : ",\n")
        << fmt::format(
               "  {{\"attack\": \"{}\", \"sent_per_second\": {:.0f}, \"ticks\": {}, \"due\": {}, "
               "\"longest_receive_ms\": {:.2f}, \"up_p50_ms\": {:.3f}, \"up_p99_ms\": {:.3f}, "
               "\"up_worst_ms\": {:.2f}, \"new_client_worst_ms\": {:.1f}, \"not_admitted\": {}, "
               "\"answered\": {:.3f}, \"server_cpu\": {:.3f}, \"mib\": {:.2f}, \"alive\": {}}}",
               row.name, static_cast<double>(sent.datagrams) / (seconds + 1), f.ticks, f.due,
               f.longest_receive_ms, at(f.up_ms, 0.5), at(f.up_ms, 0.99), at(f.up_ms, 1),
               at(f.admitted_ms, 1), f.not_admitted, answers, f.server_cpu,
               f.mib_after - f.mib_before, f.alive);
    first = false;
  }
  out << "\n]\n";
  return 0;
}
